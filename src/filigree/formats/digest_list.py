"""Lists of digests as coreutils writes them: hex, two signs, path (`md5sum`, text mode).

A line that starts with a backslash has backslashes and line ends in its path escaped.
"""

import re
from typing import NamedTuple

from filigree.formats.damage import Damage, text_of
from filigree.formats.long_lines import without_long_lines

_PLAIN = re.compile(r"^([0-9a-f]{32})  (.+)$", re.MULTILINE)
_LINE = re.compile(r"\\?([0-9a-fA-F]{32}|[0-9a-fA-F]{64})[ ][ *](.+)")


class DigestList(NamedTuple):
    """Digests (`md5:hex` or `sha256:hex`) by the path as written, and the lines that are none.

    `others` are further digests of a path that has several.
    """

    digests: dict[str, str]
    others: dict[str, tuple[str, ...]]
    damages: tuple[Damage, ...]


def read_digest_list(data: bytes) -> DigestList:
    """A whole list. A path given twice with different digests is told among the damages."""
    damages: list[Damage] = []
    data, left_out = without_long_lines(data)
    if left_out is not None:
        damages.append(Damage(0, left_out))
    text = text_of(data)
    # Most lists are plain throughout, and whole systems have a hundred thousand lines of them.
    plain = _PLAIN.findall(text)
    digests = {path: f"md5:{digest}" for digest, path in plain}
    if len(digests) == text.count("\n") and text.endswith("\n"):
        return DigestList(digests, {}, tuple(damages))
    digests = {}
    others: dict[str, tuple[str, ...]] = {}
    for number, line in enumerate(text.split("\n"), 1):
        if not line:
            continue
        found = _LINE.fullmatch(line)
        if found is None:
            damages.append(Damage(number, "a line that is no digest"))
            continue
        digest, path = found.groups()
        if line.startswith("\\"):
            path = path.replace("\\n", "\n").replace("\\\\", "\\")
        written = f"{'md5' if len(digest) == 32 else 'sha256'}:{digest.lower()}"
        if digests.setdefault(path, written) != written:
            others[path] = (*others.get(path, ()), written)
            damages.append(Damage(number, "a second digest for the same path"))
    return DigestList(digests, others, tuple(damages))
