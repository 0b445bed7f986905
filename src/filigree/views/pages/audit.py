"""An audit as one page: it reads without a script, asks nothing of any network, and carries its JSON."""

import base64
import gzip
import hashlib
import json
from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from enum import Enum
from importlib.resources import files
from typing import Any, NamedTuple

from filigree.model.answer import Answer, iso
from filigree.model.errors import BadQuestion
from filigree.model.findings import Finding, Severity
from filigree.questions.reporting.audit import Audit, AuditPart
from filigree.questions.rules.findings import every_rule
from filigree.questions.timeline.happenings import OF_FILES, Happening
from filigree.questions.verifying.tally import VerifySummary
from filigree.views.handover.shared import Handed, stamp
from filigree.views.pages.plots import bars, first_of, inline, months
from filigree.views.pages.stories import difference, story
from filigree.views.pictures.figure import picture
from filigree.views.plain import json_object
from filigree.views.text import escaped, size_words

_TITLES = {
    AuditPart.FINDINGS: "Findings, worst first", AuditPart.SYSTEM: "The system at a glance",
    AuditPart.FILES: "Files that are not as they came", AuditPart.PACKAGES: "Packages, by size and age",
    AuditPart.TIMELINE: "What happened when", AuditPart.REPOSITORIES: "Repositories",
    AuditPart.KEYS: "Keys that are trusted", AuditPart.BEHIND: "What has a newer version",
    AuditPart.GRAPH: "Around what was found",
}  # fmt: skip
_COLUMNS: dict[AuditPart, tuple[str, ...]] = {
    AuditPart.FILES: ("path", "package", "role", "verdict", "evidence", "differences", "reason"),
    AuditPart.PACKAGES: (
        "name", "version", "architecture", "installed_size", "installed_at", "reason", "state",
    ),
    AuditPart.TIMELINE: ("at", "action", "subject", "version", "before", "by", "told_in", "explained_by"),
    AuditPart.REPOSITORIES: (
        "identity", "enabled", "packages", "made_at", "expires_at", "signature", "configured_in",
    ),
    AuditPart.KEYS: ("fingerprint", "identity", "algorithm", "expires_at", "revoked", "file", "scope"),
    AuditPart.BEHIND: ("name", "installed", "candidate", "repository", "status", "security", "held"),
}  # fmt: skip
_CHUNK = 200
_ALIKE = 3
"""More files than these, alike on a day, are told as one."""
_NUMBERS = frozenset({"installed_size", "packages"})


_KEYS = {
    "auditor": "of the auditor",
    "root": "the root's own: whoever owns it could have put them there",
}


class Cell(NamedTuple):
    """A cell of a table: what is read, and what it is sorted by."""

    text: str
    key: str


@dataclass(frozen=True, slots=True)
class PageTable:
    """A table: the names of its columns, and its rows in chunks that are folded one by one."""

    name: str
    columns: list[str]
    chunks: list[list[list[Cell]]]
    count: int


@dataclass(frozen=True, slots=True)
class PageSection:
    """A part of the page."""

    name: str
    title: str
    words: str
    facts: list[tuple[str, str]]
    table: PageTable | None
    plots: list[tuple[str, str]]
    findings: list[dict[str, Any]]


class PageWords(NamedTuple):
    """What a person wants on the page: a title, and for whom it is."""

    title: str | None = None
    reader: str | None = None


PLAIN = PageWords()


