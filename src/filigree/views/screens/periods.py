"""How the sums of a timeline are shown: a line a day, week or month."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.timeline.periods import Period
from filigree.questions.timeline.timeline import TimelineSummary
from filigree.views.options import ViewOptions
from filigree.views.page import Column, Ink, Piece, Style
from filigree.views.screens.timeline import summed
from filigree.views.screens.words import closing, day

_FIELDS = tuple(field.name for field in fields(Period))
_TABLE = (
    Column("From"), Column("In all", right=True), Column("Packages", right=True),
    Column("Transactions", right=True), Column("Unexplained", right=True), Column("What", wrap=True),
)  # fmt: skip


def screen(
    answer: Answer[Period, TimelineSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The sums for people."""
    if answer.records:
        yield from ink.table(_TABLE, [_cells(one) for one in answer.records])
        yield ""
    yield from closing(ink, *summed(answer.summary))


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(answer: Answer[Period, TimelineSummary], options: ViewOptions) -> Iterator[Sequence[Any]]:
    """The sums for programs: a period a row."""
    for one in answer.records:
        yield [getattr(one, name) for name in _FIELDS]


def _cells(one: Period) -> list[str | Piece]:
    what = ", ".join(f"{deed.value} {count:,}" for deed, count in one.by_action.items())
    bad = Piece(f"{one.unexplained:,}" if one.unexplained else "", Style.BAD)
    return [
        day(one.at) or "no known time", f"{one.happenings:,}", _number(one.packages),
        _number(one.sessions), bad, what,
    ]  # fmt: skip


def _number(count: int) -> str:
    return f"{count:,}" if count else ""
