"""Writes package headers, their containers and their archives: our own writer of the formats."""

import base64
import bz2
import gzip
import hashlib
import lzma
import sqlite3
import struct
import zlib
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

from filigree.formats.rpm.header import MAGIC, Type

Given = int | str | bytes | Sequence[int] | Sequence[str]
Row = tuple[int, Type, Given]
"""A tag, the type of its values, and the values."""
Sign = Callable[[bytes], bytes]
"""Makes a signature of what it is given."""
_CODES = {Type.CHAR: "B", Type.INT8: "B", Type.INT16: "H", Type.INT32: "I", Type.INT64: "Q"}


def stored(kind: Type, given: Given) -> tuple[int, bytes]:
    """How many values, and their bytes."""
    if isinstance(given, bytes):
        return len(given), given
    if isinstance(given, str):
        return 1, given.encode("utf-8", "surrogateescape") + b"\0"
    if isinstance(given, int):
        given = [given]
    if kind in _CODES:
        return len(given), struct.pack(f">{len(given)}{_CODES[kind]}", *given)
    return len(given), b"".join(str(t).encode("utf-8", "surrogateescape") + b"\0" for t in given)


def header(
    rows: Sequence[Row],
    region: int | None = 63,
    after: Sequence[Row] = (),
    magic: bool = False,
) -> bytes:
    """A header of these rows within a region, and of `after` rows outside of it."""
    entries: list[tuple[int, int, int, int]] = []
    store = b""
    for tag, kind, given in rows:
        store += b"\0" * (-len(store) % {Type.INT16: 2, Type.INT32: 4, Type.INT64: 8}.get(kind, 1))
        count, data = stored(kind, given)
        entries.append((tag, kind, len(store), count))
        store += data
    if region is not None:
        entries.insert(0, (region, Type.BINARY, len(store), 16))
        store += struct.pack(">2IiI", region, Type.BINARY, -16 * len(entries), 16)
    for tag, kind, given in after:
        count, data = stored(kind, given)
        entries.append((tag, kind, len(store), count))
        store += data
    index = b"".join(struct.pack(">4I", *entry) for entry in entries)
    return (MAGIC if magic else b"") + struct.pack(">2I", len(entries), len(store)) + index + store


