"""How a chain is shown: a link a line, and in the end where it breaks, or what it reaches."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.model.files import Evidence
from filigree.questions.commands.provenance import Holds, Provenance, ProvenanceSummary
from filigree.views.options import ViewOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing
from filigree.views.text import count_words

_FIELDS = tuple(field.name for field in fields(Provenance))
_LINKS = (Column(""), Column(""), Column("", wrap=True))
_STYLES = {Holds.YES: Style.GOOD, Holds.BROKEN: Style.BAD, Holds.ABSENT: Style.WARN}


def screen(
    answer: Answer[Provenance, ProvenanceSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The answer of `provenance` for people."""
    for row in answer.records:
        label = f"{row.package}:{row.architecture}={row.version}"
        name = "" if row.subject == label else f"  {row.package} {row.version}"
        yield from ink.flowed(line(Piece(row.subject, Style.TITLE), name))
        cells: list[list[str | Piece]] = [
            [one.link, Piece(one.verdict.value, _STYLES[one.verdict]), one.detail]
            for one in row.links
        ]
        yield from ink.table(_LINKS, cells, indent=2)
        yield from ink.flowed(line("  ", *_ending(row)), 4)
        yield ""
    summary = answer.summary
    parts: list[str | Piece] = [Piece(count_words(summary.subjects, "chain"), Style.TITLE)]
    if summary.whole:
        parts += ("; ", Piece(f"{summary.whole:,} from a key to the end", Style.GOOD))
    if summary.broken:
        parts += ("; ", Piece(f"{summary.broken:,} broken", Style.BAD))
    yield from closing(ink, *parts)
    if summary.keys_of == "root":
        words = "Judged with the root's own keys (--keyring judges with yours)."
        yield from ink.flowed(line(Piece(words, Style.FAINT)))


def _ending(row: Provenance) -> tuple[str | Piece, ...]:
    if row.breaks_at is not None:
        return (Piece(f"The chain breaks at the {row.breaks_at.partition(':')[0]}.", Style.BAD),)
    if row.whole:
        return (Piece("The chain reaches a key.", Style.GOOD),)
    words = {
        Evidence.RECORD: "Nothing but the local record stands behind it.",
        Evidence.ARCHIVE: "An archive stands behind it, and no key.",
        Evidence.SIGNED: "It traces to a key.",
    }
    return (Piece(words[row.evidence], Style.WARN),)


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[Provenance, ProvenanceSummary], options: ViewOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for row in answer.records:
        links = [f"{one.link}: {one.verdict.value}: {one.detail}" for one in row.links]
        yield [links if name == "links" else getattr(row, name) for name in _FIELDS]
