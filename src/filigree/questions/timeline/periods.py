"""A timeline in sums: by day, week or month."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from enum import StrEnum

from filigree.model.answer import Answer
from filigree.questions.timeline.happenings import OF_PACKAGES, Deed, Happening
from filigree.questions.timeline.timeline import TimelineSummary


class Span(StrEnum):
    """How much time is told together; weeks begin on Mondays (ISO 8601)."""

    DAY = "day"
    WEEK = "week"
    MONTH = "month"


@dataclass(frozen=True, slots=True)
class Period:
    """What happened from `at` up to `until`, in UTC; both None for what has no time. `packages` counts
    the packages that something was done with, `sessions` transactions."""

    at: datetime | None
    until: datetime | None
    happenings: int
    packages: int
    sessions: int
    unexplained: int
    doubtful: int
    by_action: dict[Deed, int]


def by_period(
    answer: Answer[Happening, TimelineSummary], span: Span
) -> Answer[Period, TimelineSummary]:
    """The sums of a timeline by day, week or month; what has no time comes first."""
    held: dict[datetime | None, list[Happening]] = {}
    for row in answer.records:
        held.setdefault(None if row.at is None else _start(row.at, span), []).append(row)
    records = [_period(start, span, rows) for start, rows in held.items()]
    return Answer(
        "periods", answer.system, records, answer.summary, answer.gaps, answer.notes,
        answer.bad_news, answer.interrupted,
    )  # fmt: skip


def _period(start: datetime | None, span: Span, rows: Sequence[Happening]) -> Period:
    touched = {row.package for row in rows if row.action in OF_PACKAGES}
    return Period(
        at=start, until=None if start is None else _end(start, span), happenings=len(rows),
        packages=len(touched), sessions=len({row.session for row in rows if row.session}),
        unexplained=sum(row.explained_by is None for row in rows),
        doubtful=sum(bool(row.doubts) for row in rows),
        by_action=dict(Counter(row.action for row in rows)),
    )  # fmt: skip


def _start(at: datetime, span: Span) -> datetime:
    day = at.astimezone(UTC).replace(hour=0, minute=0, second=0, microsecond=0)
    if span is Span.MONTH:
        return day.replace(day=1)
    return day - timedelta(days=day.weekday()) if span is Span.WEEK else day


def _end(start: datetime, span: Span) -> datetime:
    if span is Span.MONTH:
        return (start + timedelta(days=32)).replace(day=1)
    return start + timedelta(days=7 if span is Span.WEEK else 1)
