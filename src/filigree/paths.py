"""Every path on record, found by its last part.

A few look-ups search the lists as they lie; many are worth a table of all of them.
"""

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator
from functools import cached_property

from filigree.access.trees.directories import encoded
from filigree.families.protocol import Database, Listing
from filigree.model.package import Package

FEW = 12


class PathIndex:
    """The lists of one database, read once."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._asked = 0

    @cached_property
    def _listings(self) -> list[tuple[Package, Listing]]:
        return list(self._database.listings())

    @cached_property
    def _table(self) -> dict[str, list[tuple[Package, str]]]:
        table: dict[str, list[tuple[Package, str]]] = defaultdict(list)
        for package, listing in self._listings:
            for path in listing:
                table[path.rpartition("/")[2]].append((package, path))
        return dict(table)

    def named(self, name: str) -> Iterable[tuple[Package, str]]:
        """The listed paths whose last part is `name` (empty: the root itself), and who lists each."""
        self._asked += 1
        if self._asked > FEW:
            return self._table.get(name, ())
        return [(p, path) for p, listing in self._listings for path in listing.named(name)]

    def matching(self, pattern: str) -> Iterator[tuple[Package, str]]:
        """The listed paths that a regular expression matches as a whole."""
        compiled = re.compile(encoded(pattern), re.DOTALL)
        for package, listing in self._listings:
            for path in listing.matching(compiled):
                yield package, path

    def count(self) -> tuple[int, int]:
        """How many paths are listed in all, and how many different ones."""
        different = {path for _, listing in self._listings for path in listing}
        return sum(len(listing) for _, listing in self._listings), len(different)
