"""The members of a payload, whatever its form: what each is, and the digest of what it holds."""

import hashlib
from collections.abc import Callable
from typing import NamedTuple, Protocol

from filigree.model.files import Kind

MEMBERS_LIMIT = 250_000
PIECE = 1 << 17


class Member(NamedTuple):
    """One member. `path` is as it is written; `same_as` is the path of a hard link's other name.

    `digest` is `algorithm:hex` of a regular file's content, None where it was not asked for.
    """

    path: str
    kind: Kind
    mode: int
    size: int
    modified: int
    owner: str | None = None
    group: str | None = None
    link_target: str | None = None
    device: int | None = None
    same_as: str | None = None
    digest: str | None = None


class PayloadError(ValueError):
    """A payload that is not as its form wants it; `offset` is the unpacked byte where that shows."""

    def __init__(self, why: str, offset: int) -> None:
        super().__init__(f"{why} (at byte {offset:,} of what is unpacked)")
        self.offset = offset


class ByteStream(Protocol):
    """Bytes from a start to an end."""

    @property
    def position(self) -> int: ...

    def read(self, size: int) -> bytes:
        """So many bytes; fewer only at the end."""
        ...


Algorithm = Callable[[str], str | None]
"""By which algorithm the content of a path is to be digested; None to pass over it."""


def digest_of(stream: ByteStream, size: int, algorithm: str | None) -> str | None:
    """Take so many bytes off a stream, and digest them. Raises PayloadError where they end before."""
    digest = hashlib.new(algorithm, usedforsecurity=False) if algorithm else None
    left = size
    while left:
        data = stream.read(min(left, PIECE))
        if not data:
            raise PayloadError(f"a file of {size:,} bytes is cut off", stream.position)
        left -= len(data)
        if digest is not None:
            digest.update(data)
    return f"{algorithm}:{digest.hexdigest()}" if digest is not None else None
