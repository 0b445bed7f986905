"""How a census is shown."""

from collections.abc import Iterator, Sequence
from operator import attrgetter
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.asking.package_rows import PackageRow
from filigree.questions.commands.census import CensusSummary
from filigree.views.options import CensusOptions
from filigree.views.page import Column, Ink, Piece, Style
from filigree.views.plain import plain
from filigree.views.screens.words import REASON_WORDS, STATE_WORDS, closing, day, state_words
from filigree.views.text import count_words, size_words

DEFAULT = ("name", "version", "architecture", "reason", "state", "installed_size", "summary")
OFFERED = ("name", "version", "architecture", "state", "offered_by", "installed_size", "summary")
"""Where what is offered is looked at: from where goes before why."""
ROOMY = 100
"""A window of fewer columns has no room for summaries, unless they are asked for."""
LINES = ("name", "version", "architecture", "state", "reason", "held", "installed_size", "summary")
_TITLES = {
    "architecture": "arch",
    "installed_size": "size",
    "archive_size": "archive size",
    "installed_at": "installed",
    "built_at": "built",
    "impact": "stand on it",
}
_WRAPS = frozenset(
    {
        "name",
        "version",
        "reason",
        "state",
        "summary",
        "description",
        "homepage",
        "maintainer",
        "source",
        "vendor",
        "offered_by",
    }
)


def screen(
    answer: Answer[PackageRow, CensusSummary], ink: Ink, options: CensusOptions
) -> Iterator[str]:
    """A table, and a closing line with count and total."""
    summary = answer.summary
    if options.count:
        yield str(summary.count)
        return
    usual = DEFAULT if summary.scope == "installed" else OFFERED
    names = options.columns or (usual if not 0 < ink.width < ROOMY else usual[:-1])
    if not options.columns and any(row.impact is not None for row in answer.records):
        names = (names[0], "impact", *names[1:])
    columns = [
        Column(
            _TITLES.get(name, name.replace("_", " ")),
            name.endswith("_size") or name == "impact",
            name in _WRAPS,
        )
        for name in names
    ]
    if answer.records:
        yield from ink.table(
            columns, [[_cell(row, name) for name in names] for row in answer.records]
        )
        yield ""
    yield from closing(ink, *_closing(summary))


def titles(options: CensusOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return ("count",) if options.count else options.columns or LINES


def rows(
    answer: Answer[PackageRow, CensusSummary], options: CensusOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    if options.count:
        yield (answer.summary.count,)
        return
    names = options.columns or LINES
    if len(names) > 1:
        yield from map(attrgetter(*names), answer.records)
        return
    for record in answer.records:
        yield [getattr(record, name) for name in names]


def _cell(row: PackageRow, name: str) -> str | Piece:
    value = getattr(row, name)
    match name:
        case "name":
            return Piece(row.name, Style.NAME)
        case "state":
            return state_words(row.state, row.held)
        case "installed_size" | "archive_size":
            return size_words(value)
        case "installed_at" | "built_at":
            return day(value)
        case "impact":
            return "" if value is None else f"{value:,}"
        case "held":
            return "held" if value else ""
        case "reason":
            return "" if value is None else value.value
        case "offered_by":
            return ", ".join(value or ())
    return "" if value is None else str(plain(value))


def _closing(summary: CensusSummary) -> list[str | Piece]:
    parts: list[str | Piece] = []
    if summary.shown < summary.count:
        parts.append(f"{summary.shown:,} shown of ")
    parts.append(Piece(count_words(summary.count, "package"), Style.TITLE))
    size = size_words(summary.installed_size)
    if summary.scope == "installed":
        parts.append(f", {size} installed")
    else:
        parts.append(f", {size} if all of them were installed")
    words = [f"{n:,} {REASON_WORDS[reason]}" for reason, n in summary.reasons.items()]
    if words and summary.reasons.keys() != {"unknown"}:
        parts.append(f"; {', '.join(words)}")
    if summary.held:
        parts.append(f", {summary.held:,} held")
    for state, count in summary.states.items():
        if state == "available":
            parts.append(f"; {count:,} available, and not installed in that version")
        elif state != "installed":
            parts += (", ", Piece(f"{count:,} {_state_words(state)}", Style.WARN))
    left = summary.configuration_left
    if left:
        parts.append(f". {left:,} more with only configuration left (--state configuration-left)")
    return parts


def _state_words(state: str) -> str:
    return next(words for known, words in STATE_WORDS.items() if known.value == state)
