"""Every kind of tree, made of one description: what each must tell alike."""

import os
from collections.abc import Callable, Mapping
from itertools import starmap
from pathlib import Path

from filigree.access.roots import RecordsOfFamilies, open_root
from filigree.access.snapshots.opening import open_snapshot
from filigree.access.snapshots.writing import SnapshotWriter, row_of
from filigree.access.trees.directory import DirectoryTree
from filigree.access.trees.protocol import Tree
from filigree.model.answer import Gap
from filigree.model.files import Kind
from tests.trees.images import Entry, hidden, layer_of, layout, zipped

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


def _entry(path: str, what: bytes | str | None) -> Entry:
    name = path.lstrip("/")
    if what is None:
        return Entry(name, 0o755)
    if isinstance(what, str):
        return Entry(name, 0o777, target=what)
    return Entry(name, 0o644, what, modified=10**9)


def _opened(path: Path) -> Tree:
    return open_root(str(path), lambda: RecordsOfFamilies(("/etc/",), ("md5",)))


def one_layer(described: Described, folder: Path) -> Tree:
    """An image of one layer."""
    return _opened(layout(folder / "image", [layer_of(starmap(_entry, described.items()))]))


def three_layers(described: Described, folder: Path) -> Tree:
    """An image of three: each path in a layer by turns, over other contents, and more is hidden."""
    layers: list[list[Entry]] = [
        [Entry("gone", 0o755), Entry("gone/x", 0o644, b"x")],
        [],
        [hidden("gone")],
    ]
    for number, (path, what) in enumerate(described.items()):
        entry = _entry(path, what)
        layers[number % 3].append(entry)
        if number % 3 and isinstance(what, bytes):
            layers[0].append(entry._replace(content=what[::-1] + b"!"))
    return _opened(layout(folder / "image", [layer_of(one) for one in layers], "zstd"))


def packed_root(described: Described, folder: Path) -> Tree:
    """A root as one tar."""
    path = folder / "root.tar.gz"
    path.write_bytes(zipped(layer_of(starmap(_entry, described.items()))))
    return _opened(path)


def snapshot(described: Described, folder: Path) -> Tree:
    """A snapshot that holds every content."""
    tree = directory(described, folder)
    writer = SnapshotWriter(str(folder / "snapshot"))
    writer.seen("/", row_of(tree.portray("/")))
    for entry in tree.walk("/"):
        assert not isinstance(entry, Gap)
        is_file = entry.kind is Kind.FILE
        row = row_of(tree.portray(entry.path, ("md5", "sha256") if is_file else ()))
        writer.seen(entry.path, row)
        if row.sha256 is not None:
            writer.content(row.sha256, tree.pieces(entry.path))
    writer.lay({"form": "1"}, {})
    writer.keep()
    return open_snapshot(str(folder / "snapshot"))


KINDS: dict[str, Callable[[Described, Path], Tree]] = {
    "directory": directory, "image of one layer": one_layer, "image of three layers": three_layers,
    "packed root": packed_root, "snapshot": snapshot,
}  # fmt: skip
