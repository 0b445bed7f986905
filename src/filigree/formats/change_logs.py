"""Logs that package systems write of what they do, a line a step.

    deb    2026-01-12 08:30:00 install|upgrade|remove NAME:ARCHITECTURE OLD NEW
    arch   [2026-01-12T08:30:00+0000] [ALPM] installed|upgraded|downgraded|removed NAME (VERSION)
           [2013-01-02 10:11] installed NAME (VERSION)

Lines of other forms are of other steps. A time without a zone is in that of the system, which is not
told: it is taken for UTC.
"""

import re
from collections.abc import Collection, Iterator
from datetime import UTC, datetime
from typing import NamedTuple

from filigree.formats.damage import text_of
from filigree.model.events import Action

_NAME = rb"[^\s:()]+"
_DEB = rb"^(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d) (install|upgrade|remove) (%s)(?::(\S+))? (\S+) (\S+)[ \t]*$"
_ARCH = (
    rb"^\[([^\]\n]{10,40})\] (?:\[ALPM\] )?(installed|upgraded|downgraded|removed) (%s) "
    rb"\(([^\s()]+)(?: -> ([^\s()]+))?\)[ \t]*$"
)
_NONE = "<none>"


class Logged(NamedTuple):
    """One step: when, what was done, and with which version of which package."""

    at: datetime | None
    action: Action
    name: str
    version: str
    architecture: str | None


def read_deb_log(data: bytes, names: Collection[str] | None = None) -> Iterator[Logged]:
    """The steps of a `deb` log, of packages of these names, or all."""
    for match in _lines(_DEB, data, names):
        at, what, name, machine, old, new = (text_of(part or b"") for part in match.groups())
        moment = _moment(at)
        if what == "remove":
            yield Logged(moment, Action.REMOVED, name, old, machine or None)
            continue
        if what == "upgrade" and old != _NONE:
            yield Logged(moment, Action.REPLACED, name, old, machine or None)
        if new != _NONE:
            yield Logged(moment, Action.INSTALLED, name, new, machine or None)


def read_arch_log(data: bytes, names: Collection[str] | None = None) -> Iterator[Logged]:
    """The steps of an `arch` log, of packages of these names, or all."""
    for match in _lines(_ARCH, data, names):
        at, what, name, version, new = (text_of(part or b"") for part in match.groups())
        moment = _moment(at)
        if what == "removed":
            yield Logged(moment, Action.REMOVED, name, version, None)
        elif what == "installed":
            yield Logged(moment, Action.INSTALLED, name, version, None)
        elif new:
            yield Logged(moment, Action.REPLACED, name, version, None)
            yield Logged(moment, Action.INSTALLED, name, new, None)


def _lines(form: bytes, data: bytes, names: Collection[str] | None) -> Iterator[re.Match[bytes]]:
    """The lines of a form. Whole years of steps are searched for a few names in one go."""
    wanted = _NAME
    if names is not None:
        known = (re.escape(name.encode("utf-8", "surrogateescape")) for name in sorted(names))
        wanted = b"|".join(known) or rb"(?!)"
    return re.finditer(form % wanted, data, re.MULTILINE)


def _moment(text: str) -> datetime | None:
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        return None
    return found if found.tzinfo is not None else found.replace(tzinfo=UTC)
