"""An answer: the records that a question returns, and what must be said beside them."""

from collections.abc import Generator, Iterator
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Generic, NamedTuple, TypeVar

SCHEMA = "filigree/1"


class Gap(NamedTuple):
    """Something that could not be looked at, and so was not judged."""

    what: str
    why: str


class Alarm(Gap):
    """Something that is not what it is said to be: bad news, whatever was asked."""

    __slots__ = ()


class SystemLabel(NamedTuple):
    """Which system was asked; `seen_at` is when a snapshot of it was taken, None where it is looked at
    now."""

    root: str
    family: str
    label: str
    seen_at: str | None = None


R = TypeVar("R")
S = TypeVar("S")


@dataclass(slots=True)
class Answer(Generic[R, S]):
    """What a question returns: records of one sort, and a summary of the question's own.

    `bad_news` and `gaps` decide the exit status; `notes` are for people.
    """

    question: str
    system: SystemLabel
    records: list[R]
    summary: S
    gaps: list[Gap] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    bad_news: bool = False
    interrupted: bool = False

    @property
    def exit_status(self) -> int:
        """0 nothing wrong, 1 bad news, 3 no bad news but gaps, 130 interrupted."""
        if self.interrupted:
            return 130
        if self.bad_news or any(isinstance(gap, Alarm) for gap in self.gaps):
            return 1
        return 3 if self.gaps else 0


class Flow(Generic[R, S]):
    """An answer whose records come one after another, for they may be more than anybody should hold.

    It can be gone through once. What is to be said beside the records stands when the last has passed.
    The first is looked for at once: what makes the whole question a bad one is raised here.
    """

    def __init__(
        self, question: str, system: SystemLabel, records: Generator[R, None, Answer[R, S]]
    ) -> None:
        self.question = question
        self.system = system
        self._records = records
        self._rest: Answer[R, S] | None = None
        try:
            self._first = [next(records)]
        except StopIteration as end:
            self._first = []
            self._rest = end.value

    def __iter__(self) -> Iterator[R]:
        first, self._first = self._first, []
        yield from first
        if self._rest is None:
            self._rest = yield from self._records

    @property
    def rest(self) -> Answer[R, S]:
        """The answer without its records. Raises ValueError before the last of them has passed."""
        if self._rest is None:
            raise ValueError("not all of its records have passed")
        return self._rest

    def collected(self) -> Answer[R, S]:
        """The answer with its records, where none of them has passed yet."""
        records = list(self)
        return replace(self.rest, records=records)

    def passing(self) -> "Answer[R, S]":
        """An answer whose records are those that pass, for what only goes through them once."""
        return Answer(self.question, self.system, self, None)  # type: ignore[arg-type]


def moment_of(seconds: int | None) -> datetime | None:
    """A time, in UTC, by its seconds since 1970; None for none, and for what no calendar holds."""
    from datetime import UTC

    try:
        return None if seconds is None else datetime.fromtimestamp(seconds, UTC)
    except (ValueError, OverflowError, OSError):
        return None


def iso(moment: datetime) -> str:
    """A time in ISO 8601, in UTC, to the second: `2026-03-01T07:15:00Z`."""
    from datetime import UTC

    return moment.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
