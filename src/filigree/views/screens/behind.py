"""How what is behind is shown: what is for security first, what is ahead last."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.commands.behind import BehindRow, BehindSummary, UpdateStatus
from filigree.views.options import ViewOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing, minute
from filigree.views.text import count_words, size_words

_FIELDS = tuple(field.name for field in fields(BehindRow))
_SEVERE = frozenset({"critical", "important", "high"})


def screen(
    answer: Answer[BehindRow, BehindSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The answer of `behind` for people."""
    left = list(answer.records)
    for title, belongs in _PARTS:
        part = [row for row in left if belongs(row)]
        left = [row for row in left if not belongs(row)]
        if part:
            yield from _part(title, part, ink)
            yield ""
    yield from closing(ink, *_closing(answer))


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(answer: Answer[BehindRow, BehindSummary], options: ViewOptions) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for record in answer.records:
        yield [getattr(record, name) for name in _FIELDS]


_PARTS: tuple[tuple[str, Callable[[BehindRow], bool]], ...] = (
    (
        "Missing for security",
        lambda row: bool(row.security) and row.status is UpdateStatus.BEHIND,
    ),
    (
        "Missing for security, and held or passed over by the system's own rules",
        lambda row: bool(row.security),
    ),
    ("Behind", lambda row: row.status in (UpdateStatus.BEHIND, UpdateStatus.REPLACED)),
    ("Held, where another version would be taken", lambda row: row.status is UpdateStatus.HELD),
    ("To go back to an older version", lambda row: row.status is UpdateStatus.BACKWARDS),
    (
        "Other versions are offered, and nothing tells which is newer",
        lambda row: row.status is UpdateStatus.DIFFERENT,
    ),
    ("Ahead of every repository", lambda row: row.status is UpdateStatus.AHEAD),
)


def _part(title: str, part: Sequence[BehindRow], ink: Ink) -> Iterator[str]:
    """A table; what all of its rows have in common is said once, above them."""
    sources = {row.repository for row in part}
    reasons = {_why(row).text for row in part}
    common = f", from {part[0].repository}" if len(sources) == 1 else ""
    if len(reasons) == 1 and len(part) > 1 and (words := reasons.pop()):
        common += f": {words}"
        reasons = set()
    heading = line(Piece(title, Style.TITLE), common if len(sources) == 1 or not reasons else "")
    yield from ink.flowed(heading, 2)
    ahead = part[0].status is UpdateStatus.AHEAD
    columns = [
        Column("package", wrap=True),
        Column("installed", wrap=True),
        Column("newest offered" if ahead else "candidate", wrap=True),
        *([Column("from", wrap=True)] if len(sources) > 1 else []),
        *([] if ahead else [Column("to fetch", right=True)]),
        *([Column("why", wrap=True)] if reasons - {""} else []),
    ]
    yield from ink.table(columns, [_cells(row, columns) for row in part], 2)


def _cells(row: BehindRow, columns: Sequence[Column]) -> list[str | Piece]:
    candidate = row.candidate or ""
    cells: dict[str, str | Piece] = {
        "package": Piece(row.name, Style.BAD if row.security else Style.NAME),
        "installed": row.installed,
        "newest offered": candidate,
        "candidate": f"{row.candidate_name} {candidate}" if row.candidate_name else candidate,
        "from": row.repository or "",
        "to fetch": size_words(row.size) if row.size is not None else "",
        "why": _why(row),
    }
    return [cells[column.title] for column in columns]


def _why(row: BehindRow) -> Piece:
    words = []
    for advisory in row.advisories:
        if advisory.kind == "security" or not row.security:
            severity = f" ({advisory.severity})" if advisory.severity else ""
            words.append(f"{advisory.identity}{severity}")
    if not words and row.why_security:
        same = row.repository is not None and row.why_security.endswith(row.repository)
        words.append("from a repository for security" if same else row.why_security)
    if row.why and row.status is not UpdateStatus.BEHIND:
        words.append(row.why)
    severe = any(one.severity in _SEVERE for one in row.advisories)
    return Piece("; ".join(words), Style.BAD if severe else Style.PLAIN)


def _closing(answer: Answer[BehindRow, BehindSummary]) -> list[str | Piece]:
    summary = answer.summary
    missing = summary.behind + summary.replaced
    words = f"{count_words(missing, 'package')} of {summary.installed:,} behind"
    parts: list[str | Piece] = [Piece(words, Style.TITLE)]
    if summary.security is None:
        parts += (", ", Piece("and nothing tells what is for security", Style.WARN))
    elif summary.security:
        parts += (", ", Piece(f"{summary.security:,} missing for security", Style.BAD))
    else:
        parts += (", ", Piece("none missing for security", Style.GOOD))
    if missing:
        parts.append(f"; {size_words(summary.size)} to fetch")
    for count, phrase in (
        (summary.different, "of another version"),
        (summary.held, "held"),
        (summary.ahead, "ahead of every repository"),
    ):
        if count:
            parts.append(f"; {count:,} {phrase}")
    if summary.not_offered:
        parts.append(f"; {summary.not_offered:,} that no repository offers")
    made = summary.newest_index_at
    if made is not None:
        parts.append(f". By indexes of up to {minute(made)}")
    if not summary.advisories_told and summary.security:
        parts.append("; no repository tells advisories: security is told by who offers it")
    return parts
