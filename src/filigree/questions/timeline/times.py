"""Times as people write them, and times that cannot be.

    time = DATE [TIME] | "now" | "today" | "yesterday" | NUMBER UNIT
    unit = minute | hour | day | week | month | year, with an `s` or without

A date is `2026-03-01`, `2026-03` or `2026`; a time `14:30` or `14:30:05`, with a zone or in UTC. A number
of units is so long before the root was seen; a month is 30 days, a year 365.
"""

import re
from datetime import UTC, datetime, timedelta

from filigree.model.answer import moment_of
from filigree.model.errors import BadQuestion
from filigree.model.files import Observation

_UNITS = {
    "minute": 60,
    "hour": 3600,
    "day": 86400,
    "week": 604800,
    "month": 2592000,
    "year": 31536000,
}
_SPAN = re.compile(r"(\d{1,6})\s*([a-z]+?)s?(?:\s+ago)?")
_PARTIAL = re.compile(r"(\d{4})(?:-(\d\d?))?")
NO_CLOCK = 86400
"""Seconds after 1970 up to which a time is no clock's, but one that was set for want of any."""
_NUMBERS = 1 << 56
"""Nanoseconds after 1970, in April 1972: what is below is no time of an inode's."""
EARLY = timedelta(minutes=5)
"""By so much two clocks may differ."""


def moment_from(text: str, seen: datetime, end: bool = False) -> datetime:
    """A time as a person wrote it, `seen` being now; `end` where a whole day, month or year is meant up
    to its end. Raises BadQuestion."""
    words = text.strip().lower()
    midnight = seen.astimezone(UTC).replace(hour=0, minute=0, second=0, microsecond=0)
    days = timedelta(days=1) if end else timedelta()
    try:
        if words in ("now", "today", "yesterday"):
            yesterday = midnight - timedelta(days=1)
            named = {"now": seen, "today": midnight + days, "yesterday": yesterday + days}
            return named[words]
        if found := _SPAN.fullmatch(words):
            return seen - span_from(text)
        if found := _PARTIAL.fullmatch(words):
            year, month = int(found[1]), int(found[2] or 1)
            first = datetime(year, month, 1, tzinfo=UTC)
            if not end:
                return first
            over = month == 12 or found[2] is None
            return datetime(year + over, 1 if over else month + 1, 1, tzinfo=UTC)
        told = datetime.fromisoformat(text.strip())
        told = told if told.tzinfo is not None else told.replace(tzinfo=UTC)
        return told + days if re.fullmatch(r"\d{4}-?\d\d-?\d\d", words) else told
    except (ValueError, OverflowError) as error:
        raise BadQuestion(
            f"no time is written {text!r}", None, "say 2026-03-01, 2026-03-01 14:30 or 3 days"
        ) from error


def moment_seen(told: str | None, now: datetime) -> datetime:
    """When a root was seen, as its label tells, or else `now`: what is later has not been."""
    try:
        return datetime.fromisoformat(told) if told else now
    except ValueError:
        return now


def span_from(text: str) -> timedelta:
    """A length of time as a person wrote it: `90 minutes`, `3 days`. Raises BadQuestion."""
    found = _SPAN.fullmatch(text.strip().lower())
    seconds = _UNITS.get(found[2]) if found else None
    if found is None or seconds is None:
        raise BadQuestion(
            f"no length of time is written {text!r}", None, f"say a number of {', '.join(_UNITS)}"
        )
    return timedelta(seconds=int(found[1]) * seconds)


def is_no_clock(nanoseconds: int) -> bool:
    """Whether a file's time was set for want of any clock: the first day of 1970, or before."""
    return nanoseconds < NO_CLOCK * 10**9


def inode_time(seen: Observation) -> datetime | None:
    """When anything of a file was last changed, as its file system tells; None where nobody knows: an
    image has no such time, and a number that tells its contents apart stands there."""
    return moment_of(seen.changed // 10**9) if seen.changed >= _NUMBERS else None
