"""A root, opened: a directory, an image, a tar of a whole root, a snapshot. Its contents tell which."""

import os
from collections.abc import Callable
from typing import NamedTuple

from filigree.access.trees.directory import DirectoryTree
from filigree.access.trees.protocol import Tree
from filigree.model.errors import BadQuestion


class RootChoice(NamedTuple):
    """Which of several things at a root is meant, and where is kept what was read of them.

    `image` and `platform` choose one of several images, `layer` one of its layers alone; `cache` is the
    auditor's own folder, None where nothing is to be kept. `progress` is called while layers are read,
    from several processes, with how many bytes were read, and of how many.
    """

    image: str | None = None
    platform: str | None = None
    layer: int | None = None
    cache: str | None = None
    progress: Callable[[int, int], None] | None = None


PLAIN = RootChoice()


class RecordsOfFamilies(NamedTuple):
    """What is kept of an image when its layers are read: below which directories systems keep their
    records, and by which algorithms, besides SHA-256, those tell the contents of files."""

    places: tuple[str, ...]
    digests: tuple[str, ...] = ()


def open_root(path: str, kept: Callable[[], RecordsOfFamilies], choice: RootChoice = PLAIN) -> Tree:
    """The tree at a path. `kept` tells what is kept of an image when its layers are read.

    Raises NoSystem where nothing can be read there, BadQuestion where it is not plain what is meant.
    """
    if not os.path.isfile(path) and not _is_layout(path):
        if os.path.isdir(path) and choice[:3] != PLAIN[:3]:
            raise BadQuestion("it is no image: it has no names, machines or layers", path)
        return DirectoryTree(path)  # which says why it is none
    if _is_snapshot(path):
        if choice[:3] != PLAIN[:3]:
            raise BadQuestion("it is a snapshot: it has no names, machines or layers", path)
        from filigree.access.snapshots.opening import open_snapshot

        return open_snapshot(path)
    from filigree.access.images.image import ReadManner
    from filigree.access.images.opening import ImageChoice, open_image
    from filigree.access.images.shelf import LayerShelf

    shelf = LayerShelf(os.path.join(choice.cache, "layers") if choice.cache else None)
    wanted = ImageChoice(choice.image, choice.platform)
    return open_image(
        path, shelf, ReadManner(*kept(), progress=choice.progress), wanted, choice.layer
    )


def _is_snapshot(path: str) -> bool:
    """Whether a file is a database: an image is none."""
    if not os.path.isfile(path):
        return False
    try:
        with open(path, "rb") as file:
            return file.read(len(_DATABASE)) == _DATABASE
    except OSError:
        return False  # whoever opens it says why


_DATABASE = b"SQLite format 3\0"


def _is_layout(folder: str) -> bool:
    """Whether a folder is an image layout, and not a root."""
    return all(os.path.isfile(os.path.join(folder, name)) for name in ("oci-layout", "index.json"))


def absolute(path: str) -> str:
    """A place in the world outside. Raises BadQuestion where it is told from a place that is gone."""
    try:
        return os.path.abspath(path)
    except FileNotFoundError as error:
        why = "the working directory is gone, and the path starts there"
        raise BadQuestion(why, path, "give a path that starts with a slash") from error
