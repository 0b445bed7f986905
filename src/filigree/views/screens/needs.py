"""How needs are shown: a tree, or a table of one level."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from itertools import groupby
from operator import attrgetter
from typing import Any

from filigree.model.answer import Answer
from filigree.model.needs import Relation
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.needs import Layout, NeedRow, NeedsSummary
from filigree.questions.dependencies.need_status import NeedStatus
from filigree.views.options import NeedsOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing
from filigree.views.text import count_words, size_words

_FIELDS = tuple(field.name for field in fields(NeedRow))
_WOULD_MEET = _FIELDS.index("would_meet")
"""The one field that is a list: in one cell, as subjects."""
_cells = attrgetter(*_FIELDS)
_REPEATS = {"cycle": "(a cycle: it led here)", "folded": "(its own are told elsewhere)"}


def screen(answer: Answer[NeedRow, NeedsSummary], ink: Ink, options: NeedsOptions) -> Iterator[str]:
    """The answer of `needs` for people."""
    backwards = answer.question == "needed-by"
    start = 0
    if options.count:
        yield from closing(ink, *_closing(answer, backwards))
        return
    for subject in answer.summary.subjects:
        group = answer.records[start : start + subject.records]
        start += subject.records
        same = [s for s in answer.summary.subjects if s.name == subject.name]
        machine = f" {subject.architecture}" if len(same) > 1 else ""
        yield ink.paint(line(Piece(subject.name, Style.TITLE), f" {subject.version}{machine}"))
        if not group:
            where = "" if answer.summary.scope is Scope.ANY else f" {answer.summary.scope.value}"
            nothing = f"nothing{where} needs it" if backwards else "it needs nothing"
            yield ink.paint(line("  ", Piece(nothing, Style.FAINT)))
        elif answer.summary.layout is Layout.FLAT:
            yield from _flat(group, ink, backwards)
        elif answer.summary.layout is Layout.LEVELS:
            yield from _levels(group, ink)
        elif any(row.depth > 1 for row in group):
            yield from _tree(group, ink, backwards)
        else:
            yield from _table(group, ink, backwards)
        yield ""
    yield from closing(ink, *_closing(answer, backwards))


def titles(options: NeedsOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(answer: Answer[NeedRow, NeedsSummary], options: NeedsOptions) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    if options.count:
        yield [answer.summary.packages, answer.summary.installed_size]
    for record in answer.records:
        cells = list(_cells(record))
        if record.would_meet:
            told = (f"{one.name}={one.version}" for one in record.would_meet)
            cells[_WOULD_MEET] = " ".join(told)
        else:
            cells[_WOULD_MEET] = None
        yield cells


def _table(group: Sequence[NeedRow], ink: Ink, backwards: bool) -> Iterator[str]:
    offered = any(row.repository for row in group)
    columns: tuple[Column, ...]
    if backwards:
        columns = (
            Column("needed by", wrap=True),
            Column("version"),
            Column("how"),
            Column("as", wrap=True),
            *([Column("offered by", wrap=True)] if offered else []),
        )
        table = [_backward_cells(row) for row in group]
    else:
        columns = (
            Column("need", wrap=True),
            Column("how"),
            Column("met by", wrap=True),
            Column("version"),
            *([Column("offered by", wrap=True)] if offered else []),
        )
        ends = {(row.name, row.architecture) for row in group}
        names = [name for name, _ in ends]
        table = [_forward_cells(row, names.count(row.name) > 1) for row in group]
    if offered:
        table = [[*cells, row.repository or ""] for cells, row in zip(table, group, strict=True)]
    yield from ink.table(columns, table, indent=2)


def _backward_cells(row: NeedRow) -> list[str | Piece]:
    return [Piece(row.name or "", Style.NAME), row.version or "", _kind(row), row.requirement]


def _forward_cells(row: NeedRow, several: bool) -> list[str | Piece]:
    return [row.requirement, _kind(row), _met(row, several), row.version or ""]


def _flat(group: Sequence[NeedRow], ink: Ink, backwards: bool) -> Iterator[str]:
    """Each package once, with how far away it is."""
    offered = any(row.repository for row in group)
    columns = [
        Column("away", right=True), Column("package", wrap=True), Column("version", wrap=True),
        Column("how"), Column("needs" if backwards else "for", wrap=True),
    ]  # fmt: skip
    columns += [Column("to fetch", right=True), Column("offered by", wrap=True)] if offered else []
    cells: list[list[str | Piece]] = []
    for row in group:
        name = Piece(row.name, Style.NAME) if row.name else _met(row, several=False)
        how = f"{_kind(row)}, chosen" if backwards and row.chosen else _kind(row)
        asked = row.requirement if backwards else f"{row.requirement}, by {row.via}"
        cells.append([str(row.depth), name, row.version or "", how, asked])
        if offered:
            size = size_words(row.archive_size) if row.archive_size is not None else ""
            cells[-1] += [size, Piece(row.repository or "", Style.WARN)]
        if row.would_meet:
            cells[-1][1] = Piece(f"unmet{_offers(row)}", Style.BAD)
    yield from ink.table(columns, cells, indent=2)


def _levels(group: Sequence[NeedRow], ink: Ink) -> Iterator[str]:
    """The names by how far away they are."""
    for depth, rows in groupby(group, key=lambda row: row.depth):
        level = list(rows)
        head = f"{depth} step{'s' if depth > 1 else ''} away, {len(level):,}: "
        pieces: list[str | Piece] = ["  ", Piece(head, Style.FAINT)]
        for at, row in enumerate(level):
            end = ", " if at < len(level) - 1 else ""
            if row.name is None and row.status is NeedStatus.UNMET:
                pieces.append(Piece(f"{row.requirement} (unmet){end}", Style.BAD))
            else:
                style = Style.WARN if row.repository else Style.NAME
                pieces.append(Piece(f"{row.name or row.requirement}{end}", style))
        yield from ink.flowed(line(*pieces), 4)


def _offers(row: NeedRow) -> str:
    """What would meet a need that nothing meets."""
    if not row.would_meet:
        return ""
    one = row.would_meet[0]
    size = f", {size_words(one.archive_size)}" if one.archive_size is not None else ""
    return f"; {one.repository} offers {one.name} {one.version}{size}"


def _tree(group: Sequence[NeedRow], ink: Ink, backwards: bool) -> Iterator[str]:
    for row in group:
        margin = "  " * row.depth
        parts: list[str | Piece] = [margin]
        if row.status is NeedStatus.UNMET:
            parts += (Piece(row.requirement, Style.BAD), "  ", Piece("unmet", Style.BAD))
            parts.append(Piece(_offers(row), Style.WARN))
        elif row.status is None:
            parts.append(row.requirement)
        elif row.name is None:
            parts += (row.requirement, Piece(f"  {row.reason}", Style.FAINT))
        else:
            parts += (Piece(row.name, Style.NAME), f" {row.version}")
            asked = f"  needs {row.requirement}" if backwards else f"  for {row.requirement}"
            if backwards or row.requirement != row.name:
                parts.append(Piece(asked, Style.FAINT))
            if row.repository:
                size = (
                    f", {size_words(row.archive_size)}"
                    if row.archive_size and not backwards
                    else ""
                )
                words = f"  not installed; {row.repository} offers it{size}"
                parts.append(Piece(words, Style.FAINT if backwards else Style.WARN))
        if row.kind not in (Relation.REQUIRES, Relation.REQUIRES_FIRST):
            parts.append(Piece(f"  {_kind(row)}", Style.FAINT))
        if row.repeat:
            parts.append(Piece(f"  {_REPEATS[row.repeat]}", Style.FAINT))
        yield from ink.flowed(line(*parts), len(margin) + 4)


def _kind(row: NeedRow) -> str:
    return row.kind.value.replace("-", " ")


def _met(row: NeedRow, several: bool) -> Piece:
    if row.status is NeedStatus.UNMET:
        return Piece(f"unmet{_offers(row)}", Style.BAD if row.kind.hard else Style.FAINT)
    if row.name is None:
        return Piece(row.reason or "", Style.FAINT)
    style = Style.WARN if row.status is NeedStatus.AVAILABLE else Style.NAME
    return Piece(f"{row.name}:{row.architecture}" if several else row.name, style)


def _closing(answer: Answer[NeedRow, NeedsSummary], backwards: bool) -> list[str | Piece]:
    summary = answer.summary
    number = count_words(summary.packages, "package")
    parts: list[str | Piece] = [Piece(number, Style.TITLE)]
    parts.append(" would be affected" if backwards else " needed")
    parts.append(f", {size_words(summary.installed_size)} installed")
    if summary.to_fetch:
        words = f"{summary.to_fetch:,} of them not installed"
        if not backwards:
            words += f", {size_words(summary.fetch_size)} to fetch"
        parts.append(f", {words}")
    if summary.deepest > 1:
        parts.append(f", up to {summary.deepest} steps away")
    if not backwards:
        unmet = summary.unmet
        parts.append("; ")
        parts.append(
            Piece(f"{unmet:,} unmet", Style.BAD)
            if unmet
            else Piece("every need is met", Style.GOOD)
        )
    return parts
