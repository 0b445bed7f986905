"""How a timeline is shown: in order, each transaction as one, what is alike on a day together."""

from collections.abc import Iterator, Sequence
from dataclasses import fields
from datetime import datetime
from typing import Any

from filigree.model.answer import Answer
from filigree.model.events import Clock, Outcome
from filigree.questions.finding.ranks import Rank
from filigree.questions.timeline.happenings import OF_FILES, OF_PACKAGES, Deed, Happening
from filigree.questions.timeline.timeline import TimelineSummary
from filigree.views.options import ViewOptions
from filigree.views.page import Ink, Piece, Style, line
from filigree.views.screens.words import closing, day
from filigree.views.text import count_words, listed

_FIELDS = tuple(field.name for field in fields(Happening))
_WIDE = 18
_NAMED, _CHANGED, _PATHS = 8, 4, 3
_DEEP = 3
_RANKS = {Rank.RIGHTS: "runs with others' rights", Rank.PROGRAM: "can be run", Rank.OTHER: ""}
_CLOCKS = {
    Clock.LOG: "the system's own logs",
    Clock.LOCAL_LOG: "the system's own logs, which do not tell their zone",
    Clock.RECORD: "the package database",
    Clock.FILE: "files' own times, which whoever may write to them can set",
    Clock.INODE: "inodes, whose times a copy sets anew",
    Clock.DIRECTORY: "the directory that something went from",
    Clock.IMAGE: "whoever built the image",
    Clock.AUDITOR: "whoever took a snapshot",
}
_THINGS = {
    Deed.BUILT: "", Deed.FETCHED: "index of ", Deed.TRUSTED: "key ", Deed.KEPT: "snapshot ",
}  # fmt: skip


