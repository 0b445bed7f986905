"""How keys are shown: those trusted for everything first, then those of single repositories."""

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import fields
from typing import Any

from filigree.model.answer import Answer
from filigree.questions.commands.keys import KeyRow, KeysSummary, counts
from filigree.views.options import ViewOptions
from filigree.views.page import Column, Ink, Piece, Style, line
from filigree.views.screens.words import closing, day
from filigree.views.text import count_words, listed

_FIELDS = tuple(field.name for field in fields(KeyRow))
_TABLE = (
    Column("key"), Column("whose", wrap=True), Column("algorithm"), Column("made"), Column("expires"),
    Column("may sign", wrap=True), Column("in", wrap=True),
)  # fmt: skip
_NEEDED = (Column("key"), Column("whose", wrap=True), Column("has signed", wrap=True))
_SHOWN = 6


def screen(answer: Answer[KeyRow, KeysSummary], ink: Ink, options: ViewOptions) -> Iterator[str]:
    """The answer of `keys` for people."""
    summary = answer.summary
    if summary.needed:
        yield from _needed(answer, ink)
        return
    counting = [row for row in answer.records if counts(row)]
    if counting:
        every = _by_key(counting)
        numbers = _numbers(every)
        yield from ink.table(_TABLE, [_cells(same, summary, numbers) for same in every])
        yield ""
        for names, number in numbers.items():
            yield from ink.flowed(line(Piece(f"({number}) "), listed(list(names))), 4)
        if numbers:
            yield ""
    yield from _without_use([row for row in answer.records if not counts(row)], ink)
    yield from _remarks(answer, ink)
    count = count_words(summary.keys, "key")
    yield from closing(ink, Piece(count, Style.TITLE), *_closing(summary))
    if summary.keys_of == "root":
        words = "These are the root's own: whoever could change its files could have added a key "
        words += "(--keyring holds them against yours)."
        yield from ink.flowed(line(Piece(words, Style.FAINT)))


def titles(options: ViewOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return _FIELDS


def rows(answer: Answer[KeyRow, KeysSummary], options: ViewOptions) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for record in answer.records:
        yield [getattr(record, name) for name in _FIELDS]


def _by_key(rows: Sequence[KeyRow]) -> list[list[KeyRow]]:
    """The same key in several files is one line."""
    found: dict[str, list[KeyRow]] = {}
    for row in rows:
        found.setdefault(row.fingerprint, []).append(row)
    return list(found.values())


def _without_use(rows: Sequence[KeyRow], ink: Ink) -> Iterator[str]:
    files = Counter(row.file or "" for row in rows)
    for file, count in sorted(files.items()):
        words = f": {count_words(count, 'key')} that no repository names"
        yield from ink.flowed(line(Piece(file, Style.FAINT), words), 4)
    if files:
        yield ""


def _cells(
    same: Sequence[KeyRow], summary: KeysSummary, numbers: dict[tuple[str, ...], int]
) -> list[str | Piece]:
    row = same[0]
    over = row.expired(summary.asked_at)
    algorithm = row.algorithm or ""
    return [
        Piece(row.fingerprint[-16:], Style.NAME),
        row.identity or "",
        Piece(algorithm, Style.WARN if row.weakness else Style.PLAIN),
        day(row.made_at),
        _until(row, over),
        _scope(same, numbers),
        listed([one.file for one in same if one.file]),
    ]


def _until(row: KeyRow, over: bool) -> Piece:
    if row.revoked:
        return Piece("revoked", Style.BAD)
    if row.expires_at is None:
        return Piece("never", Style.FAINT)
    return Piece(day(row.expires_at), Style.WARN if over else Style.PLAIN)


def _scope(same: Sequence[KeyRow], numbers: dict[tuple[str, ...], int]) -> Piece:
    row, scope = same[0], _names(same)
    if row.held_by == "auditor":
        return Piece("your own", Style.FAINT)
    names = f"({numbers[scope]})" if scope in numbers else "".join(scope)
    if any(one.everything for one in same):
        return Piece(f"everything, as {names}" if names else "everything", Style.WARN)
    return Piece(names) if names else Piece("archives", Style.FAINT)


def _names(same: Sequence[KeyRow]) -> tuple[str, ...]:
    return tuple(sorted({name for one in same for name in one.scope}))


def _numbers(keys: Sequence[Sequence[KeyRow]]) -> dict[tuple[str, ...], int]:
    """A number for each set of several repositories, which is told but once."""
    sets = dict.fromkeys(names for same in keys if len(names := _names(same)) > 1)
    return {names: number for number, names in enumerate(sets, 1)}


def _remarks(answer: Answer[KeyRow, KeysSummary], ink: Ink) -> Iterator[str]:
    told = False
    for row, *_ in _by_key([row for row in answer.records if counts(row)]):
        words = []
        if row.weakness:
            words.append(f"not to be relied on: {row.weakness}")
        if row.revoked and row.revoked_at:
            words.append(f"revoked on {day(row.revoked_at)}")
        if answer.summary.keys_of == "auditor" and row.held_by == "root":
            words.append("only the root holds it, and it does not count here")
        for remark in words:
            told = True
            yield from ink.flowed(line(Piece(row.fingerprint[-16:], Style.NAME), f": {remark}"), 4)
    if told:
        yield ""


def _closing(summary: KeysSummary) -> list[str | Piece]:
    parts: list[str | Piece] = []
    for count, words, style in (
        (summary.trusted_for_everything, "trusted for everything", Style.WARN),
        (summary.without_use, "that no repository names", Style.FAINT),
        (summary.expired, "expired", Style.WARN),
        (summary.weak, "too weak", Style.WARN),
        (summary.revoked, "revoked", Style.BAD),
        (summary.only_root, "held by the root alone", Style.WARN),
    ):
        if count:
            parts += ("; ", Piece(f"{count:,} {words}", style))
    return parts


def _needed(answer: Answer[KeyRow, KeysSummary], ink: Ink) -> Iterator[str]:
    if answer.records:
        yield from ink.table(_NEEDED, [_lacking(row) for row in answer.records])
        yield ""
    count = len(answer.records)
    words = "Every key that a signature names is held." if not count else (
        f"{count_words(count, 'key')} named by signatures and held nowhere"
    )  # fmt: skip
    yield from closing(ink, Piece(words, Style.WARN if count else Style.GOOD))


def _lacking(row: KeyRow) -> list[str | Piece]:
    whats = [*row.needed_by[:_SHOWN]]
    if row.needed_by[_SHOWN:]:
        whats.append(f"{len(row.needed_by) - _SHOWN} more")
    return [Piece(row.fingerprint, Style.NAME), row.identity or row.how, listed(whats)]
