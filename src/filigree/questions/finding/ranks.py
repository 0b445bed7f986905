"""How much a file of nobody's is to be looked at."""

import stat
from enum import StrEnum

from filigree.model.files import Kind


class Rank(StrEnum):
    """How much a file of nobody's is to be looked at, the most first."""

    RIGHTS = "set-id"
    PROGRAM = "executable"
    OTHER = "other"


def rank_of(kind: Kind, mode: int) -> Rank:
    """The rank of a path, by its kind and its permission bits."""
    if kind is not Kind.FILE:
        return Rank.OTHER
    if mode & (stat.S_ISUID | stat.S_ISGID):
        return Rank.RIGHTS
    return Rank.PROGRAM if mode & 0o111 else Rank.OTHER
