"""How what is left over is shown: in the groups that hang together, the largest first."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from itertools import groupby
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.commands.leftover import LeftoverRow, LeftoverSummary
from filigree.views.options import ViewOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing
from filigree.views.text import count_words, size_words

_FIELDS = tuple(field.name for field in fields(LeftoverRow))


def screen(
    answer: Answer[LeftoverRow, LeftoverSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The answer of `leftover` for people."""
    cells: list[list[str | Piece]] = []
    machines = len({row.architecture for row in answer.records}) > 1
    for number, group in groupby(answer.records, key=lambda row: row.cluster):
        for at, row in enumerate(group):
            name = f"{row.name}:{row.architecture}" if machines else row.name
            cells.append([
                Piece(str(number) if at == 0 else "", Style.FAINT), Piece(name, Style.NAME),
                row.version, size_words(row.installed_size or 0), _why(row),
            ])  # fmt: skip
    if cells:
        columns = (
            Column("cluster", right=True), Column("left over", wrap=True),
            Column("version", wrap=True), Column("size", right=True), Column("needed by", wrap=True),
        )  # fmt: skip
        yield from ink.table(columns, cells)
        yield ""
    summary = answer.summary
    number = count_words(summary.packages, "package")
    parts: list[str | Piece] = [
        Piece(f"{number} left over" if cells else "Nothing is left over", Style.TITLE)
    ]
    if cells:
        parts.append(
            f" in {count_words(summary.clusters, 'cluster')}, "
            f"{size_words(summary.installed_size)}; {summary.leaves:,} that nothing needs"
        )
        if summary.islands:
            parts.append(f", {summary.islands:,} in circles that keep themselves")
    yield from closing(ink, *parts)
    default = ", by this system's own settings" if summary.by_default else ""
    kinds = ", ".join(kind.replace("-", " ") for kind in summary.kinds)
    yield from ink.flowed(line(Piece(f"What counts: {kinds}{default}.", Style.FAINT)))
    if summary.reasons_unknown:
        words = count_words(summary.reasons_unknown, "package")
        yield from ink.flowed(
            line(
                Piece(
                    f"Of {words} it is not on record why it is here: taken as chosen.", Style.WARN
                )
            )
        )


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[LeftoverRow, LeftoverSummary], options: ViewOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for record in answer.records:
        values = [getattr(record, name) for name in _FIELDS]
        yield [" ".join(value) if isinstance(value, list) else value for value in values]


def _why(row: LeftoverRow) -> Piece:
    if row.leaf:
        return Piece("nothing", Style.GOOD)
    names = ", ".join(row.needed_by[:4]) + (" …" if len(row.needed_by) > 4 else "")
    return Piece(f"{names}, in a circle" if row.island else names, Style.FAINT)
