"""A file of blobs with a table of slots: one of the containers of the `rpm` database.

    file  = page{n}                  the first pages are slots of 16 bytes, after a head of 32
    head  = "RpmP" version:4 generation:4 pages:4 next:4 unused:12
    slot  = "Slot" package:4 block:4 blocks:4       blocks are of 16 bytes; package 0: a free slot
    blob  = "BlbS" package:4 generation:4 length:4 data padding checksum:4 length:4 "BlbE"

All numbers little-endian; the checksum is Adler-32 over what goes before it. As the comments in the
source of the format's own library describe it. Slots are claims: each is checked against the file, and
a byte is charged once: what two slots name is read for the first, and all that is read is no more than
the file.
"""

import struct
import zlib
from collections.abc import Iterator
from typing import NamedTuple

from filigree.formats.random_access import Bytes, ContainerError

_PAGE = 4096
_BLOCK = 16
_HEAD = struct.Struct("<4s4I12x")
_SLOT = struct.Struct("<4s3I")
_START = struct.Struct("<4s3I")
_END = struct.Struct("<2I4s")


class Blob(NamedTuple):
    """One package's blob: its number, its bytes or why they cannot be had, and where its slot is."""

    number: int
    data: bytes | None
    damage: str | None
    slot: int = 0


def is_slot_file(source: Bytes) -> bool:
    """Whether a file is one, by its magic."""
    return source.at(0, 4) == b"RpmP"


def read_slots(source: Bytes, slot: int | None = None) -> Iterator[Blob]:
    """Every blob in the order of the slots, or the one of a slot that was told before.

    Raises ContainerError where the head is damaged.
    """
    if slot is not None:
        data = source.at(slot, _SLOT.size)
        if len(data) < _SLOT.size:
            raise ContainerError("the file became shorter while it was read", slot)
        _, number, block, blocks = _SLOT.unpack(data)
        yield _blob(source, number, block * _BLOCK, blocks * _BLOCK)._replace(slot=slot)
        return
    head = source.at(0, _HEAD.size)
    if len(head) < _HEAD.size or head[:4] != b"RpmP":
        raise ContainerError("no slot file starts here", 0)
    _, version, _, pages, _ = _HEAD.unpack(head)
    if version != 0:
        raise ContainerError(f"a slot file of unknown version {version}", 4)
    if not 0 < pages <= source.size // _PAGE:
        raise ContainerError(f"{pages} pages of slots are more than the file has", 12)
    named: set[int] = set()
    left = source.size
    for page in range(pages):
        table = source.at(page * _PAGE, _PAGE)
        for at in range(_HEAD.size if page == 0 else 0, _PAGE, _SLOT.size):
            magic, number, block, blocks = _SLOT.unpack_from(table, at)
            here = page * _PAGE + at
            if magic != b"Slot":
                yield Blob(number, None, f"no slot where one belongs, at byte {here}", here)
            elif block in named or blocks * _BLOCK > left:
                told = f"a blob that other slots have as well, at byte {block * _BLOCK}"
                yield Blob(number, None, told, here)
            elif block:
                named.add(block)
                left -= blocks * _BLOCK
                found = _blob(source, number, block * _BLOCK, blocks * _BLOCK)
                yield found._replace(slot=here)


def _blob(source: Bytes, number: int, start: int, size: int) -> Blob:
    least = _START.size + _END.size
    if size < least or start + size > source.size:
        return Blob(number, None, f"a blob outside of the file, at byte {start}")
    magic, named, _, length = _START.unpack(source.at(start, _START.size))
    if magic != b"BlbS" or named != number or length > size - least:
        return Blob(number, None, f"a blob that is not the one of its slot, at byte {start}")
    whole = source.at(start, size)
    checksum, again, magic = _END.unpack_from(whole, size - _END.size)
    if magic != b"BlbE" or again != length:
        return Blob(number, None, f"a blob without its end, at byte {start}")
    if zlib.adler32(whole[: size - _END.size]) != checksum:
        return Blob(number, None, f"a blob whose checksum is wrong, at byte {start}")
    return Blob(number, whole[_START.size : _START.size + length], None)
