"""The `ar` form of an archive: members one after another, each behind a head of 60 signs.

    file = "!<arch>\\n" *(head data [padding to an even place])
    head = name:16 time:12 user:6 group:6 mode:8 size:10 "`\\n"      text, padded with spaces

A name may end in `/`. Follows ar(5). Sizes are claims: each is checked against the file.
"""

from collections.abc import Iterator
from typing import NamedTuple

from filigree.formats.random_access import Bytes, ContainerError

MAGIC = b"!<arch>\n"
_HEAD = 60
MEMBERS_LIMIT = 1000


class ArMember(NamedTuple):
    """One member: its name, and where its bytes are."""

    name: str
    start: int
    size: int


def read_members(source: Bytes) -> Iterator[ArMember]:
    """The members in their order. Raises ContainerError where it goes on as no archive does."""
    if source.at(0, len(MAGIC)) != MAGIC:
        raise ContainerError("no ar archive starts here", 0)
    at = len(MAGIC)
    for _ in range(MEMBERS_LIMIT):
        if at >= source.size:
            return
        head = source.at(at, _HEAD)
        size = head[48:58].strip()
        if len(head) < _HEAD or head[58:] != b"`\n" or not (size.isdigit() and size.isascii()):
            raise ContainerError("no member where one belongs", at)
        start = at + _HEAD
        name = head[:16].decode("utf-8", "surrogateescape").rstrip(" ").removesuffix("/")
        if start + int(size) > source.size:
            raise ContainerError(f"the member {name} is cut off", start)
        yield ArMember(name, start, int(size))
        at = start + int(size) + int(size) % 2
    raise ContainerError(f"more than {MEMBERS_LIMIT} members", at)
