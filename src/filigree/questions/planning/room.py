"""The room on the file systems where packages put their files."""

from typing import Any

from filigree.model.errors import AccessError
from filigree.system import System

PLACES = ("/", "/usr", "/var", "/boot", "/opt", "/home")
"""Where packages put their files, and file systems may begin."""


def room(system: System) -> list[dict[str, Any]]:
    """`path`, `free` and `total` of each file system, once; in bytes."""
    found: dict[int, dict[str, Any]] = {}
    for place in PLACES:
        try:
            device, free, total = system.tree.room(place)
        except AccessError:
            continue
        found.setdefault(device, {"path": place, "free": free, "total": total})
    return list(found.values())
