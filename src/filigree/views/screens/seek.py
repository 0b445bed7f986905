"""How what was sought is shown: the best first, with what matched marked in it."""

from collections.abc import Iterator, Sequence
from dataclasses import fields, replace
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.commands.seek import Find, FoundIn, SeekRow, SeekSummary
from filigree.views.options import ViewOptions
from filigree.views.page import Ink, Line, Piece, Style, cells, line
from filigree.views.screens.words import closing
from filigree.views.text import count_words, escaped

_FIELDS = tuple(field.name for field in fields(SeekRow))
_MARKS = "«»"
"""Around what matched where there is no colour to mark it."""


def screen(answer: Answer[SeekRow, SeekSummary], ink: Ink, options: ViewOptions) -> Iterator[str]:
    """The answer of `seek` for people."""
    rows = answer.records
    wide = min(30, max((cells(escaped(row.name)) for row in rows), default=0)) + 2
    for row in rows:
        yield from _row(row, ink, wide)
    if rows:
        yield ""
    yield from closing(ink, *_closing(answer.summary))


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(answer: Answer[SeekRow, SeekSummary], options: ViewOptions) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for record in answer.records:
        yield [getattr(record, name) for name in _FIELDS]


def _row(row: SeekRow, ink: Ink, wide: int) -> Iterator[str]:
    name = _marked(row.name, [f for f in row.matched if f.text == row.name], ink, Style.NAME)
    gap = " " * max(2, wide - sum(cells(escaped(piece.text)) for piece in name))
    summary = row.summary or ""
    told = _marked(summary, [f for f in row.matched if f.text == summary.strip()], ink, Style.PLAIN)
    version = Piece(f"  {row.version}", Style.FAINT)
    here = Piece(_standing(row), Style.GOOD if row.candidate is None else Style.WARN)
    yield from ink.flowed((*name, Piece(gap), *told, version, here), wide)
    for find in row.matched:
        if find.place in (FoundIn.PROVIDED.words, FoundIn.DESCRIPTION.words):
            words = "provides " if find.place == FoundIn.PROVIDED.words else "says "
            around = _around(find, max(40, ink.width - wide - 10) if ink.width else 0)
            marked = _marked(around.text, [around], ink, Style.FAINT)
            yield from ink.flowed((Piece(" " * wide), Piece(words, Style.FAINT), *marked), wide)


def _standing(row: SeekRow) -> str:
    if not row.installed:
        return ""
    return f"  installed; {row.candidate} would be taken" if row.candidate else "  installed"


def _around(find: Find, room: int) -> Find:
    """What was found with no more of the text around it than there is room for."""
    if not room or len(find.text) <= room:
        return find
    start = max(0, min(find.start - room // 3, len(find.text) - room))
    text = find.text[start : start + room]
    return replace(find, text=text, start=find.start - start)


def _marked(text: str, finds: Sequence[Find], ink: Ink, style: Style) -> Line:
    """A text with what matched in it marked: by colour, or by signs around it."""
    taken = [False] * len(text)
    for find in finds:
        for at in range(find.start, min(find.start + find.length, len(text))):
            taken[at] = True
    pieces: list[Piece] = []
    at = 0
    while at < len(text):
        end = at
        while end < len(text) and taken[end] == taken[at]:
            end += 1
        part = text[at:end]
        if taken[at]:
            pieces.append(Piece(part, Style.TITLE if ink.colour else Style.PLAIN))
            if not ink.colour:
                pieces[-1] = Piece(f"{_MARKS[0]}{part}{_MARKS[1]}")
        else:
            pieces.append(Piece(part, style))
        at = end
    return line(*pieces)


def _closing(summary: SeekSummary) -> list[str | Piece]:
    parts: list[str | Piece] = []
    if summary.shown < summary.count:
        parts.append(f"{summary.shown:,} shown of ")
    parts.append(Piece(count_words(summary.count, "package"), Style.TITLE))
    parts.append(f", {summary.installed:,} of them installed")
    return parts
