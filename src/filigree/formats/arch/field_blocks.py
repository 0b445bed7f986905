"""Records in blocks: `%FIELD%` on a line of its own, its values a line each, and an empty line behind.

A block without a value, or one that is there twice, is told by what it holds: of two the values follow
each other.
"""

import re

from filigree.formats.damage import text_of

LINE_LIMIT = 1 << 20
"""Signs of one value: what is longer is passed over, as what stands outside of a block is."""
_FIELD = re.compile(r"%([A-Z0-9_-]{1,64})%")


def read_blocks(data: bytes) -> dict[str, list[str]]:
    """The values of each field, in the order of the file. Lines outside of a block are passed over."""
    found: dict[str, list[str]] = {}
    values: list[str] | None = None
    for line in text_of(data).split("\n"):
        match = _FIELD.fullmatch(line) if line.startswith("%") else None
        if match:
            values = found.setdefault(match[1], [])
        elif not line:
            values = None
        elif values is not None and len(line) <= LINE_LIMIT:
            values.append(line)
    return found


def read_pairs(data: bytes) -> dict[str, list[str]]:
    """The values of `key = value` lines, by key, in the order of the file; `#` starts a remark."""
    found: dict[str, list[str]] = {}
    for line in text_of(data).split("\n"):
        if line.startswith("#"):
            continue
        key, equal, value = line.partition("=")
        if equal:
            found.setdefault(key.strip(), []).append(value.strip())
    return found
