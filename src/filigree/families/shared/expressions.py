"""Expressions out of the files of a system, asked together; what is not matched is a gap, and leaves
nothing out, holds nothing and excuses nothing."""

from collections.abc import Callable, Iterable
from typing import NamedTuple

from filigree.families.protocol import Report
from filigree.formats.patterns import Pattern, PatternError, Patterns
from filigree.model.answer import Gap


class Told(NamedTuple):
    """One expression as it is written, and where."""

    text: str
    place: str


class Expressions:
    """Expressions in their order. `what` is what they say, for people; `make` makes a pattern of a
    text."""

    def __init__(
        self, told: Iterable[Told], make: Callable[[str], Pattern], what: str, report: Report,
        anywhere: bool = False,
    ) -> None:  # fmt: skip
        self._what = what
        self._report = report
        self.told: list[Told] = []
        patterns = []
        for one in told:
            try:
                patterns.append(make(one.text))
                self.told.append(one)
            except PatternError as error:
                shown = one.text if len(one.text) < 80 else f"{one.text[:80]}…"
                report(Gap(f"{what} by {shown} in {one.place}", str(error)))
        self._patterns: Patterns | None = None
        try:
            self._patterns = Patterns(patterns, anywhere)
        except PatternError as error:
            self._give_up(error)

    def __bool__(self) -> bool:
        return bool(self.told) and self._patterns is not None

    def last(self, text: str) -> Told | None:
        """The last that matches a text; None where none does."""
        if self._patterns is None:
            return None
        try:
            number = self._patterns.last(text)
        except PatternError as error:
            self._give_up(error)
            return None
        return None if number is None else self.told[number]

    def every(self, text: str) -> list[Told]:
        """All that match a text, in their order."""
        if self._patterns is None:
            return []
        try:
            return [self.told[number] for number in self._patterns.every(text)]
        except PatternError as error:
            self._give_up(error)
            return []

    def any(self, text: str) -> bool:
        """Whether one of them matches a text."""
        return self.last(text) is not None

    def _give_up(self, error: PatternError) -> None:
        files = list(dict.fromkeys(one.place for one in self.told))
        where = files[0] if len(files) == 1 else f"{len(files):,} files"
        self._report(Gap(f"{self._what} by {where}", str(error)))
        self._patterns = None
