"""The list of changes of a `slackware` repository, `ChangeLog.txt`: what came when, newest first.

    list   = day *( bar day )
    day    = date *( path ":" action *( "  " words ) )
    date   = "Thu Feb  3 22:22:22 UTC 2022"

A change that mends a hole says so in a line of its own: `(* Security fix *)`. Of changes that stand
together those of the last one's version share what it says: parts of one source. A path that
ends in `/*` is of everything in that directory.
"""

import re
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from typing import NamedTuple

from filigree.formats.damage import text_of
from filigree.formats.slackware.names import split_label

_LIMIT = 1 << 16
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_DATE = re.compile(
    r"[A-Z][a-z]{2} ([A-Z][a-z]{2}) +(\d{1,2}) (\d\d):(\d\d):(\d\d) (?:[A-Z]{2,5} )?(\d{4})\s*"
)
_CHANGE = re.compile(r"(\S[^:\s]*(?:\.t(?:xz|gz|bz|lz)|/\*)):\s*(.*)")
_FIX = "(* Security fix *)"


class LoggedChange(NamedTuple):
    """One change of one package: when, the path of its archive, what was done, what is said of it."""

    at: datetime | None
    path: str
    action: str
    words: str
    security: bool


def read_changes(pieces: Iterable[bytes]) -> Iterator[LoggedChange]:
    """Every change, in the order of the list."""
    at: datetime | None = None
    heads: list[tuple[str, str]] = []
    words: list[str] = []
    for line in _lines(pieces):
        date = _DATE.fullmatch(line)
        change = None if date else _CHANGE.fullmatch(line)
        if date or line.startswith("+---") or (change and words) or len(heads) > _LIMIT:
            yield from _told(at, heads, words)
            heads, words = [], []
        if date:
            at = _moment(date)
        elif change:
            heads.append((change[1], change[2].strip().rstrip(".")))
        elif heads and line.strip() and len(words) < _LIMIT:
            words.append(line.strip())
    yield from _told(at, heads, words)


def _told(
    at: datetime | None, heads: list[tuple[str, str]], words: list[str]
) -> Iterator[LoggedChange]:
    text = "\n".join(word for word in words if word != _FIX)
    last = _version(heads[-1][0]) if heads else None
    for number, (path, action) in enumerate(heads, 1):
        shares = number == len(heads) or _version(path) == last
        yield LoggedChange(at, path, action, text if shares else "", shares and _FIX in words)


def _version(path: str) -> str:
    """What the archives of one source have in common: their version, or their own directory."""
    folder, _, name = path.rpartition("/")
    label = split_label(name)
    return label.version if label is not None else folder


def _lines(pieces: Iterable[bytes]) -> Iterator[str]:
    rest = b""
    for piece in pieces:
        lines = (rest + piece).split(b"\n")
        rest = lines.pop()[-_LIMIT:]
        yield from (text_of(line).rstrip("\r") for line in lines)
    if rest:
        yield text_of(rest)


def _moment(match: re.Match[str]) -> datetime | None:
    month, day, hour, minute, second, year = match.groups()
    if month not in _MONTHS:
        return None
    try:
        numbers = int(year), _MONTHS.index(month) + 1, int(day), int(hour), int(minute), int(second)
        return datetime(*numbers, tzinfo=UTC)
    except ValueError:
        return None
