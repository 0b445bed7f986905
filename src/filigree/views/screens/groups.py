"""How groups are shown: a table of all, or the members of each."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.commands.groups import GroupMember, GroupRow, GroupsSummary
from filigree.views.options import GroupsOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing
from filigree.views.text import count_words

_FIELDS = tuple(field.name for field in fields(GroupRow))
_TABLE = (
    Column("group", wrap=True), Column("name", wrap=True), Column("members", right=True),
    Column("installed", right=True), Column("missing", right=True), Column("what for", wrap=True),
)  # fmt: skip
_MEMBERS = (Column("member", wrap=True), Column("belongs"), Column("status"))


def screen(
    answer: Answer[GroupRow, GroupsSummary], ink: Ink, options: GroupsOptions
) -> Iterator[str]:
    """The answer of `groups` for people."""
    rows = answer.records
    if options.detail:
        for row in rows:
            yield ink.paint(line(Piece(row.name, Style.TITLE), f"  {row.summary or ''}"))
            if row.groups:
                yield from ink.flowed(line("  made of ", ", ".join(row.groups)), 4)
            yield from ink.table(_MEMBERS, [_member(one) for one in row.members], 2)
            yield ""
    elif rows:
        yield from ink.table(_TABLE, [_cells(row) for row in rows])
        yield ""
    parts: list[str | Piece] = [Piece(count_words(answer.summary.groups, "group"), Style.TITLE)]
    parts.append(f", {answer.summary.whole:,} with all that belongs to them")
    parts.append(f"; {count_words(answer.summary.installed, 'member')} installed")
    yield from closing(ink, *parts)


def titles(options: GroupsOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return ("group", "member", "membership", "installed", "offered") if options.detail else _FIELDS


def rows(
    answer: Answer[GroupRow, GroupsSummary], options: GroupsOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for record in answer.records:
        if options.detail:
            for one in record.members:
                yield record.identity, one.name, one.membership, one.installed, one.offered
        else:
            yield [getattr(record, name) for name in _FIELDS]


def _cells(row: GroupRow) -> list[str | Piece]:
    return [
        Piece(row.identity, Style.NAME), row.name if row.name != row.identity else "",
        f"{len(row.members):,}", f"{row.installed:,}",
        Piece(f"{row.missing:,}", Style.WARN) if row.missing else "", row.summary or "",
    ]  # fmt: skip


def _member(one: GroupMember) -> list[str | Piece]:
    status = Piece("installed", Style.GOOD)
    if not one.installed:
        status = Piece("missing", Style.WARN) if one.offered else Piece("not offered", Style.BAD)
        if one.offered and one.membership.value in ("optional", "conditional"):
            status = Piece("not installed", Style.FAINT)
    return [Piece(one.name, Style.NAME), one.membership.value, status]
