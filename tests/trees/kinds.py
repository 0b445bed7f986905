"""Every kind of tree, made of one description: what each must tell alike."""

import os
from collections.abc import Callable, Mapping
from pathlib import Path

from filigree.access.trees.directory import DirectoryTree
from filigree.access.trees.protocol import Tree

Described = Mapping[str, bytes | str | None]
"""By path: the bytes of a file, the target of a link, None for a directory. Directories come first."""


def directory(described: Described, folder: Path) -> Tree:
    """A directory on the disk."""
    top = folder / "root"
    top.mkdir()
    for path, what in described.items():
        place = os.fsencode(top) + path.encode("utf-8", "surrogateescape")
        if what is None:
            os.makedirs(place, exist_ok=True)
        elif isinstance(what, str):
            os.symlink(what.encode("utf-8", "surrogateescape"), place)
        else:
            with open(place, "wb") as file:
                file.write(what)
            os.utime(place, ns=(10**18, 10**18))
    return DirectoryTree(str(top))


KINDS: dict[str, Callable[[Described, Path], Tree]] = {"directory": directory}
