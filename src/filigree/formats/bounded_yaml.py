"""YAML documents out of files of a system: texts, lists and tables alone, within bounds.

The events of a parser, one after the other, and nothing of what YAML can do besides: no references to
parts of itself, no types, no times. What is nested deeper than an index needs is refused before a
parser sees it, for those take time with the square of the depth, or crash.
"""

import re
from collections.abc import Iterator
from typing import Any

DEEPEST = 32
_TAGS = frozenset(f"tag:yaml.org,2002:{one}" for one in ("str", "seq", "map"))
_LINE = re.compile(rb"[^\n]*\n?")
_OPENING, _CLOSING = b"[{", b"]}"
_DASHES = re.compile(rb"(?:[-?:][ \t]+){%d}" % (2 * DEEPEST))


class YamlError(ValueError):
    """What is no YAML, or asks for what is not given."""


def read_documents(data: bytes) -> Iterator[Any]:
    """The documents: each a text, a list or a dictionary of texts, lists and dictionaries.

    Raises YamlError.
    """
    import yaml

    _not_too_deep(data)
    loader = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
    try:
        events = yaml.parse(data, loader)
        for event in events:
            if isinstance(event, yaml.DocumentStartEvent):
                yield _value(next(events), events, 0)
    except (yaml.YAMLError, RecursionError, StopIteration, ValueError) as error:
        if isinstance(error, YamlError):
            raise
        told = str(error).splitlines() or ["it breaks off"]
        raise YamlError(f"it is no YAML: {told[0]}") from error


def _not_too_deep(data: bytes) -> None:
    """Raise YamlError where more is opened than closed, over and over: signs in texts count as well."""
    depth = 0
    for match in _LINE.finditer(data):
        line = match[0]
        if line.startswith(b"---"):
            depth = 0
        opened = sum(map(line.count, (b"[", b"{")))
        if opened:
            depth = max(0, depth + opened - sum(map(line.count, (b"]", b"}"))))
            if depth > 1000 or (opened > 1000 and _deepest(line) > 1000):
                raise YamlError("it is nested deeper than makes sense")
        elif b"]" in line or b"}" in line:
            depth = max(0, depth - sum(map(line.count, (b"]", b"}"))))
    if _DASHES.search(data):
        raise YamlError("it is nested deeper than makes sense")


def _deepest(line: bytes) -> int:
    depth = most = 0
    for sign in line:
        if sign in _OPENING:
            depth += 1
            most = max(most, depth)
        elif sign in _CLOSING:
            depth = max(0, depth - 1)
    return most


def _value(event: Any, events: Iterator[Any], depth: int) -> Any:
    import yaml

    if depth > DEEPEST:
        raise YamlError("it is nested deeper than makes sense")
    if isinstance(event, yaml.AliasEvent):
        raise YamlError("it refers to a part of itself")
    if event.tag is not None and event.tag not in _TAGS:
        raise YamlError(f"it asks for a type of its own: {event.tag[:80]}")
    if isinstance(event, yaml.ScalarEvent):
        return event.value
    if isinstance(event, yaml.SequenceStartEvent):
        found = []
        while not isinstance(event := next(events), yaml.SequenceEndEvent):
            found.append(_value(event, events, depth + 1))
        return found
    table: dict[str, Any] = {}
    while not isinstance(event := next(events), yaml.MappingEndEvent):
        key = _value(event, events, depth + 1)
        value = _value(next(events), events, depth + 1)
        if isinstance(key, str):
            table[key] = value
    return table
