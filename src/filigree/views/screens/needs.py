"""How needs are shown: a tree, or a table of one level."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.model.needs import Relation
from filigree.questions.needs import NeedRow, Standing
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing
from filigree.views.text import count_words, size_words

_FIELDS = tuple(field.name for field in fields(NeedRow))
_REPEATS = {"cycle": "(a cycle: it led here)", "folded": "(its own are told elsewhere)"}


def screen(answer: Answer[NeedRow], ink: Ink, options: dict[str, Any]) -> Iterator[str]:
    backwards = answer.question == "needed-by"
    start = 0
    for subject in answer.summary["subjects"]:
        group = answer.records[start : start + subject["records"]]
        start += subject["records"]
        same = [s for s in answer.summary["subjects"] if s["name"] == subject["name"]]
        machine = f" {subject['architecture']}" if len(same) > 1 else ""
        yield ink.paint(
            line(Piece(subject["name"], Style.TITLE), f" {subject['version']}{machine}")
        )
        if not group:
            where = "" if answer.summary["scope"] == "any" else f" {answer.summary['scope']}"
            nothing = f"nothing{where} needs it" if backwards else "it needs nothing"
            yield ink.paint(line("  ", Piece(nothing, Style.FAINT)))
        elif any(row.depth > 1 for row in group):
            yield from _tree(group, ink, backwards)
        else:
            yield from _table(group, ink, backwards)
        yield ""
    yield from closing(ink, *_closing(answer, backwards))


def titles(options: dict[str, Any]) -> Sequence[str]:
    return _FIELDS


def rows(answer: Answer[NeedRow], options: dict[str, Any]) -> Iterator[Sequence[Any]]:
    for record in answer.records:
        yield [getattr(record, name) for name in _FIELDS]


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


def _tree(group: Sequence[NeedRow], ink: Ink, backwards: bool) -> Iterator[str]:
    for row in group:
        margin = "  " * row.depth
        parts: list[str | Piece] = [margin]
        if row.status is Standing.UNMET:
            parts += (Piece(row.requirement, Style.BAD), "  ", Piece("unmet", Style.BAD))
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
                words = f"  not installed; {row.repository} offers it"
                parts.append(Piece(words, Style.FAINT if backwards else Style.WARN))
        if row.kind not in (Relation.REQUIRES, Relation.REQUIRES_FIRST):
            parts.append(Piece(f"  {_kind(row)}", Style.FAINT))
        if row.repeat:
            parts.append(Piece(f"  {_REPEATS[row.repeat]}", Style.FAINT))
        yield from ink.flowed(line(*parts), len(margin) + 4)


def _kind(row: NeedRow) -> str:
    return row.kind.value.replace("-", " ")


def _met(row: NeedRow, several: bool) -> Piece:
    if row.status is Standing.UNMET:
        return Piece("unmet", Style.BAD if row.kind.hard else Style.FAINT)
    if row.name is None:
        return Piece(row.reason or "", Style.FAINT)
    style = Style.WARN if row.status is Standing.AVAILABLE else Style.NAME
    return Piece(f"{row.name}:{row.architecture}" if several else row.name, style)


def _closing(answer: Answer[NeedRow], backwards: bool) -> list[str | Piece]:
    summary = answer.summary
    number = count_words(summary["packages"], "package")
    parts: list[str | Piece] = [Piece(number, Style.TITLE)]
    parts.append(" would be affected" if backwards else " needed")
    parts.append(f", {size_words(summary['installed_size'])} installed")
    if summary["to_fetch"]:
        words = f"{summary['to_fetch']:,} of them not installed"
        if not backwards:
            words += f", {size_words(summary['fetch_size'])} to fetch"
        parts.append(f", {words}")
    if summary["deepest"] > 1:
        parts.append(f", up to {summary['deepest']} steps away")
    if not backwards:
        unmet = summary["unmet"]
        parts.append("; ")
        parts.append(
            Piece(f"{unmet:,} unmet", Style.BAD)
            if unmet
            else Piece("every need is met", Style.GOOD)
        )
    return parts
