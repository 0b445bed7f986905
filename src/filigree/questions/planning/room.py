"""The room on the file systems where packages put their files."""

from typing import NamedTuple

from filigree.model.errors import AccessError
from filigree.system import System

PLACES = ("/", "/usr", "/var", "/boot", "/opt", "/home")
"""Where packages put their files, and file systems may begin."""


class FileSystemRoom(NamedTuple):
    """The room on one file system, in bytes, and the first of our places that is on it."""

    path: str
    free: int
    total: int


def room(system: System) -> list[FileSystemRoom]:
    """The room of each file system where packages put their files, once."""
    found: dict[int, FileSystemRoom] = {}
    for place in PLACES:
        try:
            device, free, total = system.tree.room(place)
        except AccessError:
            continue
        found.setdefault(device, FileSystemRoom(place, free, total))
    return list(found.values())
