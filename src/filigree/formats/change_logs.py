"""Logs that package systems write of what they do, a line a step.

    deb    2026-01-12 08:30:00 install|upgrade|remove NAME:ARCHITECTURE OLD NEW
           2026-01-12 08:30:00 startup archives unpack|packages remove|packages configure
    arch   [2026-01-12T08:30:00+0000] [ALPM] installed|upgraded|downgraded|removed NAME (VERSION)
           [2026-01-12T08:30:00+0000] [ALPM] transaction started|completed|interrupted|failed
           [2026-01-12T08:30:00+0000] [PACMAN] Running 'COMMAND'
           [2013-01-02 10:11] installed NAME (VERSION)
    rpm    2026-01-12T08:30:00+0000 SUBDEBUG Installed: NAME-EPOCH:VERSION-RELEASE.ARCHITECTURE
           Jan 12 08:30:00 Installed: EPOCH:NAME-VERSION-RELEASE.ARCHITECTURE

Lines of other forms are of other steps. A time without a zone is in that of the system, which is not
told: it is taken for UTC. A time without a year is none.
"""

import re
from collections.abc import Collection, Iterator
from datetime import UTC, datetime
from typing import NamedTuple

from filigree.formats.damage import text_of
from filigree.model.events import Action, Outcome

_NAME = rb"[^\s:()]+"
_DEB = rb"^(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d) (install|upgrade|remove) (%s)(?::(\S+))? (\S+) (\S+)[ \t]*$"
_ARCH = (
    rb"^\[([^\]\n]{10,40})\] (?:\[ALPM\] )?(installed|reinstalled|upgraded|downgraded|removed) (%s) "
    rb"\(([^\s()]+)(?: -> ([^\s()]+))?\)[ \t]*$"
)
_RPM = (
    rb"^(?:(\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\S{0,6}) (?:SUB)?(?:DEBUG|INFO) |\w{3} [ \d]\d \d\d:\d\d:\d\d )"
    rb"([A-Z][a-z]{3,11}): (?:(\d{1,9}):)?(\S{1,300})-(?:(\d{1,9}):)?([^\s:-]{1,300}-[^\s:-]{1,300})"
    rb"\.(\w{1,40})[ \t]*$"
)
_RPM_STEPS = {
    "Installed": Action.INSTALLED, "Install": Action.INSTALLED, "Upgrade": Action.INSTALLED,
    "Updated": Action.INSTALLED, "Downgrade": Action.INSTALLED, "Reinstall": Action.INSTALLED,
    "Upgraded": Action.REPLACED, "Downgraded": Action.REPLACED, "Obsoleted": Action.REPLACED,
    "Reinstalled": Action.REPLACED, "Erase": Action.REMOVED, "Erased": Action.REMOVED,
    "Removed": Action.REMOVED,
}  # fmt: skip
"""What is done to the version that a line names: the newer logs tell an upgrade by both versions."""
_NONE = "<none>"


class Logged(NamedTuple):
    """One step: when, what was done, and with which version of which package; `offset` is where in the
    log it stands, in bytes, and `zoned` whether its time tells the zone."""

    at: datetime | None
    action: Action
    name: str
    version: str
    architecture: str | None
    offset: int = 0
    zoned: bool = False


class LoggedRun(NamedTuple):
    """What a log tells was done in one go: from `start` up to `end`, in bytes. None where it does not
    tell."""

    start: int
    end: int
    began: datetime | None
    ended: datetime | None
    command: str | None
    outcome: Outcome | None


def read_deb_log(data: bytes, names: Collection[str] | None = None) -> Iterator[Logged]:
    """The steps of a `deb` log, of packages of these names, or all."""
    for match in _lines(_DEB, data, names):
        at, what, name, machine, old, new = (text_of(part or b"") for part in match.groups())
        moment, offset = _moment(at), match.start()
        if what == "remove":
            yield Logged(moment, Action.REMOVED, name, old, machine or None, offset)
            continue
        if what == "upgrade" and old != _NONE:
            yield Logged(moment, Action.REPLACED, name, old, machine or None, offset)
        if new != _NONE:
            yield Logged(moment, Action.INSTALLED, name, new, machine or None, offset)


