"""How a plan is shown: what would be lost first and loudest, then what comes, changes, is left over."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.commands.whatif import VERSIONS, WhatifRow, WhatifSummary
from filigree.questions.planning.outcomes import PlanAction
from filigree.views.options import ViewOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing, fact
from filigree.views.text import count_words, size_words

_FIELDS = tuple(field.name for field in fields(WhatifRow))
_HEADS = {
    PlanAction.DROP: ("would be dropped", Style.BAD),
    PlanAction.ADD: ("would be added", Style.GOOD),
    PlanAction.UPGRADE: ("would become newer", Style.GOOD),
    PlanAction.CHANGE: ("would become another version", Style.TITLE),
    PlanAction.DOWNGRADE: ("would become older", Style.WARN),
    PlanAction.LEFTOVER: ("would be left over", Style.WARN),
}


def screen(
    answer: Answer[WhatifRow, WhatifSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The answer of `whatif` for people."""
    summary = answer.summary
    yield from _loud(answer, ink)
    for words in summary.remarks:
        yield from ink.flowed(line(words))
    if summary.possible is False:
        yield ink.paint(line(Piece("There is no way", Style.BAD)))
        for at, sentence in enumerate(summary.obstacles):
            lead = "because " if at == 0 else "and     "
            yield from ink.flowed(line("  ", Piece(lead, Style.FAINT), sentence), 10)
        return
    if summary.possible is None:
        yield "Whether there is a way was not found out."
        return
    for action, (head, style) in _HEADS.items():
        group = [row for row in answer.records if row.action is action]
        if group:
            yield ink.paint(line(Piece(f"{len(group):,} {head}", style)))
            yield from _table(action, group, ink)
            yield ""
    yield from _weights(answer, ink)


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(answer: Answer[WhatifRow, WhatifSummary], options: ViewOptions) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for record in answer.records:
        yield [getattr(record, name) for name in _FIELDS]


def _loud(answer: Answer[WhatifRow, WhatifSummary], ink: Ink) -> Iterator[str]:
    lost, guarded = answer.summary.chosen_lost, answer.summary.protected_lost
    untold = answer.summary.leftover is None
    whose = "Lost by this, whether or not a person asked for them"
    for names, words in (
        (guarded, "This system is not meant to be without"),
        (lost, whose if untold else "Chosen by a person, and lost by this"),
    ):
        if names:
            yield from ink.flowed(
                line(Piece(f"{words}: ", Style.BAD), Piece(", ".join(names), Style.TITLE)), 4
            )
    if lost or guarded:
        yield ""


def _table(action: PlanAction, group: Sequence[WhatifRow], ink: Ink) -> Iterator[str]:
    changes = action in VERSIONS
    comes = changes or action is PlanAction.ADD
    columns = [Column("", wrap=True), Column("", wrap=True)]
    columns += [Column("", wrap=True)] if changes else []
    columns += [Column("", right=True), Column("", wrap=True)]
    columns += [Column("", wrap=True)] if comes else []
    cells: list[list[str | Piece]] = []
    for row in group:
        name = Piece(
            row.name, Style.TITLE if row.asked or (row.chosen and not comes) else Style.NAME
        )
        versions = [row.before or "", f"→ {row.version}"] if changes else [row.version]
        size = row.archive_size if comes else row.installed_size
        why = f"chosen; {row.reason}" if row.chosen and not comes else row.reason
        style = (
            Style.BAD if action is PlanAction.DROP and row.chosen and not row.asked else Style.FAINT
        )
        known = size_words(size) if size is not None else ""
        cells.append([name, *versions, known, Piece(why, style)])
        if comes:
            cells[-1].append(Piece(row.repository or "", Style.FAINT))
    yield from ink.table(columns, cells, indent=2)


def _weights(answer: Answer[WhatifRow, WhatifSummary], ink: Ink) -> Iterator[str]:
    summary = answer.summary
    if not answer.records:
        yield from closing(ink, Piece("Nothing would change", Style.GOOD))
    else:
        counted = (
            (summary.add, "added"), (summary.upgrade, "newer"), (summary.change, "another version"),
            (summary.downgrade, "older"), (summary.drop, "dropped"),
            (summary.leftover, "left over"),
        )  # fmt: skip
        words = [f"{count:,} {word}" for count, word in counted if count]
        yield from closing(ink, Piece(", ".join(words), Style.TITLE), *_sizes(summary))
        for room in summary.room:
            yield from fact(
                ink, "room", f"{size_words(room.free)} free of {size_words(room.total)} on {room.path}",
                width=6,
            )  # fmt: skip
    ways = summary.ways
    if ways:
        yield ""
        for way, how in ((ways.without_dropping, "Without"), (ways.with_dropping, "With")):
            text = f"{how} dropping anything: {count_words(way.upgraded, 'package')} newer"
            text += f", {way.added:,} added" if way.added else ""
            text += f", dropped: {', '.join(way.dropped)}" if way.dropped else ""
            yield from ink.flowed(line(Piece(text, Style.FAINT)), 4)


def _sizes(summary: WhatifSummary) -> list[str]:
    parts: list[str] = []
    if summary.fetch_size:
        parts.append(f"; {size_words(summary.fetch_size)} to fetch")
    change = summary.disk_change
    if change:
        parts.append(f"; {size_words(abs(change))} {'more' if change > 0 else 'less'} on disk")
    if summary.leftover_size:
        parts.append(f"; {size_words(summary.leftover_size)} left over")
    return parts
