"""How the taking of a snapshot is shown: what is in it, and what is not."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.keeping.taking import SnapshotRow, SnapshotSummary
from filigree.views.options import ViewOptions
from filigree.views.page import Ink, Piece, Style
from filigree.views.screens.words import UNSIGNED, closing, fact, seen
from filigree.views.text import count_words, size_words

_FIELDS = tuple(field.name for field in fields(SnapshotRow))


def screen(
    answer: Answer[SnapshotRow, SnapshotSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The answer of `snapshot` for people."""
    for row in answer.records:
        yield from fact(ink, "snapshot", Piece(row.file, Style.TITLE), f", {size_words(row.size)}")
        if row.host or row.label:
            told = dict.fromkeys(filter(None, (row.label, row.host)))
            yield from fact(ink, "of", ", ".join(told))
        yield from fact(ink, "taken", f"from {seen(row.began)} to {seen(row.ended)}")
        words = f"{count_words(row.paths, 'path')}, digests of {count_words(row.digested, 'file')}"
        yield from fact(ink, "seen", words)
        yield from fact(
            ink, "kept", f"the contents of {count_words(row.contents, 'file')}, ",
            f"{size_words(row.contents_size)} before they were packed",
        )  # fmt: skip
        if row.changed:
            yield from fact(
                ink, "changed", Piece(f"{count_words(row.changed, 'file')} meanwhile", Style.WARN)
            )
        if row.unread:
            yield from fact(
                ink, "unread",
                Piece(f"{count_words(row.unread, 'file')} that could not be read", Style.WARN),
            )  # fmt: skip
        if row.unlisted:
            words = count_words(row.unlisted, "directory", "directories")
            yield from fact(
                ink, "passed over", f"{words} that could not be entered, or are no disk's"
            )
        yield from fact(ink, "signed", "yes" if row.signed else Piece(UNSIGNED, Style.WARN))
    summary = answer.summary
    yield ""
    yield from closing(
        ink, Piece(count_words(summary.packages, "package"), Style.TITLE),
        f" on record; it took {summary.seconds:.1f} s",
    )  # fmt: skip


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[SnapshotRow, SnapshotSummary], options: ViewOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for record in answer.records:
        yield [getattr(record, name) for name in _FIELDS]