def screen(
    answer: Answer[Happening, TimelineSummary], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    """The answer of `timeline` for people."""
    last: str | None = None
    for group in groups(answer.records):
        first = group[0]
        told = "at no known time" if first.at is None else day(first.at)
        if last is not None and told != last:
            yield ""
        last = told
        yield from _session(group, ink) if first.session else _alike(group, ink)
    if answer.records:
        yield ""
    yield from _closing(answer, ink)


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(
    answer: Answer[Happening, TimelineSummary], options: ViewOptions
) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for row in answer.records:
        yield [getattr(row, name) for name in _FIELDS]


def groups(found: Sequence[Happening]) -> list[list[Happening]]:
    """Rows that are told together, each group where its first row stands."""
    held: dict[object, list[Happening]] = {}
    for row in found:
        held.setdefault(row.session or _likeness(row), []).append(row)
    return list(held.values())


def _likeness(row: Happening) -> tuple[object, ...]:
    """What makes rows alike: they are told together."""
    when = None if row.at is None else row.at.date()
    explained = row.explained_by and row.explained_by.partition(":")[0]
    where: object = row.package
    if row.action is Deed.APPEARED:
        folders = row.subject.rpartition("/")[0].split("/")
        where = "/".join(folders[:_DEEP]) if explained is None else None
    elif row.action in OF_PACKAGES:
        where = None
    elif row.action not in OF_FILES:
        where = row.package or row.subject
    return (
        when,
        row.action,
        explained,
        where,
        row.rank if explained is None else None,
        tuple(row.doubts),
    )


def _session(group: Sequence[Happening], ink: Ink) -> Iterator[str]:
    first = group[0]
    words: list[str | Piece] = [
        _when(first.at),
        Piece(first.command or "a transaction", Style.TITLE),
    ]
    if first.by:
        words.append(f", asked for by {first.by}")
    words.append(_ended(first))
    yield from ink.flowed(line(*words), _WIDE)
    for deed in Deed:
        held = [row for row in group if row.action is deed]
        if held:
            yield from ink.flowed(line(" " * _WIDE, *_packages(deed, held)), _WIDE + 2)
    yield from _doubts(group, ink)


def _ended(row: Happening) -> Piece:
    if row.outcome is Outcome.FAILED:
        return Piece(", which failed", Style.WARN)
    if row.outcome is Outcome.UNFINISHED:
        return Piece(", which did not come to an end", Style.WARN)
    if row.outcome is None or row.until is None or row.began is None:
        return Piece("")
    return Piece(f", done in {_long((row.until - row.began).total_seconds())}", Style.FAINT)


def _long(seconds: float) -> str:
    if seconds < 120:
        return f"{max(0, seconds):.0f} s"
    return f"{seconds / 60:.0f} min" if seconds < 7200 else f"{seconds / 3600:.0f} h"


def _packages(deed: Deed, held: Sequence[Happening]) -> Iterator[str | Piece]:
    """What became of packages, in one line: how many, and the first of them by name."""
    versions = (
        deed not in (Deed.INSTALLED, Deed.REINSTALLED, Deed.RECORDED) or len(held) <= _CHANGED
    )
    shown = held[: _CHANGED if versions else _NAMED]
    count = f" {len(held):,}:" if len(held) > 1 else ""
    yield Piece(f"{deed.value}{count} ", _style(held[0]))
    for at, row in enumerate(shown):
        yield Piece(", " if at else "", Style.PLAIN)
        yield Piece(row.package or row.subject, Style.NAME)
        if versions:
            yield f" {_versions(row)}"
    if len(held) > len(shown):
        yield Piece(f" and {len(held) - len(shown):,} more", Style.FAINT)


def _versions(row: Happening) -> str:
    if row.before is not None and row.version is not None and row.before != row.version:
        return f"{row.before} → {row.version}"
    return row.version or row.before or ""


def _alike(group: Sequence[Happening], ink: Ink) -> Iterator[str]:
    first = group[0]
    words: list[str | Piece] = [_when(first.at)]
    if first.action in OF_PACKAGES:
        words += _packages(first.action, group)
    elif first.action in OF_FILES:
        words += _files(group)
    else:
        words += [Piece(f"{first.action.value} ", _style(first)), *_thing(group)]
    if first.explained_by is None:
        words.append(Piece(", and nothing explains it" if len(group) == 1 else
                           ", and nothing explains them", Style.BAD))  # fmt: skip
    elif first.action is not Deed.KEPT and first.explained_by != "the system's own history":
        words.append(Piece(f" ({_reason(group)})", Style.FAINT))
    yield from ink.flowed(line(*words), _WIDE)
    yield from _doubts(group, ink)


def _reason(group: Sequence[Happening]) -> str:
    """What explains them: the sort of it where it is not of all the same."""
    reasons = {row.explained_by or "" for row in group}
    return reasons.pop() if len(reasons) == 1 else (group[0].explained_by or "").partition(":")[0]


def _files(group: Sequence[Happening]) -> Iterator[str | Piece]:
    first = group[0]
    if len(group) == 1:
        yield Piece(f"{first.action.value} ", _style(first))
        yield Piece(first.subject, Style.NAME)
    else:
        yield Piece(f"{first.action.value} {len(group):,} files: ", _style(first))
        yield Piece(", ".join(row.subject for row in group[:_PATHS]), Style.NAME)
        if len(group) > _PATHS:
            yield Piece(f" and {len(group) - _PATHS:,} more", Style.FAINT)
    if first.package:
        yield f", of {first.package}"
    aspects = dict.fromkeys(aspect for row in group for aspect in row.aspects)
    if aspects and first.action in (Deed.ALTERED, Deed.EDITED):
        yield f": {listed([one.value.replace('-', ' ') for one in aspects])}"
    if first.explained_by is None and first.rank is not Rank.OTHER:
        yield Piece(f" ({_RANKS[first.rank]})", Style.WARN)


def _thing(group: Sequence[Happening]) -> Iterator[str | Piece]:
    first = group[0]
    if first.action is Deed.TRUSTED and len(group) > 1:
        yield f"{len(group)} keys: "
        yield Piece(", ".join(f"…{row.subject[-16:]}" for row in group[:_PATHS]), Style.NAME)
        yield Piece(f" and {len(group) - _PATHS} more" if len(group) > _PATHS else "", Style.FAINT)
        return
    yield _THINGS.get(first.action, "")
    yield Piece(first.subject, Style.NAME)
    if first.action is Deed.BUILT and first.command:
        yield f" by {first.command}"
    if first.action is Deed.FETCHED and len(group) > 1:
        yield f", {len(group)} of them"
    if first.action is Deed.TRUSTED and first.told_in:
        yield f" in {first.told_in}"
    if first.action is Deed.KEPT:
        yield f" by {first.by}; "
        yield Piece(first.explained_by or "", Style.FAINT)


def _doubts(group: Sequence[Happening], ink: Ink) -> Iterator[str]:
    """Why what is told cannot be so: each reason once."""
    held: dict[str, list[Happening]] = {}
    for row in group:
        for doubt in row.doubts:
            held.setdefault(doubt, []).append(row)
    for doubt, whose in held.items():
        names = [row.package or row.subject for row in whose[:_CHANGED]]
        more = f" and {len(whose) - _CHANGED:,} more" if len(whose) > _CHANGED else ""
        told = f"{', '.join(names)}{more}: {doubt}" if len(group) > 1 else doubt
        if len(whose) == len(group):
            told = doubt
        yield from ink.flowed(line(" " * _WIDE, Piece(told, Style.WARN)), _WIDE)


def _style(row: Happening) -> Style:
    if row.explained_by is None:
        return Style.BAD
    return Style.WARN if row.doubts else Style.PLAIN


def _when(at: datetime | None) -> Piece:
    words = "at no known time" if at is None else at.strftime("%Y-%m-%d %H:%M")
    return Piece(words.ljust(_WIDE), Style.FAINT)


def _closing(answer: Answer[Happening, TimelineSummary], ink: Ink) -> Iterator[str]:
    summary = answer.summary
    if summary.happenings:
        yield from ink.flowed(line(Piece(f"Times are in UTC, by {clocks(summary)}.", Style.FAINT)))
    yield from closing(ink, *summed(summary))


def clocks(summary: TimelineSummary) -> str:
    """What times rest on, in words, what most of them rest on first."""
    known = sorted(summary.by_clock, key=lambda clock: -summary.by_clock[clock])
    return "; ".join(f"{_CLOCKS[clock]} ({summary.by_clock[clock]:,})" for clock in known)


def summed(summary: TimelineSummary) -> Iterator[str | Piece]:
    """How much happened, from when to when, and what of it is bad news."""
    yield Piece(count_words(summary.happenings, "thing") + " happened", Style.TITLE)
    if summary.first is not None:
        yield f" from {day(summary.first)} to {day(summary.last)}"
    if summary.sessions:
        yield f", in {count_words(summary.sessions, 'transaction')}"
    if summary.happenings:
        bad = summary.unexplained
        told = f"{bad:,} that nothing explains" if bad else "all explained"
        yield "; "
        yield Piece(told, Style.BAD if bad else Style.GOOD)
    if summary.doubtful:
        yield Piece(f"; {summary.doubtful:,} that cannot be as they are told", Style.WARN)
    if summary.history_from is not None:
        yield f"; its own history begins {day(summary.history_from)}"
