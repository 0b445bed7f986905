"""How it is shown what was handed over."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.reporting.handing import ReportRow, ReportSummary
from filigree.views.options import ViewOptions
from filigree.views.page import Ink, Piece, Style
from filigree.views.screens.words import closing, fact
from filigree.views.text import count_words, size_words

_FIELDS = tuple(field.name for field in fields(ReportRow))


def screen(
    answer: Answer[ReportRow, ReportSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The answer of `report` for people."""
    for row in answer.records:
        yield from fact(ink, "written", Piece(row.file, Style.TITLE), f", {size_words(row.size)}")
        yield from fact(ink, "form", row.form)
        yield from fact(ink, "holds", f"{count_words(row.records, 'record')} of {row.question}")
        yield from fact(ink, "digest", row.digest)
        yield from fact(ink, "signed", "yes" if row.signed else Piece("no", Style.FAINT))
    yield ""
    yield from closing(ink, Piece(count_words(answer.summary.files, "file"), Style.TITLE))


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(answer: Answer[ReportRow, ReportSummary], options: ViewOptions) -> Iterator[Sequence[Any]]:
    """The answer for programs: a row a file."""
    for row in answer.records:
        yield [getattr(row, name) for name in _FIELDS]
