"""How owners are shown."""

from collections.abc import Iterator, Sequence
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.commands.owner import OwnerName, OwnerSummary, PathOwners
from filigree.questions.finding.ownership import How
from filigree.views.options import OwnerOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing, in_layers
from filigree.views.text import count_words

_WORDS = {
    How.LISTED: "on its list",
    How.ALIAS: "the same file by another path",
    How.DIVERTED: "its copy was moved here",
    How.ALTERNATIVE: "chosen among alternatives",
    How.GENERATED: "made when it was installed",
    How.OFFERED: "it would bring it",
}
_MANY = 4


def screen(
    answer: Answer[PathOwners, OwnerSummary], ink: Ink, options: OwnerOptions
) -> Iterator[str]:
    """The answer of `owner` for people."""
    columns = (
        Column("path", wrap=True),
        Column("comes from", wrap=True),
        Column("version"),
        Column("how we know"),
    )
    table = [
        cells
        for found in answer.records
        if len(found.owners) <= _MANY
        for cells in _cells(found, options.inside, options.offered)
    ]
    if table:
        yield from ink.table(columns, table)
        yield ""
    for found in answer.records:
        if len(found.owners) > _MANY:
            yield from _shared(found, ink)
            yield ""
    summary = answer.summary
    parts: list[str | Piece] = [Piece(count_words(summary.paths, "path"), Style.TITLE)]
    parts.append(f", {summary.owned:,} from a package")
    if summary.of_nobody:
        parts += (", ", Piece(f"{summary.of_nobody:,} of nobody's", Style.BAD))
    yield from closing(ink, *parts)


def titles(options: OwnerOptions) -> Sequence[str]:
    """What each part of a row is called."""
    own = ("path", "resolved", "name", "version", "architecture", "how")
    if options.offered:
        return (*own, "repository")
    return (*own, "archive") if options.inside else (*own, "layers")


def rows(
    answer: Answer[PathOwners, OwnerSummary], options: OwnerOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for found in answer.records:
        if not found.owners:
            yield (found.path, found.resolved, None, None, None, None, _last(found, None, options))
        for owner in found.owners:
            end = (owner.name, owner.version, owner.architecture, owner.how)
            yield (found.path, found.resolved, *end, _last(found, owner, options))


def _last(found: PathOwners, owner: OwnerName | None, options: OwnerOptions) -> Any:
    """What ends a row: who offers the package, in which archive it is, or the layers of the path."""
    if options.offered:
        return owner.repository if owner else None
    if options.inside:
        return owner.archive if owner else None
    return found.layers


def _cells(found: PathOwners, inside: bool, offered: bool) -> Iterator[list[str | Piece]]:
    path = found.path
    if found.resolved is not None and found.resolved != path:
        path = f"{path} → {found.resolved}"
    if not found.owners:
        there = "of nobody's" if found.resolved or found.dead_end else "there is no such path"
        if offered and not found.resolved:
            there = "in no index of paths"
        if inside:
            there = "in none of the archives"
        yield [path, Piece(there, Style.BAD), "", in_layers(found.layers)]
    for owner in found.owners:
        how = f"{_WORDS[owner.how]}, in {owner.archive}" if inside else _how(found, owner)
        how = "; ".join(filter(None, (how, in_layers(found.layers))))
        yield [path, Piece(owner.name, Style.NAME), owner.version, how]
        path = ""


def _how(found: PathOwners, owner: OwnerName) -> str:
    words = _WORDS[owner.how]
    if owner.repository:
        return f"{words}, by {owner.repository}"
    return words if found.resolved else f"{words}; {_absence(found)}"


def _absence(found: PathOwners) -> str:
    if found.dead_end is not None:
        return f"a link there leads to {found.dead_end}, where nothing is"
    return "not on the disk"


def _shared(found: PathOwners, ink: Ink) -> Iterator[str]:
    number = count_words(len(found.owners), "package")
    yield ink.paint(line(Piece(found.path, Style.TITLE), f" is shared by {number}"))
    yield from ink.flowed(line("  ", ", ".join(owner.name for owner in found.owners)), 2)