def read_arch_log(data: bytes, names: Collection[str] | None = None) -> Iterator[Logged]:
    """The steps of an `arch` log, of packages of these names, or all."""
    for match in _lines(_ARCH, data, names):
        at, what, name, version, new = (text_of(part or b"") for part in match.groups())
        moment, where = _moment(at), (match.start(), _zoned(at))
        if what == "removed":
            yield Logged(moment, Action.REMOVED, name, version, None, *where)
        elif what == "installed":
            yield Logged(moment, Action.INSTALLED, name, version, None, *where)
        elif new or what == "reinstalled":
            yield Logged(moment, Action.REPLACED, name, version, None, *where)
            yield Logged(moment, Action.INSTALLED, name, new or version, None, *where)


def read_rpm_log(data: bytes, names: Collection[str] | None = None) -> Iterator[Logged]:
    """The steps of an `rpm` log of either age, of packages of these names, or all."""
    for match in re.finditer(_RPM, data, re.MULTILINE):
        at, what, first, name, later, version, machine = (
            text_of(part or b"") for part in match.groups()
        )
        done = _RPM_STEPS.get(what)
        if done is None or (names is not None and name not in names):
            continue
        epoch = first or later
        full = f"{epoch}:{version}" if epoch.strip("0") else version
        yield Logged(_moment(at), done, name, full, machine, match.start(), _zoned(at))


_DEB_RUN = re.compile(rb"^(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d) startup [\w -]{1,40}$", re.MULTILINE)
_ARCH_RUN = re.compile(
    rb"^\[([^\]\n]{10,40})\] (?:\[PACMAN\] Running '([^\n]{0,4000})'"
    rb"|\[ALPM\] transaction (started|completed|interrupted|failed))[ \t]*$",
    re.MULTILINE,
)
_ENDS = {
    "completed": Outcome.COMPLETED, "interrupted": Outcome.UNFINISHED, "failed": Outcome.FAILED,
}  # fmt: skip


def read_deb_runs(data: bytes) -> Iterator[LoggedRun]:
    """Every start of the program that a `deb` log tells: no end of one is told, but the next."""
    begun: tuple[int, str] | None = None
    for match in _DEB_RUN.finditer(data):
        if begun is not None:
            yield LoggedRun(begun[0], match.start(), _moment(begun[1]), None, None, None)
        begun = match.start(), text_of(match[1])
    if begun is not None:
        yield LoggedRun(begun[0], len(data), _moment(begun[1]), None, None, None)


def read_arch_runs(data: bytes) -> Iterator[LoggedRun]:
    """Every transaction of an `arch` log, with the command that came before it."""
    command: str | None = None
    begun: tuple[int, datetime | None] | None = None
    for match in _ARCH_RUN.finditer(data):
        at, what = _moment(text_of(match[1])), text_of(match[3] or b"")
        if begun is not None and what != "started" and what:
            yield LoggedRun(begun[0], match.start(), begun[1], at, command, _ENDS[what])
            begun = None
        elif begun is not None:
            yield LoggedRun(begun[0], match.start(), begun[1], None, command, Outcome.UNFINISHED)
            begun = None
        if match[2] is not None:
            command = text_of(match[2])
        elif what == "started":
            begun = match.start(), at
    if begun is not None:
        yield LoggedRun(begun[0], len(data), begun[1], None, command, Outcome.UNFINISHED)


def _lines(form: bytes, data: bytes, names: Collection[str] | None) -> Iterator[re.Match[bytes]]:
    """The lines of a form. Whole years of steps are searched for a few names in one go."""
    wanted = _NAME
    if names is not None:
        known = (re.escape(name.encode("utf-8", "surrogateescape")) for name in sorted(names))
        wanted = b"|".join(known) or rb"(?!)"
    return re.finditer(form % wanted, data, re.MULTILINE)


def _zoned(text: str) -> bool:
    """Whether a time tells its zone: behind a date there is a sign of one."""
    return text.endswith("Z") or any(sign in text[10:] for sign in "+-")


def _moment(text: str) -> datetime | None:
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        return None
    return found if found.tzinfo is not None else found.replace(tzinfo=UTC)
