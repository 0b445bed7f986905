"""The header of an `rpm` package: an index of tags, and a store of their values.

    header = [magic] count:4 size:4 entry{count} store{size}     all numbers big-endian
    entry  = tag:4 type:4 offset:4 count:4

Follows the format chapter of the manual. The first entry may be a region: its value is a trailer, an
entry whose offset is minus the bytes of the index that belong to the region. That part of the index
and the store up to the end of the trailer, with the magic in front, is what signatures cover;
entries after it were added when the package was installed.

Counts, sizes and offsets are claims: each is checked against the bytes that are there before it is
used, and a value is decoded only when it is asked for.
"""

import struct
from bisect import bisect_right
from collections.abc import Iterator
from enum import IntEnum
from functools import cached_property
from typing import NamedTuple

from filigree.formats.damage import text_of
from filigree.formats.rpm import tags

MAGIC = b"\x8e\xad\xe8\x01\x00\x00\x00\x00"
_ENTRY = struct.Struct(">4I")
_TRAILER = struct.Struct(">2IiI")
_HEAD = struct.Struct(">2I")


class Type(IntEnum):
    """How the values of an entry are stored."""

    NULL = 0
    CHAR = 1
    INT8 = 2
    INT16 = 3
    INT32 = 4
    INT64 = 5
    STRING = 6
    BINARY = 7
    STRINGS = 8
    TRANSLATED = 9


_WIDTHS = {Type.CHAR: 1, Type.INT8: 1, Type.INT16: 2, Type.INT32: 4, Type.INT64: 8}
_LETTERS = {Type.CHAR: "B", Type.INT8: "B", Type.INT16: "H", Type.INT32: "I", Type.INT64: "Q"}
_TEXTS = (Type.STRING, Type.STRINGS, Type.TRANSLATED)

Value = tuple[int, ...] | tuple[str, ...] | bytes | None
"""Numbers, texts or bytes; None for an entry that has no value."""


class HeaderError(ValueError):
    """A header that is not as the format wants it. `offset` is the byte where that shows."""

    def __init__(self, why: str, offset: int) -> None:
        super().__init__(f"{why} (at byte {offset})")
        self.offset = offset


class TagEntry(NamedTuple):
    """Where the values of a tag are: their type, their place in the store, and how many (`length`)."""

    tag: int
    type: int
    offset: int
    length: int


