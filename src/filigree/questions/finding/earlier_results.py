"""An earlier result of verify, as it was written down: how files were when their content was read.

A line is a record, as our own JSON is written; a whole object on one line will do as well. What is in it
is only text that somebody kept: what does not make sense is passed over, and the file is read again.
"""

import json
from collections.abc import Iterator
from typing import Any

from filigree.model.answer import SCHEMA
from filigree.model.errors import AccessError, BadQuestion
from filigree.model.files import Seen
from filigree.model.hints import Hint
from filigree.system import System

_LIMIT = 4 << 30
_FIELDS = ("size", "modified", "changed", "inode", "digest")
_HINT = Hint.EARLIER_RESULT


def read_earlier(system: System, path: str) -> dict[str, Seen]:
    """Files by path, as an earlier run saw them. Raises BadQuestion where that is no such result."""
    found: dict[str, Seen] = {}
    head = True
    try:
        for line in system.own_lines(path, _LIMIT):
            if head:
                head = False
                records = list(_first(system, line, path))
            else:
                records = list(_records(line))
            for record in records:
                name, seen = record.get("path"), _seen(record.get("seen"))
                if isinstance(name, str) and seen is not None:
                    found[name] = seen
    except AccessError as error:
        raise BadQuestion(f"it cannot be read: {error.what}", path, _HINT) from error
    if head:
        raise BadQuestion("it is empty", path, _HINT)
    if not found:
        raise BadQuestion("it tells of no file how it was when it was read", path, _HINT)
    system.say(
        f"{len(found):,} files are known from {path}: those that are of the same size, times and inode "
        "were not read again, and their verdict rests on that"
    )
    return found


def _first(system: System, line: bytes, path: str) -> Iterator[dict[str, Any]]:
    """The records on the first line, which says what it is."""
    start, _, rest = line.partition(b'"records": [')
    try:
        told = json.loads(start + b'"records": []}' if rest.strip() in (b"", b"]") else line)
    except (ValueError, RecursionError) as error:
        raise BadQuestion("it is no result of ours", path, _HINT) from error
    if (
        not isinstance(told, dict)
        or told.get("schema") != SCHEMA
        or told.get("question") != "verify"
    ):
        raise BadQuestion("it is no result of verify", path, _HINT)
    root = told.get("system", {}).get("root") if isinstance(told.get("system"), dict) else None
    if root != system.root:
        raise BadQuestion(f"it is of another root, {root}", path, "give a result of this one")
    records = told.get("records")
    yield from (
        (one for one in records if isinstance(one, dict)) if isinstance(records, list) else ()
    )


def _records(line: bytes) -> Iterator[dict[str, Any]]:
    if not line.startswith(b"{"):
        return
    try:
        record = json.loads(line.rstrip().rstrip(b","))
    except (ValueError, RecursionError):
        return
    if isinstance(record, dict):
        yield record


def _seen(told: Any) -> Seen | None:
    if not isinstance(told, dict):
        return None
    *numbers, digest = (told.get(name) for name in _FIELDS)
    if not all(type(number) is int for number in numbers) or not isinstance(digest, str):
        return None
    return Seen(*numbers, digest)  # type: ignore[call-arg, arg-type]
