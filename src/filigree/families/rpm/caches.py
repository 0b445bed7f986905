"""Where an `rpm` system keeps the archives that it fetched: a folder for each repository."""

from collections.abc import Iterator

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Report
from filigree.families.rpm import places
from filigree.families.shared.looking import names_in

_DEPTH = 3
"""A repository's archives may lie a release and an architecture deeper."""
_MOST = 5000


def cache_folders(tree: Tree, report: Report) -> list[str]:
    """Every folder named for packages below the caches, and those in it."""
    found: list[str] = []
    for cache in (*places.CACHES, *places.OLD_CACHES):
        found += _packages_below(tree, cache, report, _DEPTH)
    return found[:_MOST]


def _packages_below(tree: Tree, folder: str, report: Report, depth: int) -> Iterator[str]:
    for name in names_in(tree, folder, report):
        path = f"{folder}/{name}"
        if not tree.is_directory(path):
            continue
        if name in places.PACKAGES:
            yield path
            yield from (below for below in _below(tree, path, report))
        elif depth:
            yield from _packages_below(tree, path, report, depth - 1)


def _below(tree: Tree, folder: str, report: Report) -> Iterator[str]:
    for name in names_in(tree, folder, report):
        if tree.is_directory(f"{folder}/{name}"):
            yield f"{folder}/{name}"
