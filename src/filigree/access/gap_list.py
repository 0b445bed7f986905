"""What could not be looked at, as it is found: each once, and no more of it than anybody reads."""

from collections.abc import Iterator
from contextlib import contextmanager

from filigree.model.answer import Gap

NAMED = 10_000
"""So many gaps are named one by one."""


class GapList:
    """Gaps in the order in which they were found; of more than make sense how many there are."""

    def __init__(self) -> None:
        self._gaps: dict[Gap, None] = {}
        self._unnamed = 0
        self._listeners: list[dict[Gap, None]] = []

    def __contains__(self, gap: Gap) -> bool:
        return gap in self._gaps

    def add(self, gap: Gap) -> None:
        """Note a gap."""
        if len(self._gaps) < NAMED or gap in self._gaps:
            self._gaps[gap] = None
        else:
            self._unnamed += 1
        for heard in self._listeners:
            if len(heard) < NAMED:
                heard[gap] = None

    @contextmanager
    def heard(self) -> Iterator[dict[Gap, None]]:
        """The gaps that are noted meanwhile, also those that were before."""
        heard: dict[Gap, None] = {}
        self._listeners.append(heard)
        try:
            yield heard
        finally:
            self._listeners.remove(heard)

    def told(self) -> list[Gap]:
        """All of them."""
        found = list(self._gaps)
        if self._unnamed:
            why = f"only the first {NAMED:,} are named"
            found.append(Gap(f"{self._unnamed:,} more things", why))
        return found
