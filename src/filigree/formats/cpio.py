"""Payloads of the `cpio` form without checksums ("new ASCII"), and its variant for very large files.

    member = head name padding data padding         padded to four bytes, from the start
    head   = ("070701" | "070702") 13 * 8 hexadecimal digits: inode mode user group links time size
             major minor rdev-major rdev-minor name-size checksum
    member = "07070X" 8 hexadecimal digits padding data padding      the digits number a file of the
             package's header, which tells the rest

Follows cpio(5), "New ASCII Format", and the format chapter of the `rpm` manual. The content of hard links
stands at the last of them alone. The end is a member called `TRAILER!!!`.
"""

import os
import stat
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from filigree.formats.damage import text_of
from filigree.formats.members import (
    MEMBERS_LIMIT,
    Algorithm,
    ByteStream,
    Member,
    PayloadError,
    digest_of,
)
from filigree.model.files import KIND_OF_FORM, Kind

END = "TRAILER!!!"
_NAME_LIMIT = 1 << 16


class Numbered(NamedTuple):
    """What a package's header says of a file whose payload gives nothing but its number."""

    path: str
    mode: int
    size: int
    modified: int


class _Head(NamedTuple):
    inode: int
    mode: int
    uid: int
    gid: int
    links: int
    modified: int
    size: int
    major: int
    minor: int
    device_major: int
    device_minor: int
    name_size: int
    checksum: int


def read_cpio(
    stream: ByteStream, algorithm: Algorithm, numbered: Sequence[Numbered] = ()
) -> Iterator[Member]:
    """The members in their order. Raises PayloadError, also where the end is missing."""
    for _ in range(MEMBERS_LIMIT):
        at = stream.position
        magic = stream.read(6)
        if magic == b"07070X":
            yield _numbered(stream, at, algorithm, numbered)
            continue
        if magic not in (b"070701", b"070702"):
            why = "the payload is cut off" if len(magic) < 6 else "no member where one belongs"
            raise PayloadError(why, at)
        head = _head(stream.read(104), at)
        name = stream.read(head.name_size)
        _pad(stream, at)
        path = text_of(name.rstrip(b"\0"))
        if len(name) < head.name_size or not path:
            raise PayloadError("a member without a name", at)
        if path == END:
            return
        yield _member(stream, path, head, algorithm)
    raise PayloadError(f"more than {MEMBERS_LIMIT:,} members", stream.position)


def _head(data: bytes, at: int) -> _Head:
    try:
        if len(data) < 104 or not data.isalnum():
            raise ValueError
        head = _Head(*(int(data[n : n + 8], 16) for n in range(0, 104, 8)))
    except ValueError:
        raise PayloadError("a member's head that is no head", at) from None
    if not 0 < head.name_size <= _NAME_LIMIT or stat.S_IFMT(head.mode) not in (*KIND_OF_FORM, 0):
        raise PayloadError("a member's head that makes no sense", at)
    return head


def _member(stream: ByteStream, path: str, head: _Head, algorithm: Algorithm) -> Member:
    at = stream.position
    kind = KIND_OF_FORM.get(stat.S_IFMT(head.mode), Kind.FILE)
    target = digest = None
    if kind is Kind.LINK:
        if head.size > _NAME_LIMIT:
            raise PayloadError("a link to a very long path", at)
        target = text_of(stream.read(head.size))
    else:
        # Of several names of one file, only the last is followed by its content.
        empty = head.links > 1 and not head.size
        digest = digest_of(stream, head.size, None if empty else algorithm(path))
    _pad(stream, at)
    is_device = kind in (Kind.BLOCK_DEVICE, Kind.CHARACTER_DEVICE)
    device = os.makedev(head.device_major & 0xFFF, head.device_minor & 0xFFFFF)
    return Member(
        path,
        kind,
        head.mode & 0o7777,
        head.size,
        head.modified,
        link_target=target,
        device=device if is_device else None,
        digest=digest if kind is Kind.FILE else None,
    )


def _numbered(
    stream: ByteStream, at: int, algorithm: Algorithm, numbered: Sequence[Numbered]
) -> Member:
    data = stream.read(8)
    number = int(data, 16) if len(data) == 8 and data.isalnum() and _is_hex(data) else -1
    if not 0 <= number < len(numbered):
        raise PayloadError("a member of no file that the header knows", at)
    _pad(stream, at)
    path, mode, size, modified = numbered[number]
    kind = KIND_OF_FORM.get(stat.S_IFMT(mode), Kind.FILE)
    start = stream.position
    target = digest = None
    if kind is Kind.LINK:
        target = text_of(stream.read(min(size, _NAME_LIMIT)))
    elif kind is Kind.FILE:
        digest = digest_of(stream, size, algorithm(path))
    _pad(stream, start)
    return Member(path, kind, mode & 0o7777, size, modified, link_target=target, digest=digest)


def _is_hex(data: bytes) -> bool:
    return all(sign in b"0123456789abcdefABCDEF" for sign in data)


def _pad(stream: ByteStream, start: int) -> None:
    """Pass over what fills up to four bytes, counted from where a member or its data starts."""
    stream.read(-(stream.position - start) % 4)