def audit_page(audit: Audit, made: Handed, words: PageWords = PLAIN) -> str:
    """The page. Raises BadQuestion where a library that it takes is missing."""
    try:
        from jinja2 import Environment, StrictUndefined
    except ImportError as error:
        raise BadQuestion(
            "what makes pages is not installed", None, "pip install 'filigree[report]'"
        ) from error
    environment = Environment(
        autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    style, script = _kept("audit.css"), _kept("audit.js")
    counts = Counter(one.severity for one in _findings(audit))
    return environment.from_string(_kept("audit.html")).render(
        title=escaped(words.title or f"Audit of {audit.system.label or audit.system.root}"),
        reader=words.reader and escaped(words.reader), system=_facts_of(audit, made),
        counts=[(one.value, counts.get(one, 0)) for one in Severity], earlier=_earlier(audit),
        sections=[_section(part, answer, audit) for part, answer in audit.parts.items()],
        gaps=[(escaped(gap.what), escaped(gap.why)) for gap in audit.gaps],
        style=style, script=script, script_hash=_hash(script),
        data=_data(audit, made), in_directory=audit.by_hand.directory is not None,
    )  # fmt: skip


def _kept(name: str) -> str:
    return files("filigree.views.pages").joinpath(name).read_text("utf-8")


def _hash(text: str) -> str:
    """The digest by which a content policy lets the script of the page itself pass (CSP 3)."""
    return f"sha256-{base64.b64encode(hashlib.sha256(text.encode()).digest()).decode()}"


def _data(audit: Audit, made: Handed) -> str:
    """The answers themselves as JSON, packed by gzip and told in base64: no sign of that could end the
    element they stand in, and it is a tenth as large."""
    told = {
        "made_by": f"{made.product} {made.version}", "made_at": stamp(made.made_at),
        "parts": {part.value: json_object(answer) for part, answer in audit.parts.items()},
    }  # fmt: skip
    text = json.dumps(told, ensure_ascii=True, separators=(",", ":"))
    return base64.b64encode(gzip.compress(text.encode(), 9, mtime=0)).decode()


def _facts_of(audit: Audit, made: Handed) -> list[tuple[str, str]]:
    system = audit.system
    return [
        ("root", escaped(system.root)), ("system", escaped(system.label)), ("family", system.family),
        ("seen", system.seen_at or iso(audit.asked_at)), ("asked", iso(audit.asked_at)),
        ("made by", f"{made.product} {made.version}"),
    ]  # fmt: skip


def _findings(audit: Audit) -> list[Finding]:
    told = audit.parts.get(AuditPart.FINDINGS)
    return [] if told is None else list(told.records)


def _section(part: AuditPart, answer: Answer[Any, Any], audit: Audit) -> PageSection:
    table = None
    if part in _COLUMNS:
        rows = _together(answer.records) if part is AuditPart.TIMELINE else answer.records
        table = _table(part.value, rows, _COLUMNS[part])
    findings = []
    if part is AuditPart.FINDINGS:
        rules = {rule.facts.identity: rule.facts for rule in every_rule()}
        findings = [story(one, audit, rules) for one in answer.records]
    return PageSection(
        part.value, _TITLES[part], _WORDS[part], list(_facts(part, answer)), table,
        [one for one in _PLOTS.get(part, _none)(answer) if one[1]], findings,
    )  # fmt: skip


def _facts(part: AuditPart, answer: Answer[Any, Any]) -> Iterator[tuple[str, str]]:
    if part is AuditPart.FILES and answer.summary is not None:
        yield from _asked_of_files(answer.summary)
    if part is not AuditPart.SYSTEM:
        return
    (one,) = answer.records
    for name in (
        "architecture", "packages", "installed_size", "paths", "distinct_paths", "newest_change",
        "newest_package", "reasons", "states", "held_packages", "troubled_packages",
    ):  # fmt: skip
        text = _cell(name, getattr(one, name)).text
        if text:
            yield name.replace("_", " "), text


def _asked_of_files(told: VerifySummary) -> Iterator[tuple[str, str]]:
    """What was judged, with what it was held against."""
    yield "judged", f"{told.paths:,} paths of {told.packages:,} packages"
    yield "verdicts", _counted(told.verdicts)
    yield "held against", _counted(told.paths_by_evidence)
    yield "compared", ", ".join(one.value for one in told.compared)
    yield "keys", _KEYS[told.keys_of]
    if told.not_judged:
        yield "packages not judged", escaped(_counted(told.not_judged))


def _counted(counts: Mapping[Any, int]) -> str:
    every = ((getattr(one, "value", one), count) for one, count in counts.items() if count)
    return ", ".join(f"{name} {count:,}" for name, count in every)


def _earlier(audit: Audit) -> dict[str, Any] | None:
    """What was found in an earlier state and is not found now."""
    told = audit.earlier
    if told is None:
        return None
    system = told.system
    return {
        "seen": f"{system.label or system.root}, {system.seen_at or 'as it is now'}",
        "gone": [
            (one.severity.value, escaped(one.title), escaped(one.rule), escaped(one.package or ""))
            for one in told.gone
        ],
        "count": len(told.gone), "new": len(told.new),
    }  # fmt: skip


def _together(rows: Sequence[Happening]) -> list[Happening]:
    """Happenings, those of files that are alike on a day as one: each by itself is in the data."""
    found: list[Happening] = []
    groups: dict[tuple[object, ...], list[Happening]] = {}
    for row in rows:
        if row.action not in OF_FILES:
            found.append(row)
            continue
        day = row.at and row.at.date()
        key = (day, row.action, row.package, row.explained_by is None, row.rank)
        groups.setdefault(key, []).append(row)
    for those in groups.values():
        first = those[0]
        if len(those) > _ALIKE:
            more = f"{first.subject} and {len(those) - 1:,} more that day"
            told = None if first.explained_by is None else "each explained"
            found.append(replace(first, subject=more, explained_by=told))
        else:
            found += those
    return sorted(found, key=lambda row: (row.at is None, row.at))


def _table(name: str, records: Sequence[Any], columns: Sequence[str]) -> PageTable:
    rows = [
        [_cell(column, getattr(record, column, None)) for column in columns] for record in records
    ]
    chunks = [rows[at : at + _CHUNK] for at in range(0, len(rows), _CHUNK)]
    return PageTable(name, [column.replace("_", " ") for column in columns], chunks, len(rows))


def _cell(name: str, value: Any) -> Cell:
    """A value, as it is read and as it is sorted."""
    if value is None:
        return Cell("", "")
    if isinstance(value, bool):
        return Cell("yes" if value else "no", str(int(value)))
    if isinstance(value, datetime):
        return Cell(f"{iso(value)[:16].replace('T', ' ')}", iso(value))
    if isinstance(value, int):
        text = size_words(value) if name.endswith("size") else f"{value:,}"
        return Cell(text, f"{value:020d}")
    if isinstance(value, dict):
        told = ", ".join(f"{_cell('', one).text} {count:,}" for one, count in value.items())
        return Cell(told, told)
    if isinstance(value, (list, tuple, frozenset, set)) and not hasattr(value, "_fields"):
        told = "; ".join(_cell("", one).text for one in value)
        return Cell(told, told)
    if hasattr(value, "aspect"):
        text = difference(value)
        return Cell(text, text)
    text = escaped(str(value.value if isinstance(value, Enum) else value))
    return Cell(text, text)


def _none(_: Answer[Any, Any]) -> list[tuple[str, str]]:
    return []


def _file_plots(answer: Answer[Any, Any]) -> list[tuple[str, str]]:
    roles = Counter(row.role.value for row in answer.records if not row.verdict.quiet)
    owners = Counter(row.package for row in answer.records if not row.verdict.quiet)
    return [
        (first_of(caption, counted), bars(name, [*counted.items()], "files", bad=True))
        for name, caption, counted in (
            ("roles", "Files that are not as they came, by role", roles),
            ("owners", "The same, by package", owners),
        )
    ]


def _package_plots(answer: Answer[Any, Any]) -> list[tuple[str, str]]:
    sizes = [(row.name, row.installed_size / 1e6) for row in answer.records if row.installed_size]
    times = (row.installed_at for row in answer.records)
    return [
        (first_of("The largest packages", sizes), bars("sizes", sizes, "MB installed")),
        ("When what is here came", months("ages", times, "packages")),
    ]  # fmt: skip


def _time_plots(answer: Answer[Any, Any]) -> list[tuple[str, str]]:
    times = (row.at for row in answer.records)
    return [("How much happened in each month", months("time", times, "happenings"))]


def _graph_plots(answer: Answer[Any, Any]) -> list[tuple[str, str]]:
    svg = picture(answer, "svg").decode()
    return [("Packages of findings, and what is one step from them", inline(svg, "graph"))]


_PLOTS: dict[AuditPart, Callable[[Answer[Any, Any]], list[tuple[str, str]]]] = {
    AuditPart.FILES: _file_plots, AuditPart.PACKAGES: _package_plots, AuditPart.TIMELINE: _time_plots,
    AuditPart.GRAPH: _graph_plots,
}  # fmt: skip
_WORDS = {
    AuditPart.FINDINGS: "Each is made of all that belongs together. What it rests on stands beside it: "
    "“record” is the system's own word, which whoever owns the machine could have made to fit; only "
    "“signed” traces to a key.",
    AuditPart.SYSTEM: "What the records tell.",
    AuditPart.FILES: "Held against what is on record, or against archives where there are any. To check "
    "a row by hand: compute the digest of the file with a program of your own, from outside of the "
    "system, and hold it against the archive that the package came in, whose signature you verified.",
    AuditPart.PACKAGES: "The largest first. Why each is here, and since when, is what the records tell.",
    AuditPart.TIMELINE: "The earliest first. A time is worth as much as what tells it: a log is the "
    "system's own, a file's time can be set by whoever may write to it. Files that are alike on a day "
    "stand as one; each is in the data of this page.",
    AuditPart.REPOSITORIES: "By the copies of their indexes that are here.",
    AuditPart.KEYS: "To check a fingerprint by hand, ask whoever owns the key on another way.",
    AuditPart.BEHIND: "By the indexes that are here: what is newer than those is not told.",
    AuditPart.GRAPH: "Who needs what, one step around the packages of the worst findings.",
}
