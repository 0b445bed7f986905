"""How chains are shown: each from what was chosen down to the subject, a step a line."""

from collections.abc import Iterator, Sequence
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.commands.because import BecauseRow, BecauseSummary, Chain, StayStatus
from filigree.views.options import ViewOptions
from filigree.views.page import Ink, Piece, Style, line
from filigree.views.screens.words import closing
from filigree.views.text import count_words

_STYLES: dict[StayStatus | None, Style] = {
    None: Style.WARN,
    StayStatus.CHOSEN: Style.GOOD,
    StayStatus.PROTECTED: Style.GOOD,
    StayStatus.NEEDED: Style.GOOD,
    StayStatus.WISHED: Style.WARN,
    StayStatus.LEFT_OVER: Style.BAD,
    StayStatus.NOT_INSTALLED: Style.FAINT,
}
_FIELDS = ("subject", "status", "chain", "step", "name", "version", "kind", "requirement")


def screen(
    answer: Answer[BecauseRow, BecauseSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The answer of `because` for people."""
    if not answer.records:
        return  # what matched nothing is said first, and is all
    for row in answer.records:
        yield from ink.flowed(
            line(
                Piece(row.subject, Style.TITLE), f" {row.version}".rstrip(), ": ",
                Piece(row.words, _STYLES[row.status]),
            ),
            4,
        )  # fmt: skip
        for chain in row.chains:
            yield ""
            yield from _chain(row, chain, ink)
        if row.more:
            yield ""
            yield "  and more (--chains N shows them)"
        yield ""
    yield from closing(ink, *_closing(answer))


def _chain(row: BecauseRow, chain: Chain, ink: Ink) -> Iterator[str]:
    for depth, step in enumerate(chain.steps):
        margin = "  " * (depth + 1)
        last = depth == len(chain.steps) - 1
        style = Style.TITLE if last else Style.NAME
        parts: list[str | Piece] = [margin, Piece(step.name, style), f" {step.version}"]
        if depth == 0 and row.status not in (None, StayStatus.NOT_INSTALLED):
            parts.append(Piece("  chosen", Style.GOOD))
        if step.kind is not None:
            how = "names" if step.kind.value in ("supplements", "enhances") else ""
            verb = how or step.kind.value.replace("requires-first", "needs first")
            verb = verb.replace("requires", "needs")
            parts.append(Piece(f"  {verb} {step.requirement}", Style.FAINT))
        yield from ink.flowed(line(*parts), len(margin) + 4)


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[BecauseRow, BecauseSummary], options: ViewOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for row in answer.records:
        if not row.chains:
            yield [row.subject, row.status, None, None, None, None, None, row.words]
        for number, chain in enumerate(row.chains, 1):
            for at, step in enumerate(chain.steps):
                yield [
                    row.subject, row.status, number, at, step.name, step.version, step.kind,
                    step.requirement,
                ]  # fmt: skip


def _closing(answer: Answer[BecauseRow, BecauseSummary]) -> list[str | Piece]:
    summary = answer.summary
    counted = (
        (summary.chosen, "chosen"), (summary.needed, "needed by something chosen"),
        (summary.wished, "only wished for"), (summary.protected, "protected"),
        (summary.left_over, "left over"), (summary.not_installed, "not installed"),
        (summary.not_told, "of whose reason nothing is on record"),
    )  # fmt: skip
    counts = [f"{count:,} {words}" for count, words in counted if count]
    number = count_words(len(answer.records), "package")
    return [Piece(number, Style.TITLE), f": {', '.join(counts)}" if counts else ""]
