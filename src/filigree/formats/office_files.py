"""Files that an office keeps for its findings: what it accepted, and how it wants rules asked (TOML 1.0).

[[waiver]]
rule = "program-of-nobody"
what = "/usr/sbin/gullcheck"      # a path, a package, a key …; or a glob of them
package = "tidegauge"             # optional: only of this one
accepted = "…"                    # what exactly was found then
by = "the keeper"
why = "it is ours"
until = 2027-01-01                # optional

[severity]
outsider = "medium"
[limits]
index-days = 30                   # an index that was not fetched for so long is old
policy-days = 30                  # policy that was declared within so many days came lately
[places]
starts = ["/opt/*/units/*"]       # globs of what starts things, besides the usual
[leave-out]
rules = ["left-over"]
parts = ["history"]
"""

import tomllib
from collections.abc import Callable, Mapping
from datetime import UTC, date, datetime, time
from typing import Any, NamedTuple

from filigree.model.findings import Part, Severity

_MOST = 20_000


class OfficeFileError(ValueError):
    """What is wrong with such a file, with the place of it."""


class Waiver(NamedTuple):
    """One thing that was accepted: `accepted` is what exactly was found of `what` then. `number` is its
    place in the file, from 1."""

    number: int
    rule: str
    what: str
    package: str | None
    accepted: str
    by: str
    why: str
    until: datetime | None


class OfficeSettings(NamedTuple):
    """How rules are asked: other severities, limits in days, globs of places that start things, what is
    left out."""

    severities: tuple[tuple[str, Severity], ...] = ()
    index_days: int | None = None
    policy_days: int | None = None
    starting: tuple[str, ...] = ()
    left_out: frozenset[str] = frozenset()
    without: frozenset[Part] = frozenset()


def read_waivers(data: bytes) -> list[Waiver]:
    """What was accepted. Raises OfficeFileError for whatever is not as it is to be."""
    table = _table(data, {"waiver"})
    rows = table.get("waiver", [])
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise OfficeFileError("`waiver` is to be a list of tables: [[waiver]]")
    if len(rows) > _MOST:
        raise OfficeFileError(f"more than {_MOST:,} waivers")
    return [_waiver(number, row) for number, row in enumerate(rows, 1)]


_FIELDS = ("rule", "what", "accepted", "by", "why")


def _waiver(number: int, row: Mapping[str, Any]) -> Waiver:
    where = f"waiver {number}"
    unknown = sorted(row.keys() - {*_FIELDS, "package", "until"})
    if unknown:
        raise OfficeFileError(f"{where}: nothing is called {unknown[0]!r}")
    for name in (*_FIELDS, *(["package"] if "package" in row else [])):
        if not isinstance(row.get(name), str) or not row[name].strip():
            raise OfficeFileError(f"{where}: `{name}` is to be a text, and not empty")
    return Waiver(
        number, row["rule"], row["what"], row.get("package"), row["accepted"], row["by"], row["why"],
        _end(where, row.get("until")),
    )  # fmt: skip


def _end(where: str, told: object) -> datetime | None:
    if told is None:
        return None
    if isinstance(told, datetime):
        return told if told.tzinfo is not None else told.replace(tzinfo=UTC)
    if isinstance(told, date):
        return datetime.combine(told, time.max, UTC)
    raise OfficeFileError(f"{where}: `until` is to be a date, as 2027-01-01")


def read_settings(data: bytes) -> OfficeSettings:
    """How an office wants rules asked. Raises OfficeFileError for whatever is not as it is to be."""
    table = _table(data, {"severity", "limits", "places", "leave-out"})
    severity = _inner(table, "severity", None)
    limits = _inner(table, "limits", {"index-days", "policy-days"})
    left = _inner(table, "leave-out", {"rules", "parts"})
    places = _inner(table, "places", {"starts"})
    return OfficeSettings(
        tuple((name, _one(f"severity: `{name}`", word, Severity)) for name, word in severity.items()),
        _days(limits, "index-days"), _days(limits, "policy-days"),
        tuple(_names("places", places, "starts", str)),
        frozenset(_names("leave-out", left, "rules", str)),
        frozenset(_names("leave-out", left, "parts", Part)),
    )  # fmt: skip


def _days(limits: Mapping[str, Any], name: str) -> int | None:
    days = limits.get(name)
    if days is not None and (not isinstance(days, int) or isinstance(days, bool) or days < 1):
        raise OfficeFileError(f"limits: `{name}` is to be a number of days")
    return days


def _inner(table: Mapping[str, Any], name: str, known: set[str] | None) -> Mapping[str, Any]:
    found = table.get(name, {})
    if not isinstance(found, dict):
        raise OfficeFileError(f"`{name}` is to be a table: [{name}]")
    unknown = sorted(found.keys() - known) if known is not None else []
    if unknown:
        raise OfficeFileError(f"{name}: nothing is called {unknown[0]!r}")
    return found


def _one(where: str, word: object, kind: Callable[[Any], Any]) -> Any:
    try:
        return kind(word)
    except ValueError as error:
        raise OfficeFileError(f"{where} cannot be {word!r}") from error


def _names(
    where: str, table: Mapping[str, Any], name: str, kind: Callable[[Any], Any]
) -> list[Any]:
    rows = table.get(name, [])
    if not isinstance(rows, list) or not all(isinstance(row, str) for row in rows):
        raise OfficeFileError(f"{where}: `{name}` is to be a list of texts")
    return [_one(f"{where}: `{name}`", row, kind) for row in rows]


def _table(data: bytes, known: set[str]) -> Mapping[str, Any]:
    try:
        found = tomllib.loads(data.decode())
    except (ValueError, RecursionError) as error:
        raise OfficeFileError(f"it is no TOML: {error}") from error
    unknown = sorted(found.keys() - known)
    if unknown:
        raise OfficeFileError(
            f"nothing is called {unknown[0]!r}; known are {', '.join(sorted(known))}"
        )
    return found


def waiver_text(waiver: Waiver) -> str:
    """A waiver as such a file has it."""
    lines = ["[[waiver]]"]
    for name in ("rule", "what", "package", "accepted", "by", "why"):
        value = getattr(waiver, name)
        if value is not None:
            lines.append(f"{name} = {_quoted(value)}")
    if waiver.until is not None:
        lines.append(f"until = {waiver.until:%Y-%m-%d}")
    return "\n".join(lines)


def _quoted(text: str) -> str:
    """A basic string of TOML: what has no shape of its own is escaped."""
    signs = {'"': '\\"', "\\": "\\\\"}
    return '"' + "".join(
        signs.get(sign, sign if sign.isprintable() else f"\\u{ord(sign):04x}"
                  if ord(sign) < 0x10000 else f"\\U{ord(sign):08x}")
        for sign in text
    ) + '"'  # fmt: skip
