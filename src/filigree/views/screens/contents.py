"""How the contents of packages are shown: as a table, as a tree, or as totals by role."""

from collections.abc import Iterator, Sequence
from itertools import groupby
from typing import Any

from filigree.model.answer import Answer
from filigree.model.files import Kind
from filigree.questions.commands.contents import Content, ContentsSummary
from filigree.views.options import ContentsOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing
from filigree.views.text import count_words, listed, size_words

_TABLE = (
    Column("path", wrap=True), Column("role"), Column("size", right=True), Column("mode"),
    Column("owner"),
)  # fmt: skip
_FIELDS = Content._fields


def screen(
    answer: Answer[Content, ContentsSummary], ink: Ink, options: ContentsOptions
) -> Iterator[str]:
    """The answer of `contents` for people."""
    summary = answer.summary
    if options.totals:
        yield from _totals(answer, ink)
    else:
        many = summary.packages > 1
        nobody = "not on the disk" if "owner" in summary.observed else "not on record"
        for (package, machine, version), group in groupby(answer.records, key=_whose):
            if many:
                yield ink.paint(line(Piece(package, Style.TITLE), f" {version} {machine}"))
            found = list(group)
            yield from _tree(found, ink) if options.tree else _table(found, ink, nobody)
            yield ""
    parts: list[str | Piece] = [
        Piece(count_words(summary.paths, "path"), Style.TITLE),
        f" of {count_words(summary.packages, 'package')}",
    ]
    if any(row.size is not None for row in answer.records):
        parts.append(f", {size_words(summary.size)} in files")
    if summary.escapes:
        escapes = count_words(summary.escapes, "path")
        parts += ("; ", Piece(f"{escapes} would lead elsewhere", Style.BAD))
    yield from closing(ink, *parts)
    if summary.observed and summary.paths and not options.totals:
        silent = listed([name.replace("-", " ") for name in summary.observed])
        yield from ink.flowed(
            line(
                Piece(f"As found on this disk, for the record does not say: {silent}.", Style.FAINT)
            )
        )


def _whose(row: Content) -> tuple[str, str, str]:
    return row.package, row.architecture, row.version


def titles(options: ContentsOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return ("role", "paths", "size") if options.totals else _FIELDS


def rows(
    answer: Answer[Content, ContentsSummary], options: ContentsOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    if options.totals:
        for role, total in answer.summary.roles.items():
            yield (role, total.paths, total.size)
        return
    yield from answer.records


def _totals(answer: Answer[Content, ContentsSummary], ink: Ink) -> Iterator[str]:
    columns = (Column("role"), Column("paths", right=True), Column("size", right=True))
    totals = answer.summary.roles.items()
    yield from ink.table(
        columns, [(role, f"{t.paths:,}", size_words(t.size)) for role, t in totals]
    )
    yield ""


def _table(records: Sequence[Content], ink: Ink, nobody: str) -> Iterator[str]:
    remarked = any(record.remarks or record.escape for record in records)
    columns = (*_TABLE, Column("remarks", wrap=True)) if remarked else _TABLE
    yield from ink.table(columns, [_cells(record, remarked, nobody) for record in records])


def _cells(record: Content, remarked: bool, nobody: str) -> list[str | Piece]:
    owner: str | Piece = record.owner or Piece(nobody, Style.FAINT)
    if record.group and record.group != record.owner:
        owner = f"{owner}, group {record.group}"
    return [
        Piece(
            _pointing(record.path, record),
            Style.NAME if record.kind is Kind.DIRECTORY else Style.PLAIN,
        ),
        record.role.value,
        size_words(record.size),
        record.mode or "",
        owner,
        *([_remarks(record)] if remarked else []),
    ]


def _remarks(record: Content) -> Piece:
    if record.escape is not None:
        return Piece("; ".join((f"an escape: {record.escape}", *record.remarks)), Style.BAD)
    return Piece("; ".join(record.remarks), Style.FAINT)


def _pointing(name: str, record: Content) -> str:
    return f"{name} → {record.link_target}" if record.link_target else name


def _tree(records: Sequence[Content], ink: Ink) -> Iterator[str]:
    """The paths below one another, each told by its last part."""
    by_path = {record.path: record for record in records}
    below: dict[str, list[str]] = {}
    known = {"/"}
    for path in sorted(by_path):
        while path not in known:
            known.add(path)
            above = path.rpartition("/")[0] or "/"
            below.setdefault(above, []).append(path)
            path = above
    yield "/"
    pending = [iter(sorted(below.get("/", ())))]
    while pending:
        path = next(pending[-1], "")
        if not path:
            pending.pop()
            continue
        margin = "  " * len(pending)
        record = by_path.get(path)
        name = path.rpartition("/")[2]
        if path in below or (record is not None and record.kind is Kind.DIRECTORY):
            yield ink.paint(line(margin, Piece(f"{name}/", Style.NAME)))
            pending.append(iter(sorted(below.get(path, ()))))
        elif record is not None:
            told = ", ".join(filter(None, (record.role.value, size_words(record.size))))
            yield ink.paint(line(f"{margin}{_pointing(name, record)}  ", Piece(told, Style.FAINT)))
