"""Every path on record, found by its last part.

A few look-ups search the lists as they lie; many are worth a table of all of them.
"""

import re
from array import array
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property

from filigree.access.trees.directories import encoded
from filigree.families.protocol import Database, Listing
from filigree.model.package import Package

FEW = 12
_AT_ONCE = 500_000


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
        """How many paths are listed in all, and how many different ones.

        Beyond half a million of each its hash of 64 bits is held alone, by a key that is another one in
        every process: of two million paths two are taken for one once in ten million times.
        """
        held = self.__dict__.get("_listings")
        count, seen = 0, set[str]()
        hashes = array("q")
        for _, listing in self._database.listings() if held is None else held:
            paths = list(listing)
            count += len(paths)
            if hashes:
                hashes.extend(map(hash, paths))
                continue
            seen.update(paths)
            if len(seen) > _AT_ONCE:
                hashes.extend(map(hash, seen))
                seen.clear()
        return count, _different(hashes) if hashes else len(seen)


def _different(numbers: Sequence[int]) -> int:
    """How many different ones there are, some of them at a time."""
    shares = len(numbers) // _AT_ONCE + 1
    return sum(len({one for one in numbers if one % shares == share}) for share in range(shares))
