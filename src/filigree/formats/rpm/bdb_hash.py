"""A Berkeley DB hash file, read for its keys and values: one of the containers of the `rpm` database.

Pages of one size. The first holds the description (magic 0x061561, versions 8 and 9, in the byte order
of the machine that wrote it). Pages of hash entries hold offsets from their start to items, in pairs of
key and value; an item is kept in place, or in a chain of overflow pages. Follows the page layouts in
the library's header `db_page.h`. Offsets, lengths and chains are claims: each is checked against the
file. A byte is charged once: a page of a chain belongs to one value, and the items of a page are no
more than the page, so that all that comes out is no more than the file.
"""

import struct
from collections.abc import Iterator
from typing import Final, NamedTuple

from filigree.formats.random_access import Bytes, ContainerError

MAGIC: Final = 0x061561
VERSIONS: Final = (8, 9)
_META_PAGE, _HASH_UNSORTED, _OVERFLOW, _HASH = 8, 2, 7, 13
_IN_PLACE, _OFF_PAGE = 1, 3
_HEAD_SIZE = 26
_OFF_PAGE_SIZE = 12
_PLACES = 1 << 16


class Pair(NamedTuple):
    """A key and its value, or why the value cannot be had; and where the pair is."""

    key: bytes
    value: bytes | None
    damage: str | None
    place: int = 0


class _PageHead(NamedTuple):
    number: int
    previous: int
    following: int
    entries: int
    used: int
    level: int
    kind: int


def is_hash_file(source: Bytes) -> bool:
    """Whether a file is one, by its magic, in either byte order."""
    return _order(source) is not None


def byte_order(source: Bytes) -> str:
    """`<` or `>`. Raises ContainerError where the file is no hash file."""
    order = _order(source)
    if order is None:
        raise ContainerError("no hash file starts here", 0)
    return order


def read_pairs(source: Bytes, place: int | None = None) -> Iterator[Pair]:
    """Every pair in the order of the pages, or the one at a place that was told before.

    Raises ContainerError where the description is damaged.
    """
    file = _HashFile(source)
    if place is not None:
        number, at = divmod(place, _PLACES)
        yield from file.pairs(number, at)
        return
    for number in range(1, file.last + 1):
        yield from file.pairs(number)


def _order(source: Bytes) -> str | None:
    data = source.at(12, 4)
    for order in "<>":
        if len(data) == 4 and struct.unpack(f"{order}I", data)[0] == MAGIC:
            return order
    return None


class _HashFile:
    def __init__(self, source: Bytes) -> None:
        self._source = source
        self._order = byte_order(source)
        head = source.at(0, 36)
        if len(head) < 36:
            raise ContainerError("the description is cut off", len(head))
        version, self.page_size = struct.unpack_from(f"{self._order}II", head, 16)
        if version not in VERSIONS:
            raise ContainerError(f"a hash file of unknown version {version}", 16)
        if head[24]:
            raise ContainerError("an encrypted hash file", 24)
        if head[25] != _META_PAGE:
            raise ContainerError("the first page describes no hash", 25)
        size = self.page_size
        if not 512 <= size <= 65536 or size & (size - 1):
            raise ContainerError(f"pages of {size} bytes", 20)
        (last,) = struct.unpack_from(f"{self._order}I", head, 32)
        # A file that was cut off has fewer pages than it says.
        self.last = min(last, source.size // size - 1)
        self.cut = last > self.last
        self._head = struct.Struct(f"{self._order}8x3I2H2B")
        self._charged: set[int] = set()

    def pairs(self, number: int, only: int | None = None) -> Iterator[Pair]:
        page = self._page(number)
        head = _PageHead(*self._head.unpack_from(page))
        if head.kind not in (_HASH, _HASH_UNSORTED):
            return
        room = (self.page_size - _HEAD_SIZE) // 2
        if head.entries > room:
            yield Pair(b"", None, f"page {number} has more entries than room")
            return
        offsets = struct.unpack_from(f"{self._order}{head.entries}H", page, _HEAD_SIZE)
        ends = (self.page_size, *offsets)
        every = range(0, head.entries - 1, 2)
        left = self.page_size
        for at in every if only is None else [only] if only in every else []:
            key, damage = self._item(page, offsets[at], ends[at])
            value = None
            if damage is None:
                value, damage = self._item(page, offsets[at + 1], ends[at + 1])
            left -= max(0, ends[at] - offsets[at]) + max(0, offsets[at] - offsets[at + 1])
            if left < 0 and damage is None:
                value, damage = None, "its items lie over each other"
            told = damage and f"page {number}: {damage}"
            yield Pair(key or b"", value, told, number * _PLACES + at)

    def _page(self, number: int) -> bytes:
        data = self._source.at(number * self.page_size, self.page_size)
        return data.ljust(self.page_size, b"\0")

    def _item(self, page: bytes, start: int, end: int) -> tuple[bytes | None, str | None]:
        """An item's bytes, or why they cannot be had. `end` is where the item before it starts."""
        if not _HEAD_SIZE <= start < end <= self.page_size:
            return None, "an item outside of its page"
        kind = page[start]
        if kind == _IN_PLACE:
            return page[start + 1 : end], None
        if kind != _OFF_PAGE:
            return None, f"an item of unknown kind {kind}"
        if end - start < _OFF_PAGE_SIZE:
            return None, "an item that is cut off"
        first, length = struct.unpack_from(f"{self._order}2I", page, start + 4)
        return self._chain(first, length)

    def _chain(self, number: int, length: int) -> tuple[bytes | None, str | None]:
        """A value in a chain of overflow pages."""
        room = self.page_size - _HEAD_SIZE
        if length > self.last * room:
            return None, f"a value of {length} bytes is larger than the file"
        parts: list[bytes] = []
        got = 0
        while got < length:
            if not 0 < number <= self.last:
                return None, f"the chain of a value leaves the file, at page {number}"
            if number in self._charged:
                return None, f"page {number} is a part of two values, or of a circle"
            self._charged.add(number)
            page = self._page(number)
            head = _PageHead(*self._head.unpack_from(page))
            # On an overflow page, the place of the free space holds the bytes that are used.
            if head.kind != _OVERFLOW or not 0 < head.used <= room:
                return None, f"page {number} is no part of a value"
            parts.append(page[_HEAD_SIZE : _HEAD_SIZE + head.used])
            got += head.used
            number = head.following
        return b"".join(parts)[:length], None
