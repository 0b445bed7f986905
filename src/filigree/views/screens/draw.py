"""How a drawn graph is told where no picture is asked for: its nodes, from left to right."""

from collections.abc import Iterator, Sequence
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.commands.draw import DrawSummary, NodeRow, NodeStatus, Side
from filigree.views.options import DrawOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing
from filigree.views.text import count_words, size_words

_FIELDS = (
    "node", "version", "side", "depth", "status", "chosen", "installed_size", "packages",
)  # fmt: skip


def screen(answer: Answer[NodeRow, DrawSummary], ink: Ink, options: DrawOptions) -> Iterator[str]:
    """The answer of `draw` for people."""
    summary = answer.summary
    if not options.into:
        cells: list[list[str | Piece]] = [
            [
                Piece(row.node, Style.BAD if row.status is NodeStatus.UNMET else Style.NAME),
                row.version or "",
                _where(row),
                Piece(_status(row), Style.FAINT),
                size_words(row.installed_size) if row.installed_size is not None else "",
                str(len(row.ties)) if row.ties else "",
            ]
            for row in sorted(answer.records, key=_from_the_left)
        ]
        columns = (
            Column("package", wrap=True), Column("version", wrap=True), Column("where"),
            Column(""), Column("size", right=True), Column("ties", right=True),
        )  # fmt: skip
        if cells:
            yield from ink.table(columns, cells)
            yield ""
    words = f"{count_words(summary.packages, 'package')}, {count_words(summary.ties, 'tie')}"
    parts: list[str | Piece] = [Piece(words, Style.TITLE)]
    if summary.gathered:
        parts.append("; the smaller of crowded levels are told as one")
    if options.into:
        parts.append(f", drawn into {options.into}")
    yield from closing(ink, *parts)
    if not options.into:
        yield from ink.flowed(line(Piece("--into FILE.png draws them.", Style.FAINT)))


def titles(options: DrawOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return ("file", "packages", "ties") if options.into else _FIELDS


def rows(answer: Answer[NodeRow, DrawSummary], options: DrawOptions) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    if options.into:
        yield [options.into, answer.summary.packages, answer.summary.ties]
        return
    for record in answer.records:
        yield [getattr(record, name) for name in _FIELDS]


def _from_the_left(row: NodeRow) -> tuple[int, str]:
    return (-row.depth if row.side is Side.NEEDED_BY else row.depth), row.node


def _where(row: NodeRow) -> str:
    if row.side is Side.SUBJECT:
        return "asked about"
    away = f"{row.depth} step{'s' if row.depth > 1 else ''}"
    return f"needs it, {away} away" if row.side is Side.NEEDED_BY else f"needed, {away} away"


def _status(row: NodeRow) -> str:
    if row.status is NodeStatus.INSTALLED:
        return {True: "chosen", False: "dependency", None: "installed"}[row.chosen]
    return {
        NodeStatus.AVAILABLE: "not installed", NodeStatus.UNMET: "unmet",
        NodeStatus.ARCHIVE: "an archive",
    }.get(row.status, "")  # fmt: skip
