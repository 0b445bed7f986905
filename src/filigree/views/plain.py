"""Answers for programs: JSON, JSON lines, tab-separated lines, CSV."""

import csv
import io
import json
import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import fields, is_dataclass
from datetime import datetime
from enum import Enum
from operator import attrgetter
from typing import Any

from filigree.model.answer import SCHEMA, Answer, Flow, iso
from filigree.model.files import Kind, Role
from filigree.views.text import decodable, escaped


def json_object(answer: Answer[Any, Any]) -> dict[str, Any]:
    """The whole answer in the shape that is promised."""
    records = [plain(record) for record in answer.records]
    return {**_head(answer), "records": records, **_tail(answer)}


def _head(answer: Answer[Any, Any] | Flow[Any, Any]) -> dict[str, Any]:
    system = answer.system
    return {
        "schema": SCHEMA,
        "question": answer.question,
        "system": {
            "root": plain(system.root),
            "family": system.family,
            "label": plain(system.label),
            "seen_at": None if system.seen_at is None else plain(system.seen_at),
        },
    }


def _tail(answer: Answer[Any, Any]) -> dict[str, Any]:
    return {
        "summary": plain(answer.summary),
        "gaps": [{"what": plain(gap.what), "why": plain(gap.why)} for gap in answer.gaps],
    }


def json_text(answer: Answer[Any, Any]) -> Iterator[str]:
    """The answer as one JSON object, a record a line; each is put into words when its turn comes."""
    yield _json(_head(answer))[:-1] + ', "records": ['
    yield from _json_records(answer.records)
    yield "], " + _json(_tail(answer))[1:]


def json_flow(flow: Flow[Any, Any]) -> Iterator[str]:
    """As `json_text`, of records that pass."""
    yield _json(_head(flow))[:-1] + ', "records": ['
    yield from _json_records(flow)
    yield "], " + _json(_tail(flow.rest))[1:]


def _json_records(records: Iterable[Any]) -> Iterator[str]:
    before: str | None = None
    for record in records:
        if before is not None:
            yield before + ","
        before = _json_of(record)
    if before is not None:
        yield before


def jsonl_text(answer: Answer[Any, Any]) -> Iterator[str]:
    """The records alone, one JSON object a line."""
    return map(_json_of, answer.records)


def lines_text(rows: Iterable[Sequence[Any]]) -> Iterator[str]:
    """Tab-separated values, a row a line, escaped so that each is one line."""
    # Of a hundred thousand rows most cells are text that is its own cell, or one of a few types.
    cells = _CELLS
    for row in rows:
        yield "\t".join([
            value
            if type(value) is str
            and value.isprintable()
            and "\\" not in value
            and "://" not in value
            else cells.get(type(value), _flat)(value)
            for value in row
        ])  # fmt: skip


