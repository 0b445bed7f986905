"""The members of a gzip file (RFC 1952, section 2.2), told apart: where each begins, and where it ends.

Read as one, their contents stand one behind the other; who signs one of them signs its bytes.
"""

from collections.abc import Iterator
from typing import NamedTuple

from filigree.formats.random_access import Bytes
from filigree.formats.unpacking import PIECE, Unpacked, UnpackError


class GzipMember(NamedTuple):
    """One member: where it begins, and how many packed bytes it has."""

    start: int
    size: int


def gzip_members(source: Bytes, most: int) -> Iterator[GzipMember]:
    """The members of a file from its start to its end, at most so many; each is unpacked to find its end.

    Raises UnpackError where one is damaged or cut off, where more follow, or where what follows is none.
    """
    start = 0
    for _ in range(most):
        if start >= source.size:
            return
        member = Unpacked(source, start, source.size - start, single=True)
        if member.compression != "gzip":
            raise UnpackError(f"what stands at byte {start:,} is no gzip member")
        while member.read(PIECE):
            pass
        yield GzipMember(start, member.read_so_far)
        start += member.read_so_far
    if start < source.size:
        raise UnpackError(f"more than {most} gzip members")