class Header:
    """One header, read lazily. Unknown tags are kept, and told by their numbers."""

    def __init__(self, blob: bytes, start: int = 0) -> None:
        if len(blob) - start < _HEAD.size:
            raise HeaderError("a header without its counts", start)
        count, size = _HEAD.unpack_from(blob, start)
        index = start + _HEAD.size
        self._store: int = index + count * _ENTRY.size
        self.end: int = self._store + size
        if self.end > len(blob):
            raise HeaderError(f"a header of {count} entries and {size} bytes is cut off", start)
        self._blob = blob
        self._index = index
        rows = list(_ENTRY.iter_unpack(blob[index : self._store]))
        rows.reverse()
        # Of a tag that is there twice, the first counts.
        self._rows = {row[0]: row for row in rows}

    @cached_property
    def entries(self) -> list[TagEntry]:
        """Every entry, in the order of the index."""
        return [TagEntry(*row) for row in _ENTRY.iter_unpack(self._blob[self._index : self._store])]

    def __contains__(self, tag: int) -> bool:
        return tag in self._rows

    def __iter__(self) -> Iterator[int]:
        return reversed(self._rows)

    def _entry(self, tag: int) -> TagEntry | None:
        row = self._rows.get(tag)
        return None if row is None else TagEntry._make(row)

    def value(self, tag: int) -> Value:
        """The values of a tag; None where it is absent. Raises HeaderError where they are damaged."""
        entry = self._entry(tag)
        return None if entry is None else self._decoded(entry)

    def text(self, tag: int) -> str | None:
        """The first text of a tag; None where it is absent or no text."""
        row = self._rows.get(tag)
        if row is None or row[1] not in _TEXTS or not row[3]:
            return None
        start = self._store + row[2]
        end = self._blob.find(b"\0", start, self.end)
        if end < 0:
            raise HeaderError("a text outside of the store, or without an end", start)
        return self._blob[start:end].decode("utf-8", "surrogateescape")

    def texts(self, tag: int) -> tuple[str, ...]:
        """All texts of a tag; none where it is absent or no text."""
        entry = self._entry(tag)
        if entry is None or entry.type not in _TEXTS:
            return ()
        return self._texts(entry)

    def raw_texts(self, tag: int) -> bytes:
        """The texts of a tag as they lie, each ended by a zero byte, and what may follow them."""
        entry = self._entry(tag)
        if entry is None or entry.type not in _TEXTS:
            return b""
        start = self._place(entry)
        data = self._blob[start : self._next_after(entry)]
        if data.count(b"\0") < entry.length:
            data = self._blob[start : self.end]
        return data

    def length(self, tag: int) -> int:
        """How many values a tag has, by its own account; never more than there are bytes."""
        row = self._rows.get(tag)
        return min(row[3], self.end - self._store) if row else 0

    def number(self, tag: int) -> int | None:
        """The first number of a tag; None where it is absent or no number."""
        numbers = self.numbers(tag)
        return numbers[0] if numbers else None

    def numbers(self, tag: int) -> tuple[int, ...]:
        """All numbers of a tag; none where it is absent or no number."""
        entry = self._entry(tag)
        if entry is None or entry.type not in _WIDTHS:
            return ()
        return self._numbers(entry)

    @cached_property
    def paths(self) -> tuple[str, ...]:
        """Every path of the package, in either way of naming files."""
        if tags.BASE_NAMES not in self:
            return self.texts(tags.OLD_FILE_NAMES)
        names, folders = self.texts(tags.BASE_NAMES), self.texts(tags.DIRECTORY_NAMES)
        places = self.numbers(tags.DIRECTORY_INDEXES)
        if len(places) != len(names) or any(place >= len(folders) for place in places):
            raise HeaderError("the names and directories of files do not fit", self._index)
        return tuple(folders[place] + name for place, name in zip(places, names, strict=True))

    @cached_property
    def sizes(self) -> tuple[int, ...]:
        """The size of each file, in either width."""
        return self.numbers(tags.LONG_FILE_SIZES) or self.numbers(tags.FILE_SIZES)

    def immutable(self) -> bytes | None:
        """The bytes that signatures and digests of the header cover; None where there is no region.

        Raises HeaderError where the region is not within the header.
        """
        if not self.entries:
            return None
        region = self.entries[0]
        if region.tag not in (tags.IMMUTABLE, tags.SIGNATURES) or region.type != Type.BINARY:
            return None
        trailer_at = self._store + region.offset
        if trailer_at + _TRAILER.size > self.end or region.length != _TRAILER.size:
            raise HeaderError("the trailer of the region is outside of the store", self._index)
        tag, _, back, _ = _TRAILER.unpack_from(self._blob, trailer_at)
        count, rest = divmod(-back, _ENTRY.size)
        if tag != region.tag or rest or not 0 < count <= len(self.entries):
            raise HeaderError("the region does not end where it says", trailer_at)
        size = region.offset + _TRAILER.size
        index = self._blob[self._index : self._index + count * _ENTRY.size]
        store = self._blob[self._store : self._store + size]
        return MAGIC + _HEAD.pack(count, size) + index + store

    # -- decoding --------------------------------------------------------------------------

    def _decoded(self, entry: TagEntry) -> Value:
        if entry.type in _WIDTHS:
            return self._numbers(entry)
        if entry.type in _TEXTS:
            return self._texts(entry)
        if entry.type == Type.BINARY:
            return self._slice(entry, entry.length)
        if entry.type == Type.NULL:
            return None
        raise HeaderError(f"a value of unknown type {entry.type}", self._place(entry))

    def _numbers(self, entry: TagEntry) -> tuple[int, ...]:
        kind = Type(entry.type)
        data = self._slice(entry, entry.length * _WIDTHS[kind])
        return struct.unpack(f">{entry.length}{_LETTERS[kind]}", data)

    def _texts(self, entry: TagEntry) -> tuple[str, ...]:
        """The texts of an entry: each ends with a zero byte, all before the next entry's values."""
        count = 1 if entry.type == Type.STRING else entry.length
        start = self._place(entry)
        if start > self.end:
            raise HeaderError("a text outside of the store", start)
        parts = self._blob[start : self._next_after(entry)].split(b"\0", count)
        if len(parts) <= count:
            # The values of two tags may share their place: the end is then the store's.
            parts = self._blob[start : self.end].split(b"\0", count)
        if len(parts) <= count:
            raise HeaderError(f"fewer than {count} texts", start)
        return tuple(text_of(part) for part in parts[:count])

    def _slice(self, entry: TagEntry, size: int) -> bytes:
        start = self._place(entry)
        if start + size > self.end:
            raise HeaderError(f"{size} bytes of a value reach out of the store", start)
        return self._blob[start : start + size]

    def _place(self, entry: TagEntry) -> int:
        return self._store + entry.offset

    @cached_property
    def _offsets(self) -> list[int]:
        return sorted({row[2] for row in self._rows.values()})

    def _next_after(self, entry: TagEntry) -> int:
        at = bisect_right(self._offsets, entry.offset)
        return self._store + self._offsets[at] if at < len(self._offsets) else self.end


def header_size(head: bytes) -> int:
    """How many bytes a header takes, told by its first eight: the magic left out."""
    count, size = _HEAD.unpack_from(head)
    return _HEAD.size + int(count) * _ENTRY.size + int(size)


def read_header(blob: bytes, start: int = 0, magic: bool = False) -> Header:
    """The header at `start`, with its magic in front (as in a package file) or without (as in a
    database). Raises HeaderError.
    """
    if not magic:
        return Header(blob, start)
    if blob[start : start + 3] != MAGIC[:3]:
        raise HeaderError("no header starts here", start)
    return Header(blob, start + len(MAGIC))