def slot_file(blobs: Sequence[bytes]) -> bytes:
    """A slot file of these blobs, numbered from 1."""
    pages = max(1, -(-(2 + len(blobs)) // 256))
    slots, body = [], bytearray()
    for number, blob in enumerate(blobs, 1):
        size = -(-(16 + len(blob) + 12) // 16) * 16
        whole = struct.pack("<4s3I", b"BlbS", number, 1, len(blob)) + blob
        whole = whole.ljust(size - 12, b"\0")
        whole += struct.pack("<2I4s", zlib.adler32(whole), len(blob), b"BlbE")
        place = (4096 * pages + len(body)) // 16
        slots.append(struct.pack("<4s3I", b"Slot", number, place, size // 16))
        body += whole
    free = struct.pack("<4s3I", b"Slot", 0, 0, 0)
    table = struct.pack("<4s4I12x", b"RpmP", 0, 1, pages, len(blobs) + 1) + b"".join(slots)
    return table + free * ((4096 * pages - len(table)) // 16) + bytes(body)


def hash_file(
    pairs: Sequence[tuple[bytes, bytes]], order: str = "<", size: int = 512, version: int = 9
) -> bytes:
    """A hash file of these pairs, one pair a page; large values in chains of overflow pages."""
    pages: list[bytes] = [b""]
    room = size - 26
    for key, value in pairs:
        if len(key) + len(value) + 2 + 4 > room - 20:
            first = len(pages) + 1
            item = struct.pack(f"{order}B3x2I", 3, first, len(value))
        else:
            first, item = 0, b"\x01" + value
        keyed = b"\x01" + key
        offsets = (size - len(keyed), size - len(keyed) - len(item))
        head = struct.pack(f"{order}8x3I2H2B", len(pages), 0, 0, 2, offsets[1], 0, 13)
        body = head + struct.pack(f"{order}2H", *offsets)
        pages.append(body.ljust(offsets[1], b"\0") + item + keyed)
        parts = [value[at : at + room] for at in range(0, len(value), room)] if first else []
        for at, part in enumerate(parts):
            following = len(pages) + 1 if at < len(parts) - 1 else 0
            head = struct.pack(f"{order}8x3I2H2B", len(pages), 0, following, 1, len(part), 0, 7)
            pages.append((head + part).ljust(size, b"\0"))
    meta = struct.pack(f"{order}8x4I", 0, 0x061561, version, size)
    meta += struct.pack(f"{order}4BI", 0, 8, 0, 0, 0) + struct.pack(f"{order}I", len(pages) - 1)
    pages[0] = meta.ljust(size, b"\0")
    return b"".join(pages)


def sqlite_file(path: Path, blobs: Iterable[bytes], wal: bool = False) -> None:
    """An SQLite container of these blobs, numbered from 1, at a path."""
    path.parent.mkdir(parents=True, exist_ok=True)
    connection = sqlite3.connect(path)
    if wal:
        connection.execute("PRAGMA journal_mode = WAL")
    connection.execute("CREATE TABLE Packages (hnum INTEGER PRIMARY KEY AUTOINCREMENT, blob BLOB)")
    connection.executemany("INSERT INTO Packages (blob) VALUES (?)", [(blob,) for blob in blobs])
    connection.commit()
    connection.close()


class PayloadMember(NamedTuple):
    """One file of a payload; `inode` and `links` tell hard links."""

    path: str
    mode: int
    content: bytes = b""
    modified: int = 0
    inode: int = 1
    links: int = 1


def cpio(members: Iterable[PayloadMember]) -> bytes:
    """A payload in the `newc` form. The content of hard links is to stand at the last name alone."""
    out = bytearray()
    for member in (*members, PayloadMember("TRAILER!!!", 0, inode=0)):
        name = member.path.encode("utf-8", "surrogateescape") + b"\0"
        fields = (
            member.inode, member.mode, 0, 0, member.links, member.modified, len(member.content),
            0, 0, 0, 0, len(name), 0,
        )  # fmt: skip
        out += b"070701" + b"".join(b"%08x" % field for field in fields) + name
        out += bytes(-len(out) % 4) + member.content
        out += bytes(-len(out) % 4)
    return bytes(out)


def stripped_cpio(members: Iterable[tuple[int, bytes]]) -> bytes:
    """A payload in the form for very large files: numbers into the header, and contents."""
    out = bytearray()
    for number, content in members:
        out += b"07070X%08x" % number
        out += bytes(-len(out) % 4) + content
        out += bytes(-len(out) % 4)
    return bytes(out) + cpio(())


def _zstd(data: bytes) -> bytes:
    import zstandard

    return zstandard.ZstdCompressor(level=5).compress(data)


def _lz4(data: bytes) -> bytes:
    import lz4.frame

    return bytes(lz4.frame.compress(data))


PACKERS: dict[str, Callable[[bytes], bytes]] = {
    "none": bytes,
    "gzip": lambda data: gzip.compress(data, 6, mtime=0),
    "bzip2": bz2.compress,
    "xz": lambda data: lzma.compress(data, lzma.FORMAT_XZ, preset=1),
    "lzma": lambda data: lzma.compress(data, lzma.FORMAT_ALONE, preset=1),
    "zstd": _zstd,
    "lz4": _lz4,
}


def signature_rows(covered: bytes, sign: Sign | None = None) -> list[Row]:
    """The digests of a header, and its signatures, as they are kept beside it."""
    rows: list[Row] = [
        (269, Type.STRING, hashlib.sha1(covered, usedforsecurity=False).hexdigest()),
        (273, Type.STRING, hashlib.sha256(covered).hexdigest()),
    ]
    if sign is not None:
        made = sign(covered)
        rows += [
            (267, Type.BINARY, made),
            (278, Type.STRINGS, [base64.b64encode(made).decode("ascii")]),
        ]
    return sorted(rows, key=lambda row: row[0])


def rpm_archive(
    name: str, main: Sequence[Row], payload: bytes, packer: str = "gzip", source: bool = False,
    sign: Sign | None = None, whole: Sign | None = None,
) -> bytes:  # fmt: skip
    """A whole archive: lead, digests, header, and the payload in the compression named.

    `sign` signs the header, and is kept under the old tag and the new one; `whole` header and payload.
    """
    packed = PACKERS[packer](payload)
    rows = [
        *main,
        (1124, Type.STRING, "cpio"),
        (1125, Type.STRING, packer),
        (5092, Type.STRINGS, [hashlib.sha256(packed).hexdigest()]),
        (5093, Type.INT32, 8),
        (5097, Type.STRINGS, [hashlib.sha256(payload).hexdigest()]),
    ]
    body = header(rows, magic=True)
    signatures = header(
        [
            *signature_rows(body, sign),
            (1000, Type.INT32, len(body) + len(packed)),
            (1004, Type.BINARY, hashlib.md5(body + packed, usedforsecurity=False).digest()),
            *([(1005, Type.BINARY, whole(body + packed))] if whole else []),
            (1007, Type.INT32, len(payload)),
        ],
        region=62,
        magic=True,
    )
    lead = struct.pack(
        ">4s2B2H66s2H16x", b"\xed\xab\xee\xdb", 3, 0, int(source), 1, name.encode()[:65], 1, 5
    )
    return lead + signatures + bytes(-len(signatures) % 8) + body + packed