def csv_text(titles: Sequence[str], rows: Iterable[Sequence[Any]]) -> Iterator[str]:
    """Comma-separated values with a line of titles (RFC 4180, lines ending in a line feed)."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="")
    for row in (titles, *rows):
        writer.writerow([_flat(value) for value in row])
        yield out.getvalue()
        out.seek(0)
        out.truncate()


def plain(value: Any) -> Any:
    """A value as JSON knows it: enums by value, times in ISO 8601, records as objects."""
    kind = type(value)
    if kind in _ITSELF:
        return value
    if kind is str:
        return decodable(value)
    getter = _GETTERS.get(kind)
    if getter is not None:
        # Of a hundred thousand records most fields are texts, or are themselves.
        return {
            name: inner
            if (of := type(inner)) in _ITSELF
            else decodable(inner)
            if of is str
            else plain(inner)
            for name, inner in zip(_NAMES[kind] or (), getter(value), strict=True)
        }
    if isinstance(value, (bool, int, float)):
        return value
    if isinstance(value, Enum):
        return value.value
    if isinstance(value, str):
        return decodable(value)
    if isinstance(value, datetime):
        return iso(value)
    if isinstance(value, Mapping):
        return {decodable(str(key)): plain(inner) for key, inner in value.items()}
    names = _field_names(value)
    if names is not None:
        return {name: plain(getattr(value, name)) for name in names}
    return [plain(inner) for inner in value]


def _field_names(value: Any) -> tuple[str, ...] | None:
    """The field names of a record; None where the value is a mere sequence."""
    kind = type(value)
    if kind not in _NAMES:
        found = tuple(field.name for field in fields(kind)) if is_dataclass(kind) else None
        names = _NAMES[kind] = found or getattr(kind, "_fields", None)
        if names is not None and len(names) > 1:
            _GETTERS[kind] = attrgetter(*names)
    return _NAMES[kind]


_NAMES: dict[type, tuple[str, ...] | None] = {}
_GETTERS: dict[type, Callable[[Any], tuple[Any, ...]]] = {}
"""What takes the fields of a record out of it at once."""
_ITSELF = frozenset({type(None), bool, int, float})
"""Types whose values are JSON as they are."""
_AS_IT_IS: set[type] = {str, *_ITSELF}
"""Types whose values the encoder takes as they are."""


def _json_of(record: Any) -> str:
    """A record in JSON. Of a hundred thousand of them most hold nothing that takes to be escaped: that is
    seen in the whole at once, and looked for field by field in the others."""
    getter = _GETTERS.get(type(record))
    if getter is None:
        return _json(plain(record))
    names = _NAMES[type(record)] or ()
    values = [value if type(value) in _AS_IT_IS else _encodable(value) for value in getter(record)]
    text = _ENCODED(dict(zip(names, values, strict=True)))
    if "\\" in text or not text.isascii() or "\x7f" in text or _may_name_somebody(text):
        return _json(plain(record))
    return text


def _encodable(value: Any) -> Any:
    """A value as the encoder takes it; the words of an enumeration are texts to it."""
    if isinstance(value, str) and isinstance(value, Enum):
        _AS_IT_IS.add(type(value))
        return value
    return plain(value)


def _may_name_somebody(text: str) -> bool:
    """Whether an address in it could hold a name and a password."""
    at = text.find("://")
    while at >= 0:
        end = text.find("/", at + 3)
        if "@" in text[at + 3 : end if end >= 0 else None]:
            return True
        at = text.find("://", at + 3)
    return False


_ENCODED = json.JSONEncoder(ensure_ascii=False).encode


def _json(value: Any) -> str:
    """A value in JSON that no terminal takes for more than text: what controls one, turns the direction
    of text or has no width is escaped."""
    text = _ENCODED(value)
    if text.isascii() and "\x7f" not in text:
        return text
    return _UNSEEN.sub(_escape, text)


_UNSEEN = re.compile(
    "[\x7f-\x9f\xad\u061c\u070f\u180e\u200b-\u200f\u2028-\u202e\u2060-\u206f\ufeff\ufff0-\uffff"
    "\U00013430-\U0001345f\U0001bca0-\U0001bca3\U0001d173-\U0001d17a\U000e0000-\U000e0fff]"
)
"""Signs of the categories Cc and Cf, lines and paragraphs (UnicodeData, general categories)."""


def _escape(match: re.Match[str]) -> str:
    return json.dumps(match[0])[1:-1]


class Verbatim(str):
    """A text that has no sign that a terminal would take for more, and is written as it is."""

    __slots__ = ()


_CELLS: dict[type, Callable[[Any], str]] = {
    Verbatim: str,
    type(None): lambda _: "",
    int: str,
    Kind: lambda kind: kind._value_,
    Role: lambda role: role._value_,
}


def _flat(value: Any) -> str:
    """A value in one cell: nothing for None, yes or no, several joined by `; `."""
    if value is None:
        return ""
    if isinstance(value, str):
        return escaped(value)
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, Enum):
        return str(value.value)
    if isinstance(value, datetime):
        return iso(value)
    if isinstance(value, (int, float)):
        return str(value)
    if isinstance(value, Mapping):
        return "; ".join(f"{_flat(key)}={_flat(inner)}" for key, inner in value.items())
    names = _field_names(value)
    if names is not None:
        return " ".join(filter(None, (_flat(getattr(value, name)) for name in names)))
    return "; ".join(_flat(inner) for inner in value)
