"""How answers of a fleet are shown: a table of what each record has, and how many hosts it speaks of."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import fields, is_dataclass
from datetime import datetime
from enum import Enum
from typing import Any

from filigree.model.answer import Answer, iso
from filigree.views.options import FleetOptions
from filigree.views.page import Column, Ink, Piece, Style
from filigree.views.screens.words import closing
from filigree.views.text import count_words

_BAD = frozenset({"critical", "high", "refused", "doctored", "altered", "missing", "stray"})
_UNSURE = frozenset({"medium", "edited", "unreadable", "nobody"})
_FAINT = frozenset(
    {"why", "digest", "found", "usual", "detail", "explained_by", "label", "snapshot"}
)
_DIGEST = 24
_LEAST = 12
_UNSHOWN = frozenset({"snapshot", "made_first", "label"})
_LONG = frozenset({
    "what", "why", "path", "title", "which", "detail", "identity", "address", "subject",
    "before", "after", "explained_by", "found", "usual", "damaged",
})  # fmt: skip
_NOUNS = {"fleet gather": "snapshot", "fleet tidy": "table", "fleet ask": "row"}


def screen(answer: Answer[Any, Any], ink: Ink, options: FleetOptions) -> Iterator[str]:
    """The answer for people."""
    records = [_cells(record) for record in answer.records]
    names = [
        name for name in options.fields
        if name not in _UNSHOWN and any(one.get(name) not in (None, [], "") for one in records)
    ]  # fmt: skip
    if records:
        cells = [[_piece(name, one.get(name)) for name in names] for one in records]
        narrow = _narrow(ink, names, cells)
        columns = [
            Column(
                name.replace("_", " "),
                wrap=narrow or name in _LONG,
                right=_is_number(records, name),
            )
            for name in names
        ]
        yield from ink.table(columns, cells)
        yield ""
    yield from closing(ink, *_last(answer))


def _narrow(ink: Ink, names: Sequence[str], cells: Sequence[Sequence[str | Piece]]) -> bool:
    """Whether the window is too narrow for what is not to be wrapped."""
    taken = 2 * len(names)
    for at, name in enumerate(names):
        texts = (row[at] for row in cells)
        widest = max(len(one.text if isinstance(one, Piece) else one) for one in texts)
        taken += _LEAST if name in _LONG else max(widest, len(name))
    return bool(ink.width) and taken > ink.width


def _last(answer: Answer[Any, Any]) -> Iterator[str | Piece]:
    summary = answer.summary
    noun = _NOUNS.get(answer.question)
    count = len(answer.records)
    yield Piece(
        count_words(count, noun or "record") if count else "Nothing of that kind", Style.TITLE
    )
    if noun is None:
        yield f" at {count_words(summary.hosts, 'host')}"
        if summary.hosts < summary.known:
            yield f" of {summary.known:,}"
        if summary.last_seen is not None:
            yield f", seen until {iso(summary.last_seen)}"
    else:
        told = {one.name: getattr(summary, one.name) for one in fields(summary)}
        words = [
            f"{value:,} {name.replace('_', ' ')}"
            for name, value in told.items()
            if isinstance(value, int)
        ]
        yield f": {', '.join(words)}" if words else ""


def _cells(record: Any) -> Mapping[str, Any]:
    if is_dataclass(record):
        return {one.name: getattr(record, one.name) for one in fields(record)}
    return dict(record)


def _is_number(records: Sequence[Mapping[str, Any]], name: str) -> bool:
    told = [one.get(name) for one in records]
    return all(
        value is None or (isinstance(value, (int, float)) and not isinstance(value, bool))
        for value in told
    )


def _piece(name: str, value: Any) -> str | Piece:
    text = _text(name, value)
    if text in _BAD or (name == "security" and value):
        return Piece(text, Style.BAD)
    if text in _UNSURE:
        return Piece(text, Style.WARN)
    if name in ("host", "name", "package", "subject", "path", "first_host"):
        return Piece(text, Style.NAME)
    return Piece(text, Style.FAINT) if name in _FAINT else text


def _text(name: str, value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, datetime):
        return f"{iso(value)[:16].replace('T', ' ')}"
    if isinstance(value, Enum):
        return str(value.value)
    if isinstance(value, (list, tuple)):
        return ", ".join(map(str, value))
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, int):
        return f"{value:,}"
    text = str(value)
    # A digest is told by its beginning: the other formats have it whole.
    long = (
        name in ("digest", "found", "usual", "detail") and len(text) > _DIGEST and " " not in text
    )
    return f"{text[:_DIGEST]}…" if long and "/" not in text else text


def titles(options: FleetOptions) -> Sequence[str]:
    """What each part of a row is called."""
    return options.fields


def rows(answer: Answer[Any, Any], options: FleetOptions) -> Iterator[Sequence[Any]]:
    """The answer for programs: a record a row."""
    for record in answer.records:
        cells = _cells(record)
        yield ["; ".join(map(str, value)) if isinstance(value, list) else value
               for value in (cells.get(name) for name in options.fields)]  # fmt: skip
