"""How obstacles are shown: each reason a sentence, and then what would help."""

from collections.abc import Iterator, Sequence
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.commands.obstacles import ObstacleRow, ObstaclesSummary
from filigree.views.options import ViewOptions
from filigree.views.page import Ink, Piece, Style, line
from filigree.views.screens.words import closing
from filigree.views.text import count_words, size_words

_FIELDS = (
    "subject", "version", "architecture", "repository", "installable", "kind", "sentence",
)  # fmt: skip


def screen(
    answer: Answer[ObstacleRow, ObstaclesSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The answer of `obstacles` for people."""
    for row in answer.records:
        title: list[str | Piece] = [Piece(row.subject, Style.TITLE), f" {row.version}"]
        if row.repository:
            title.append(Piece(f"  of {row.repository}", Style.FAINT))
        yield from ink.flowed(line(*title), 4)
        yield from _one(row, ink)
        yield ""
    good, every = answer.summary.installable, answer.summary.subjects
    yield from closing(
        ink,
        Piece(count_words(every, "package"), Style.TITLE),
        f", {good:,} could be installed as things stand" if good else ", none could be installed",
    )


def _one(row: ObstacleRow, ink: Ink) -> Iterator[str]:
    if row.installable is None:
        yield "  whether there is a way was not found out"
    elif row.installable and row.installed == row.version:
        yield from ink.flowed(line("  ", Piece("it is installed", Style.GOOD)), 4)
    elif row.installable:
        words = f"nothing stands in the way: {count_words(row.added, 'package')} would come"
        if row.changed:
            words += f", {row.changed:,} would change"
        yield from ink.flowed(
            line("  ", Piece(words, Style.GOOD), f", {size_words(row.fetch_size)} to fetch"), 4
        )
    else:
        yield ink.paint(line("  ", Piece("cannot be installed as things stand", Style.BAD)))
        before = 0
        for reason in row.reasons:
            lead = "and     " if reason.set == before else "also    " if before else "because "
            before = reason.set
            yield from ink.flowed(line("  ", Piece(lead, Style.FAINT), reason.sentence), 10)
    for words in row.helps:
        yield from ink.flowed(
            line("  ", Piece("help    ", Style.FAINT), Piece(words, Style.WARN)), 10
        )
    if row.installable is False and not row.helps:
        words = "nothing that is offered here would help"
        yield from ink.flowed(line("  ", Piece("help    ", Style.FAINT), words), 10)


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[ObstacleRow, ObstaclesSummary], options: ViewOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for row in answer.records:
        head = [row.subject, row.version, row.architecture, row.repository, row.installable]
        if not row.reasons:
            yield [*head, None, None]
        for reason in row.reasons:
            yield [*head, reason.kind, reason.sentence]
        for words in row.helps:
            yield [*head, "help", words]
