"""How what runs is shown: what is bad news first, then what is another by now."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.running.rows import (
    HeldRow,
    RunningKind,
    RunningRow,
    RunningState,
    RunningSummary,
)
from filigree.views.options import ViewOptions
from filigree.views.page import Ink, Piece, Style, line
from filigree.views.screens.words import VERDICT_STYLES, closing, minute
from filigree.views.text import count_words

_FIELDS = tuple(field.name for field in fields(RunningRow))
_WIDE = 10
_SHOWN, _NAMED = 8, 2
_WORDS = {
    RunningState.AS_ON_DISK: "as on the disk", RunningState.OF_NOBODY: "of nobody's",
    RunningState.REPLACED: "another is on the disk by now", RunningState.GONE: "gone from the disk",
}  # fmt: skip
_STYLES = {
    RunningState.AS_ON_DISK: Style.GOOD, RunningState.REPLACED: Style.WARN,
    RunningState.GONE: Style.BAD, RunningState.OF_NOBODY: Style.BAD,
}  # fmt: skip


def screen(
    answer: Answer[RunningRow, RunningSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The answer of `running` for people: processes that are alike are told together."""
    for group in _alike(answer.records):
        first = group[0]
        told = f"{len(group)} of them" if len(group) > 1 else str(first.pid)
        number = "module" if first.what is RunningKind.MODULE else told
        words: list[str | Piece] = [
            Piece(number.ljust(_WIDE), Style.FAINT), Piece(first.program or first.name, Style.NAME),
            "  ", *_judged(first.package, first.verdict, first.state),
        ]  # fmt: skip
        yield from ink.flowed(line(*words), _WIDE)
        yield from ink.flowed(line(" " * _WIDE, Piece(_beside(group), Style.FAINT)), _WIDE)
        if first.script is not None:
            yield from _part("runs", [first.script], ink)
        held: dict[tuple[object, ...], list[HeldRow]] = {}
        for one in first.libraries:
            held.setdefault((one.state, one.verdict, one.package), []).append(one)
        for some in held.values():
            yield from _part("has mapped", some, ink)
    if answer.records:
        yield ""
    yield from closing(ink, *_summed(answer.summary))


def _alike(found: Sequence[RunningRow]) -> list[list[RunningRow]]:
    held: dict[tuple[object, ...], list[RunningRow]] = {}
    for row in found:
        key = (
            row.program, row.state, row.verdict, row.script, row.digest, tuple(row.remarks), row.root,
            row.what, None if row.program else row.name, tuple({one.state for one in row.libraries}),
        )  # fmt: skip
        held.setdefault(key, []).append(row)
    return list(held.values())


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[RunningRow, RunningSummary], options: ViewOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for row in answer.records:
        yield [getattr(row, name) for name in _FIELDS]


def _judged(package: str | None, verdict: Any, state: RunningState) -> Iterator[str | Piece]:
    if package is not None:
        yield f"of {package}, "
    if verdict is not None:
        yield Piece(verdict.value, VERDICT_STYLES[verdict])
        yield ", "
    yield Piece(_WORDS[state], _STYLES[state])


def _part(how: str, held: Sequence[HeldRow], ink: Ink) -> Iterator[str]:
    names = ", ".join(one.path for one in held[:_NAMED])
    more = f" and {len(held) - _NAMED:,} more" if len(held) > _NAMED else ""
    words: list[str | Piece] = [" " * _WIDE, f"{how} ", Piece(names, Style.NAME), more, "  "]
    one = held[0]
    yield from ink.flowed(line(*words, *_judged(one.package, one.verdict, one.state)), _WIDE + 2)


def _beside(group: Sequence[RunningRow]) -> str:
    row = group[0]
    told = [row.name]
    if row.user is not None:
        told.append(f"of {row.user}")
    if row.began_at is not None:
        told.append(f"since {minute(row.began_at)}")
    if row.digest is not None:
        told.append(f"what runs is {row.digest}")
    if len(group) > 1:
        numbers = ", ".join(str(one.pid) for one in group[:_SHOWN])
        told.append(f"processes {numbers}{' …' if len(group) > _SHOWN else ''}")
    return "; ".join([*told, *row.remarks])


def _summed(summary: RunningSummary) -> Iterator[str | Piece]:
    yield Piece(count_words(summary.processes, "process", "processes"), Style.TITLE)
    yield f", {summary.kernel_threads:,} of the kernel's own beside them"
    if summary.modules:
        yield f", {count_words(summary.modules, 'module')}"
    yield "; "
    bad = summary.alarming
    told = (
        f"{bad:,} of nobody's, gone from the disk, or not as shipped"
        if bad
        else "all as on the disk"
    )
    yield Piece(told, Style.BAD if bad else Style.GOOD)
    if summary.replaced:
        yield Piece(f"; of {summary.replaced:,} another version is on the disk by now", Style.WARN)
