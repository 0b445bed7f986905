"""How rules are shown: a page each, or all of them in a list."""

from collections.abc import Iterator, Sequence
from typing import Any

from filigree.model.answer import Answer
from filigree.model.findings import RuleFacts
from filigree.questions.rules.findings import RulesSummary
from filigree.views.options import ViewOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing, fact
from filigree.views.text import count_words

_TABLE = (Column("Rule"), Column("Severity"), Column("What it finds", wrap=True))


def screen(
    answer: Answer[RuleFacts, RulesSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The rules for people: one in full, several in a list."""
    if len(answer.records) == 1:
        yield from _page(answer.records[0], ink)
        return
    cells = [
        [Piece(one.identity, Style.NAME), one.severity.value, one.title] for one in answer.records
    ]
    yield from ink.table(_TABLE, cells)
    yield ""
    yield from closing(ink, Piece(count_words(answer.summary.rules, "rule"), Style.TITLE))


def _page(one: RuleFacts, ink: Ink) -> Iterator[str]:
    yield ink.paint(line(Piece(one.title, Style.TITLE)))
    for name, words in (
        ("rule", one.identity), ("severity", one.severity.value), ("looks at", one.looks_at),
        ("why it matters", one.why), ("mistaken where", one.mistaken), ("ask next", one.ask),
        ("takes", ", ".join(one.parts)),
    ):  # fmt: skip
        yield from fact(ink, f"  {name}", words, width=18)


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return RuleFacts._fields


def rows(answer: Answer[RuleFacts, RulesSummary], options: ViewOptions) -> Iterator[Sequence[Any]]:
    """The rules for programs: one a row."""
    yield from answer.records
