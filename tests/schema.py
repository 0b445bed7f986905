"""Holds the JSON of an answer against what its question says that it returns, type by type."""

import types
import typing
from dataclasses import fields, is_dataclass
from datetime import datetime
from enum import Enum
from importlib import import_module
from typing import Any

import filigree
from filigree.model.answer import SCHEMA
from filigree.questions.offers.candidates import ChoiceRow

_LATER = {"ChoiceRow": ChoiceRow}
"""Types that a module names without loading them."""


def answer_types(question: str) -> tuple[Any, Any]:
    """The types of one record, and of the summary, of a question's answers."""
    name = question.replace("-", "_")
    module = import_module(filigree._WHERE[name])
    record, summary = typing.get_type_hints(getattr(module, name))["return"].__args__
    return record, summary


def row_type(question: str) -> Any:
    """The type of one record of a question's answers."""
    return answer_types(question)[0]


def faults_of(answer: Any) -> list[str]:
    """What an answer's JSON has that it was not promised to have, or lacks; nothing where it is right."""
    if list(answer) != ["schema", "question", "system", "records", "summary", "gaps"]:
        return [f"the answer has {list(answer)}"]
    found = [] if answer["schema"] == SCHEMA else [f"schema {answer['schema']}"]
    found += _fits(answer["system"], dict[str, str | None], "system")
    found += _fits(answer["gaps"], list[dict[str, str]], "gaps")
    for gap in answer["gaps"]:
        if set(gap) != {"what", "why"} or not all(gap.values()):
            found.append(f"a gap is {gap}")
    kind, summary = answer_types(answer["question"])
    found += _fits(answer["summary"], summary, "summary")
    for number, record in enumerate(answer["records"]):
        found += _fits(record, kind, f"record {number}")
    return found


def _fits(value: Any, hint: Any, where: str) -> list[str]:
    origin = typing.get_origin(hint)
    inner = typing.get_args(hint)
    if hint is Any:
        return []
    if origin in (types.UnionType, typing.Union):
        told = [_fits(value, one, where) for one in inner]
        return min(told, key=len)
    if hint is type(None):
        return [] if value is None else [f"{where} is no null"]
    if origin is not None and issubclass(origin, typing.Mapping):
        return _mapping(value, inner, where)
    if origin is not None and issubclass(origin, (list, tuple, typing.Sequence)):
        if not isinstance(value, list):
            return [f"{where} is no list: {value!r}"]
        return [f for n, one in enumerate(value) for f in _fits(one, inner[0], f"{where}[{n}]")]
    if isinstance(hint, type):
        return _plain(value, hint, where)
    return [f"{where}: what is {hint}?"]


def _mapping(value: Any, inner: tuple[Any, ...], where: str) -> list[str]:
    if not isinstance(value, dict):
        return [f"{where} is no object: {value!r}"]
    return [f for key, one in value.items() for f in _fits(one, inner[1], f"{where}.{key}")]


def _plain(value: Any, hint: type, where: str) -> list[str]:
    names = getattr(hint, "_fields", None)
    if is_dataclass(hint):
        names = tuple(field.name for field in fields(hint))
    if names is not None:
        if not isinstance(value, dict) or tuple(value) != names:
            return [f"{where} is no {hint.__name__}: {value!r}"]
        hints = typing.get_type_hints(hint, localns=_LATER)
        return [f for name in names for f in _fits(value[name], hints[name], f"{where}.{name}")]
    if issubclass(hint, Enum):
        return (
            []
            if value in {one.value for one in hint}
            else [f"{where} is no {hint.__name__}: {value!r}"]
        )
    if issubclass(hint, datetime):
        try:
            return (
                []
                if datetime.fromisoformat(value).utcoffset() is not None
                else [f"{where}: {value}"]
            )
        except (TypeError, ValueError):
            return [f"{where} is no time: {value!r}"]
    right = isinstance(value, hint) or (hint is float and isinstance(value, int))
    if hint is int and isinstance(value, bool):
        right = False
    return [] if right else [f"{where} is no {hint.__name__}: {value!r}"]
