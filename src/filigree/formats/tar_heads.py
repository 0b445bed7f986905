"""Heads of tar members as most writers write them, read quickly (POSIX.1-2017, pax: ustar and extended).

A layer has a hundred thousand of them. Whatever is not plain is left to the standard library, which
knows every dialect: numbers in base 256, long names of one dialect, sparse files, global heads, damaged
ones. What comes out is what it would have made of the same bytes; a test holds the two together.
"""

import re
import struct
import tarfile
from collections.abc import Callable
from zlib import adler32

BLOCK = 512
_MAGICS = (b"ustar\x0000", b"ustar  \x00")
_PLAIN = frozenset(b"0123456")
_EXTENDED = ord("x")
_LONGEST = 1 << 16
_APART = ("GNU.sparse", "hdrcharset")
_NUMBERS: dict[str, Callable[[str], float]] = {
    "mtime": float, "uid": int, "gid": int, "size": int,
}  # fmt: skip


def plain_head(block: bytes, offset: int) -> tarfile.TarInfo | None:
    """The member of one plain head that begins at `offset`; None where the head is not plain."""
    kind = block[156]
    if kind not in _PLAIN or block[257:265] not in _MAGICS or not block[0]:
        return None
    numbers = _numbers(block)
    if numbers is None:
        return None
    info = tarfile.TarInfo(_text(block, 0, 100))
    info.mode, info.uid, info.gid, info.size, info.mtime, info.chksum = numbers[:6]
    info.devmajor, info.devminor = numbers[6:]
    info.type = block[156:157]
    if block[157]:
        info.linkname = _text(block, 157, 257)
    info.uname, info.gname = _text(block, 265, 297), _text(block, 297, 329)
    if block[345]:
        info.name = f"{_text(block, 345, 500)}/{info.name}"
    if kind == 53:  # a directory
        info.name = info.name.rstrip("/")
    info.offset, info.offset_data = offset, offset + BLOCK
    return info


def extension_of(block: bytes) -> int | None:
    """How many bytes of an extended head follow a block; None where it is of no plain extended head."""
    if block[156] != _EXTENDED or block[257:265] not in _MAGICS or not block[0]:
        return None
    numbers = _numbers(block)
    return numbers[3] if numbers is not None and numbers[3] <= _LONGEST else None


def read_extension(data: bytes) -> dict[str, str] | None:
    """The records of an extended head, `length keyword=value` each; None where they are not plain."""
    found: dict[str, str] = {}
    at = 0
    while at < len(data) and data[at]:
        blank = data.find(b" ", at, at + 8)
        number = data[at:blank]
        if blank < 0 or not number.isdigit():
            return None
        end = at + int(number)
        keyword, equals, value = data[blank + 1 : end - 1].partition(b"=")
        if end > len(data) or end <= blank + 1 or not equals or not keyword or data[end - 1] != 10:
            return None
        try:
            name = keyword.decode("utf-8")
            text = value.decode("utf-8", "surrogateescape")
        except UnicodeDecodeError:
            return None
        if name.startswith(_APART):
            return None
        found[name] = text
        at = end
    return found


def extend(info: tarfile.TarInfo, told: dict[str, str]) -> None:
    """What an extended head tells takes the place of what the plain one says."""
    for keyword, value in told.items():
        if keyword in _NUMBERS:
            try:
                number = _NUMBERS[keyword](value)
            except ValueError:
                number = 0
            setattr(info, keyword, number)
        elif keyword == "path":
            info.name = value.rstrip("/")
        elif keyword == "linkpath":
            info.linkname = value
        elif keyword in ("uname", "gname"):
            setattr(info, keyword, value)
    info.pax_headers = told


_FIELDS = struct.Struct("100x 8s 8s 8s 12s 12s 8s 173x 8s 8s")
_USUAL = re.compile(
    rb"(?s:.{100})([0-7]{7})\0([0-7]{7})\0([0-7]{7})\0([0-7]{11})\0([0-7]{11})\0([0-7]{6})\0 "
    rb"(?s:.{173})(?:([0-7]{7})|\0{7})\0(?:([0-7]{7})|\0{7})\0"
)


def _numbers(block: bytes) -> list[int] | None:
    """Mode, user, group, size, time, checksum and the two numbers of a device, all in octal digits; None
    where one is not (but in base 256, say), or where the checksum is another."""
    usual = _USUAL.match(block)
    if usual is not None:  # as nearly every writer writes them: told much sooner
        found = [int(field, 8) for field in usual.groups(b"0")]
        checksum = block[148:156]
    else:
        fields = _FIELDS.unpack_from(block)
        checksum = fields[5]
        try:
            found = [int(field.partition(b"\0")[0].strip() or b"0", 8) for field in fields]
        except ValueError:
            return None
    whole = found[5] == 256 + _sum(block) - sum(checksum)
    return found if whole and found[3] >= 0 else None


def _sum(block: bytes) -> int:
    """The sum of the bytes of a block: the lower half of an Adler checksum is one more, up to 65,520,
    and made much sooner than by counting."""
    return (adler32(block[:256]) & 0xFFFF) + (adler32(block[256:]) & 0xFFFF) - 2


def _text(block: bytes, start: int, end: int) -> str:
    return block[start:end].partition(b"\0")[0].decode("utf-8", "surrogateescape")
