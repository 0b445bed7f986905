"""Identities: digests of rows, and texts that any engine takes.

A path may hold any bytes: those that are no UTF-8 stand as `\\xNN`, and a backslash as two. That is
undone
by `path_of`, so that no two paths have one text.
"""

import hashlib
import json
import re
from collections.abc import Iterable, Sequence

Value = str | int | None
Row = tuple[Value, ...]
_ODD = re.compile(r"[\x00-\x1f\\\udc80-\udcff]|[\ud800-\udbff]|[\udc00-\udc7f]|[\udd00-\udfff]")
_BACK = re.compile(r"\\x([0-9a-f]{2})|\\u([0-9a-f]{4})|\\\\")
_LARGEST = (1 << 63) - 1


def text_of(text: str) -> str:
    """A text that is UTF-8 and has no control characters, whatever it is made of.

    >>> text_of("/srv/a\\\\b")
    '/srv/a\\\\\\\\b'
    """
    return _ODD.sub(_written, text)


def _written(found: re.Match[str]) -> str:
    sign = found[0]
    if sign == "\\":
        return "\\\\"
    number = ord(sign)
    if 0xDC80 <= number <= 0xDCFF:
        return f"\\x{number - 0xDC00:02x}"
    return f"\\u{number:04x}"


def path_of(text: str) -> str:
    """The path that a text was made of."""

    def read(found: re.Match[str]) -> str:
        if found[1] is not None:
            return chr(0xDC00 + int(found[1], 16))
        return chr(int(found[2], 16)) if found[2] is not None else "\\"

    return _BACK.sub(read, text)


def number_of(value: int | None) -> int | None:
    """A number that 64 bits hold; None for one that they do not."""
    return value if value is not None and -_LARGEST <= value <= _LARGEST else None


def identity_of(rows: Iterable[Sequence[Value]]) -> str:
    """The SHA-256 of rows in their order, each a line of JSON with no blanks in it."""
    digest = hashlib.sha256()
    for row in rows:
        digest.update(json.dumps(row, ensure_ascii=False, separators=(",", ":")).encode() + b"\n")
    return digest.hexdigest()
