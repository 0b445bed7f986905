"""Declared files, directories and links that a system makes when it starts: tmpfiles.d(5).

    line = type path [mode [user [group [age [argument]]]]]

A path may hold patterns, for the types that act on what is there, and `%` letters that stand for facts of
the running system: a line with one of those that we cannot know is passed over.
"""

from collections.abc import Iterator
from typing import NamedTuple

from filigree.formats.damage import text_of

_MAKES = frozenset("fFwdDevqQpLcbC")
_PATTERNED = frozenset("*?[")


class Rule(NamedTuple):
    """What is to be made at a path. `copies` is whether what lies below it is made too."""

    path: str
    copies: bool

    @property
    def patterned(self) -> bool:
        """Whether its path is a pattern."""
        return bool(_PATTERNED & set(self.path))


def read_rules(data: bytes) -> Iterator[Rule]:
    """The rules of one file that make something; what makes no sense is passed over."""
    for line in text_of(data).split("\n"):
        fields = line.split(None, 2)
        if len(fields) < 2 or line.lstrip().startswith("#"):
            continue
        kind, path = fields[0], fields[1].strip("\"'").rstrip("/")
        if kind[:1] in _MAKES and path.startswith("/") and "%" not in path.replace("%%", ""):
            yield Rule(path.replace("%%", "%"), kind[0] == "C")
