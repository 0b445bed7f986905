"""Lists of protected paths of an `apk` system: what an administrator may change.

    line = "#" remark | ("+" | "-" | "@" | "!") path

`+`: what is below stays as it is, and what is new is put beside; `-`: it does not; `@`: of links alone;
`!`: nothing is put beside either. Paths have no first slash; a `*` and a `?` stand for signs of one part.
The last line that fits a path counts, and the lists go behind what counts without any.
"""

from collections.abc import Iterable
from enum import StrEnum
from typing import NamedTuple

from filigree.formats.damage import Damage, text_of
from filigree.formats.patterns import PatternError, glob

_LINE_LIMIT = 4096
_WILD = frozenset("*?[")


class Protection(StrEnum):
    """What happens to a path that was changed when its package is."""

    KEPT = "+"
    REPLACED = "-"
    LINKS_KEPT = "@"
    IGNORED = "!"


class ProtectedPath(NamedTuple):
    """One line: what is below a path, which may have wild signs, and what happens to it. `place` is the
    file that says so."""

    path: str
    protection: Protection
    place: str = ""


USUAL = (
    ProtectedPath("etc", Protection.KEPT),
    ProtectedPath("etc/init.d", Protection.REPLACED),
    ProtectedPath("etc/apk", Protection.REPLACED),
)
"""What counts without any list."""


def read_protected(data: bytes) -> list[ProtectedPath | Damage]:
    """The lines of one list; a Damage in the place of one that makes no sense."""
    found: list[ProtectedPath | Damage] = []
    for number, line in enumerate(text_of(data).split("\n"), 1):
        text = line.strip()
        if not text or text.startswith("#"):
            continue
        path = text[1:].strip("/")
        if text[0] not in "+-@!" or not path or len(text) > _LINE_LIMIT:
            found.append(Damage(number, f"a line that protects nothing: {text[:80]!r}"))
            continue
        try:
            glob(path, parts=True).matches("")
            found.append(ProtectedPath(path, Protection(text[0])))
        except PatternError as error:
            found.append(Damage(number, str(error)))
    return found


def protection_of(path: str, lines: Iterable[ProtectedPath]) -> Protection:
    """What happens to a path (without a first slash), by the last line that it is below of."""
    found = Protection.REPLACED
    for line in lines:
        if is_below(path, line.path):
            found = line.protection
    return found


def is_below(path: str, top: str) -> bool:
    """Whether a path is what a line names, or below it."""
    if not _WILD & set(top):
        return path == top or path.startswith(f"{top}/")
    parts = path.split("/")[: top.count("/") + 1]
    return glob(top, parts=True).matches("/".join(parts))
