"""Where an `rpm` system keeps the archives that it fetched: a folder for each repository."""

from collections.abc import Iterator

from filigree.access.jail import Jail
from filigree.families.protocol import Report
from filigree.families.rpm import places
from filigree.families.shared.looking import names_in

_DEPTH = 3
"""A repository's archives may lie a release and an architecture deeper."""
_MOST = 5000


def cache_folders(jail: Jail, report: Report) -> list[str]:
    """Every folder named for packages below the caches, and those in it."""
    found: list[str] = []
    for cache in (*places.CACHES, *places.OLD_CACHES):
        found += _packages_below(jail, cache, report, _DEPTH)
    return found[:_MOST]


def _packages_below(jail: Jail, folder: str, report: Report, depth: int) -> Iterator[str]:
    for name in names_in(jail, folder, report):
        path = f"{folder}/{name}"
        if not jail.is_directory(path):
            continue
        if name in places.PACKAGES:
            yield path
            yield from (below for below in _below(jail, path, report))
        elif depth:
            yield from _packages_below(jail, path, report, depth - 1)


def _below(jail: Jail, folder: str, report: Report) -> Iterator[str]:
    for name in names_in(jail, folder, report):
        if jail.is_directory(f"{folder}/{name}"):
            yield f"{folder}/{name}"
