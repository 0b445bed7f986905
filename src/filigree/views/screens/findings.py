"""How findings are shown: the worst first, each with what it rests on and what to ask next."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.formats.office_files import waiver_text
from filigree.model.answer import Answer
from filigree.model.findings import Finding, Severity
from filigree.questions.rules.findings import FindingsSummary
from filigree.questions.rules.waivers import proposed
from filigree.views.options import FindingsOptions
from filigree.views.page import Ink, Piece, Style, line
from filigree.views.plain import Verbatim
from filigree.views.screens.words import closing, minute
from filigree.views.text import count_words, listed

_FIELDS = tuple(field.name for field in fields(Finding))
_WIDE = 10
_SHOWN = 4
_STYLES = {
    Severity.CRITICAL: Style.BAD, Severity.HIGH: Style.BAD, Severity.MEDIUM: Style.WARN,
    Severity.LOW: Style.FAINT,
}  # fmt: skip


def screen(
    answer: Answer[Finding, FindingsSummary], ink: Ink, options: FindingsOptions
) -> Iterator[str]:
    """The answer of `findings` for people."""
    if options.propose:
        yield from _proposed(answer)
        return
    for row in answer.records:
        title: list[str | Piece] = [
            Piece(row.severity.value.ljust(_WIDE), _STYLES[row.severity]), Piece(row.title),
        ]  # fmt: skip
        yield from ink.flowed(line(*title), _WIDE)
        if row.count > 1 and len(row.paths) > 1 and row.paths[0] not in row.title:
            more = f" and {len(row.paths) - _SHOWN:,} more" if len(row.paths) > _SHOWN else ""
            told = Piece(", ".join(row.paths[:_SHOWN]), Style.NAME)
            yield from ink.flowed(line(" " * _WIDE, told, Piece(more, Style.FAINT)), _WIDE)
        yield from ink.flowed(line(" " * _WIDE, *_beside(row)), _WIDE)
    if answer.records:
        yield ""
    yield from closing(ink, *_summed(answer.summary))


def titles(options: FindingsOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[Finding, FindingsSummary], options: FindingsOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    if options.propose:
        yield from ([Verbatim(text)] for text in _proposed(answer))
        return
    for row in answer.records:
        yield [getattr(row, name) for name in _FIELDS]


def _proposed(answer: Answer[Finding, FindingsSummary]) -> Iterator[str]:
    """Waivers for what is open, as a file has them."""
    for waiver in proposed(answer.records, "write here who accepts it"):
        yield from waiver_text(waiver).splitlines()
        yield ""


def _beside(row: Finding) -> Iterator[str | Piece]:
    """Which rule says so, since when, by which evidence, why, and what to ask next."""
    told = [row.rule]
    if row.since is not None:
        told.append(f"since {minute(row.since)}")
    if row.evidence is not None:
        told.append(
            f"by its {row.evidence.value}"
            if row.evidence.value != "signed"
            else "by what is signed"
        )
    yield Piece("; ".join(told), Style.FAINT)
    for words in (row.cause, row.explained_by):
        if words:
            yield Piece(f"; {words}", Style.WARN)
    if row.waived_by:
        yield Piece(f"; accepted: {', '.join(row.waived_by)}", Style.GOOD)
    yield Piece(f"; ask: {row.advice}", Style.FAINT)


def _summed(summary: FindingsSummary) -> Iterator[str | Piece]:
    still = summary.findings - summary.waived
    if not still:
        yield Piece("Nothing is open" if summary.findings else "Nothing was found", Style.GOOD)
    else:
        counts = [
            f"{summary.by_severity[one]:,} {one.value}"
            for one in Severity
            if one in summary.by_severity
        ]
        yield Piece(count_words(still, "finding"), Style.TITLE)
        yield f" ({listed(counts)})"
    if summary.told < still:
        yield f", {summary.told:,} of them told"
    if summary.waived:
        yield f"; {summary.waived:,} accepted"
    yield f", by {summary.rules} rules"
    if summary.left_out:
        yield Piece(f"; left out: {', '.join(summary.left_out)}", Style.WARN)
