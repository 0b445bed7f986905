"""How strays are shown: what runs with others' rights first, whole folders of nobody's in one line."""

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.model.files import Kind
from filigree.questions.commands.strays import Stray, StraysSummary, by_directory, folder_of
from filigree.questions.finding.causes import Cause
from filigree.questions.finding.ranks import Rank
from filigree.views.options import StraysOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing, day, in_layers
from filigree.views.text import count_words, listed, size_words

_FIELDS = tuple(field.name for field in fields(Stray))
_TABLE = (
    Column("path", wrap=True), Column("kind"), Column("size", right=True), Column("owner"),
    Column("mode"), Column("changed"), Column("why it is there", wrap=True),
)  # fmt: skip
_CAUSES = (Column("paths", right=True), Column("cause"), Column("", wrap=True))
_WORDS = {
    Cause.ALTERNATIVE: "links that choose between programs",
    Cause.BYTECODE: "made of a source that is a package's",
    Cause.DIVERTED: "in the place of what is diverted",
    Cause.TEMPORARY: "by a declared policy for temporary files",
    Cause.USERS: "accounts, by a declared policy",
    Cause.KEPT: "other states of configuration, kept when a package changed",
    Cause.DATABASE: "of the package database itself",
    Cause.LOG: "among the logs",
    Cause.LINK: "links that lead to a package's file",
    Cause.SCRIPT: "a package's script speaks of them",
}
_TITLES = {
    Rank.RIGHTS: "Runs with somebody else's rights",
    Rank.PROGRAM: "Can be run",
    Rank.OTHER: "The rest",
}
_STYLES = {Rank.RIGHTS: Style.BAD, Rank.PROGRAM: Style.WARN, Rank.OTHER: Style.TITLE}


def screen(answer: Answer[Stray, StraysSummary], ink: Ink, options: StraysOptions) -> Iterator[str]:
    """The answer of `strays` for people."""
    for rank in Rank:
        found = [row for row in answer.records if row.rank is rank]
        if not found:
            continue
        yield ink.paint(line(Piece(_TITLES[rank], _STYLES[rank])))
        # What is harmless and has a cause is counted: a system has tens of thousands of those.
        brief = rank is Rank.OTHER and not options.every
        told = [row for row in found if not brief or row.cause is None]
        if told:
            table = _TABLE if any(row.cause or row.layers for row in told) else _TABLE[:-1]
            folded = rank is Rank.OTHER and not options.unfold
            lines = _lines(told) if folded else map(_path, told)
            yield from ink.table(table, [line_[: len(table)] for line_ in lines], indent=2)
            yield ""
        if brief:
            yield from _by_cause([row for row in found if row.cause is not None], ink)
    yield from closing(ink, *_closing(answer.summary))


def titles(options: StraysOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(answer: Answer[Stray, StraysSummary], options: StraysOptions) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for record in answer.records:
        yield [getattr(record, name) for name in _FIELDS]


def _lines(found: Sequence[Stray]) -> Iterator[list[str | Piece]]:
    """A line a path, but one for all in a folder of nobody's."""
    folders = by_directory(found)
    for row in found:
        folder = folder_of(row)
        held = folders.get(folder)
        if held is None:
            yield _path(row)
        elif held[0] is row:
            yield _folder(folder, held)


def _by_cause(found: Sequence[Stray], ink: Ink) -> Iterator[str]:
    counts = Counter(row.cause for row in found if row.cause is not None)
    if not counts:
        return
    lines = [
        [f"{count:,}", cause.value, Piece(_WORDS[cause], Style.FAINT)]
        for cause, count in counts.most_common()
    ]
    yield ink.paint(line(Piece("The rest, with a cause", Style.TITLE), "  (--all lists them)"))
    yield from ink.table(_CAUSES, lines, indent=2)
    yield ""


def _path(row: Stray) -> list[str | Piece]:
    return [
        Piece(row.path, Style.NAME), row.kind.value, _size([row]),
        row.owner if row.owner == row.group else f"{row.owner}:{row.group}", row.mode, day(row.modified),
        _why([row]),
    ]  # fmt: skip


def _folder(folder: str, held: Sequence[Stray]) -> list[str | Piece]:
    owners = sorted({row.owner for row in held})
    changed = max((row.modified for row in held if row.modified), default=None)
    return [
        Piece(f"{folder}/", Style.NAME), f"{len(held):,} in it",
        _size(held), listed(owners[:2]), "",
        day(changed), _why(held),
    ]  # fmt: skip


def _size(held: Sequence[Stray]) -> str:
    sizes = [row.size for row in held if row.kind is Kind.FILE]
    return size_words(sum(sizes)) if sizes else ""


def _why(held: Sequence[Stray]) -> Piece:
    if len(held) == 1:
        (row,) = held
        why = f"{row.cause.value}: {row.detail}" if row.cause else ""
        return Piece("; ".join(filter(None, (why, in_layers(row.layers)))), Style.FAINT)
    causes = sorted({row.cause.value for row in held if row.cause})
    bare = sum(row.cause is None for row in held)
    if not causes:
        return Piece("", Style.FAINT)
    return Piece(listed(causes) + (f"; {bare:,} without a cause" if bare else ""), Style.FAINT)


def _closing(summary: StraysSummary) -> list[str | Piece]:
    parts: list[str | Piece] = [
        Piece(count_words(summary.strays, "path"), Style.TITLE),
        f" of no package, {size_words(summary.size)}, of {summary.looked_at:,} looked at",
    ]
    for rank, words in (
        (Rank.RIGHTS, "with somebody else's rights"),
        (Rank.PROGRAM, "that can be run"),
    ):
        if summary.ranks[rank.value]:
            parts += ("; ", Piece(f"{summary.ranks[rank.value]:,} {words}", _STYLES[rank]))
    parts.append(f"; for {summary.without_cause:,} nothing tells why")
    return parts
