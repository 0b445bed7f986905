"""The list of one package's paths, searched as bytes: most questions want one path of thousands."""

import re
from collections.abc import Iterable, Iterator

from filigree.access.trees.directories import decoded, encoded


class DebListing:
    """The paths of one list file. `/.` stands for the root, and is told as `/`."""

    __slots__ = ("_data",)

    def __init__(self, data: bytes) -> None:
        if data.startswith(b"/.\n"):
            data = b"/\n" + data[3:]
        self._data = data if not data or data.endswith(b"\n") else data + b"\n"

    def __len__(self) -> int:
        return self._data.count(b"\n") - self._data.count(b"\n\n") - self._data.startswith(b"\n")

    def __contains__(self, path: object) -> bool:
        try:
            line = encoded(str(path)) + b"\n"
        except FileNotFoundError:
            return False
        return self._data.startswith(line) or b"\n" + line in self._data

    def __iter__(self) -> Iterator[str]:
        return (line for line in decoded(self._data).split("\n") if line)

    def matching(self, pattern: re.Pattern[bytes]) -> Iterable[str]:
        """The paths that the pattern matches as a whole."""
        matches = pattern.fullmatch
        return [decoded(line) for line in self._data.split(b"\n") if line and matches(line)]

    def named(self, name: str) -> Iterable[str]:
        """The paths whose last part is `name`; the root's is empty."""
        found = []
        needle = b"/" + encoded(name) + b"\n"
        at = self._data.find(needle)
        while at >= 0:
            start = self._data.rfind(b"\n", 0, at) + 1
            found.append(decoded(self._data[start : at + len(needle) - 1]))
            at = self._data.find(needle, at + 1)
        return found
