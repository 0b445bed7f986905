"""A list of paths as it lies in memory: what every family can hand out."""

import re
from collections.abc import Iterable, Iterator, Sequence

from filigree.access.trees.directories import decoded, encoded


class PathListing:
    """Paths that are known one by one."""

    __slots__ = ("_paths",)

    def __init__(self, paths: Sequence[str] = ()) -> None:
        self._paths = paths

    def __len__(self) -> int:
        return len(self._paths)

    def __contains__(self, path: object) -> bool:
        return path in self._paths

    def __iter__(self) -> Iterator[str]:
        return iter(self._paths)

    def matching(self, pattern: re.Pattern[bytes]) -> Iterable[str]:
        """The paths that the pattern matches as a whole."""
        return [
            path
            for path in self._paths
            if pattern.fullmatch(path.encode("utf-8", "surrogateescape"))
        ]

    def named(self, name: str) -> Iterable[str]:
        """The paths whose last part is `name`; the root's is empty."""
        return [path for path in self._paths if path.rpartition("/")[2] == name]


class SplitListing:
    """Paths split in directories and last names, as a package header keeps them.

    `names` are last names, each ended by a zero byte; `places[n]` is the directory of the n-th.
    """

    __slots__ = ("_count", "_folders", "_names", "_places")

    def __init__(self, names: bytes, folders: Sequence[str], places: Sequence[int]) -> None:
        self._names = b"\0" + names
        self._folders = folders
        self._places = places
        self._count = len(places)

    def __len__(self) -> int:
        return self._count

    def __contains__(self, path: object) -> bool:
        return isinstance(path, str) and path in self.named(path.rpartition("/")[2])

    def __iter__(self) -> Iterator[str]:
        names = decoded(self._names[1:]).split("\0")
        folders = self._folders
        for place, name in zip(self._places, names, strict=False):
            yield folders[place] + name

    def matching(self, pattern: re.Pattern[bytes]) -> Iterable[str]:
        """The paths that the pattern matches as a whole."""
        return _matching(self, pattern)

    def named(self, name: str) -> list[str]:
        """The paths whose last part is `name`; the root's is empty."""
        try:
            needle = b"\0" + encoded(name) + b"\0"
        except FileNotFoundError:
            return []
        found = []
        at = self._names.find(needle)
        while at >= 0:
            number = self._names.count(b"\0", 0, at)
            if number < self._count:
                found.append(self._folders[self._places[number]] + name)
            at = self._names.find(needle, at + 1)
        return found


def _matching(paths: Iterable[str], pattern: re.Pattern[bytes]) -> list[str]:
    matches = pattern.fullmatch
    return [path for path in paths if matches(path.encode("utf-8", "surrogateescape"))]
