"""Lines of a list of paths that are longer than any path: found without looking at each line."""

import re

from filigree.model.limits import PATH_LIMIT

LINE_LIMIT = 4 * PATH_LIMIT
_LONG = re.compile(rb"^[^\n]{%d,}(?:\n|\Z)" % LINE_LIMIT, re.MULTILINE)


def without_long_lines(data: bytes) -> tuple[bytes, str | None]:
    """What is left of a list without lines of `LINE_LIMIT` bytes and more, and what was left out.

    The words are None where there was no such line, and the list is the same object then.
    """
    if not _has_long_line(data):
        return data, None
    left, count = _LONG.subn(b"", data)
    return left, f"{count:,} lines that are longer than paths are"


def _has_long_line(data: bytes) -> bool:
    """Whether some line has `LINE_LIMIT` bytes or more, its end not counted."""
    start = 0
    while len(data) - start >= LINE_LIMIT:
        # From the start of a line: all lines that end within the limit are short enough.
        end = data.rfind(b"\n", start, start + LINE_LIMIT)
        if end < 0:
            return True
        start = end + 1
    return False
