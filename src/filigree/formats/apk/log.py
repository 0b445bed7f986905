"""The log of an `apk` system, where it keeps one.

    Running `COMMAND` at 2026-01-12 08:30:00
    (1/2) Installing NAME (VERSION)
    (2/2) Upgrading NAME (OLD -> NEW)
    OK: …

A time stands above what was done; it tells no zone, and is taken for UTC.
"""

import re
from collections.abc import Collection, Iterator
from datetime import UTC, datetime
from itertools import zip_longest

from filigree.formats.change_logs import Logged, LoggedRun
from filigree.formats.damage import text_of
from filigree.model.events import Action, Outcome

_RUN = re.compile(
    rb"^Running `([^\n]{0,4000})` at (\d{4}-\d\d-\d\d \d\d:\d\d:\d\d)[ \t]*$", re.MULTILINE
)
_STEP = re.compile(
    rb"^\(\d{1,9}/\d{1,9}\) (Installing|Upgrading|Downgrading|Reinstalling|Replacing|Purging) "
    rb"([^\s()]{1,1024}) \(([^\s()]{1,1024})(?: -> ([^\s()]{1,1024}))?\)[ \t]*$",
    re.MULTILINE,
)
_END = re.compile(rb"^(?:OK: |(\d{1,9}) errors?[;:])", re.MULTILINE)


def read_log(data: bytes, names: Collection[str] | None = None) -> Iterator[Logged]:
    """The steps of a log, of packages of these names, or all."""
    runs = [(match.start(), _moment(match[2])) for match in _RUN.finditer(data)]
    number = 0
    for match in _STEP.finditer(data):
        while number < len(runs) and runs[number][0] < match.start():
            number += 1
        at = runs[number - 1][1] if number else None
        what, name, old, new = (text_of(part or b"") for part in match.groups())
        if names is not None and name not in names:
            continue
        if what == "Purging":
            yield Logged(at, Action.REMOVED, name, old, None, match.start())
            continue
        if what != "Installing":
            yield Logged(at, Action.REPLACED, name, old, None, match.start())
        yield Logged(at, Action.INSTALLED, name, new or old, None, match.start())


def read_runs(data: bytes) -> Iterator[LoggedRun]:
    """Every run of the program that a log tells."""
    begun = list(_RUN.finditer(data))
    for match, after in zip_longest(begun, begun[1:]):
        end = after.start() if after is not None else len(data)
        last = _END.search(data, match.end(), end)
        outcome = (
            Outcome.UNFINISHED if last is None else Outcome.FAILED if last[1] else Outcome.COMPLETED
        )
        yield LoggedRun(match.start(), end, _moment(match[2]), None, text_of(match[1]), outcome)


def _moment(text: bytes) -> datetime | None:
    try:
        return datetime.fromisoformat(text_of(text)).replace(tzinfo=UTC)
    except ValueError:
        return None
