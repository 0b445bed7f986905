"""How a refreshing is shown: a repository a row, and what is to be said of it."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.commands.refresh import FetchOutcome, RefreshRow, RefreshSummary
from filigree.views.options import ViewOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing, day
from filigree.views.text import count_words, size_words

_FIELDS = tuple(field.name for field in fields(RefreshRow))
_TABLE = (
    Column("repository", wrap=True), Column("for"), Column("outcome"), Column("packages", right=True),
    Column("sent", right=True), Column("made"), Column("expires"), Column("signature"),
)  # fmt: skip
_STYLES = {
    FetchOutcome.FETCHED: Style.GOOD, FetchOutcome.UNCHANGED: Style.PLAIN,
    FetchOutcome.REFUSED: Style.BAD,
    FetchOutcome.FAILED: Style.WARN,
}  # fmt: skip
_OLDER_SHOWN = 5


def screen(
    answer: Answer[RefreshRow, RefreshSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The answer of `refresh` for people."""
    rows = answer.records
    if rows:
        yield from ink.table(_TABLE, [_cells(row) for row in rows])
        yield ""
    for row in rows:
        # What failed is told among the gaps.
        told = [row.why] if row.why and row.outcome is FetchOutcome.REFUSED else []
        told += row.remarks
        told += (f"it offers {one}" for one in row.older[:_OLDER_SHOWN])
        if len(row.older) > _OLDER_SHOWN:
            told.append(f"and {len(row.older) - _OLDER_SHOWN:,} more that are older than before")
        for words in told:
            yield from ink.flowed(line(Piece(row.identity, Style.NAME), f": {words}"), 4)
    if any(row.outcome is FetchOutcome.REFUSED or row.remarks or row.older for row in rows):
        yield ""
    summary = answer.summary
    number = count_words(summary.repositories, "index", "indexes")
    parts: list[str | Piece] = [Piece(number, Style.TITLE), f", {size_words(summary.sent)} sent"]
    for outcome, count in (
        (FetchOutcome.FETCHED, summary.fetched), (FetchOutcome.UNCHANGED, summary.unchanged),
        (FetchOutcome.REFUSED, summary.refused), (FetchOutcome.FAILED, summary.failed),
    ):  # fmt: skip
        if count:
            parts += ("; ", Piece(f"{count:,} {outcome.value}", _STYLES[outcome]))
    yield from closing(ink, *parts)


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[RefreshRow, RefreshSummary], options: ViewOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for record in answer.records:
        yield [getattr(record, name) for name in _FIELDS]


def _cells(row: RefreshRow) -> list[str | Piece]:
    return [
        Piece(row.identity, Style.NAME), row.architecture or "",
        Piece(row.outcome.value, _STYLES[row.outcome]),
        f"{row.packages:,}" if row.packages is not None else "", size_words(row.sent),
        day(row.made_at), day(row.expires_at), row.signature.value if row.signature else "",
    ]  # fmt: skip
