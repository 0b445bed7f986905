"""One layer, read once: what it tells of every path is recorded, and its digests are checked meanwhile.

Rules, before the code that keeps them (OCI image specification 1.1, layer.md):

- A layer is what comes out of its blob; the digest of that, and that of the blob as it lies, are held
  against what the image says of them. Members that follow each other are one stream, as are frames.
- The last of several entries of one path counts. What is called `.wh.NAME` hides NAME below, and
  `.wh..wh..opq` all that lies below in its directory: never what the layer itself brings.
- An absolute path is one from the root. One that climbs is not taken, and is told.
- Devices and pipes are entries. Nothing is ever made on a disk.
"""

import base64
import binascii
import hashlib
import os
import re
import stat
import tarfile
import zlib
from collections.abc import Callable, Iterator, Sequence
from decimal import Decimal, InvalidOperation
from typing import Any, NamedTuple, cast

from filigree.access.images.reading_ahead import ReadAhead
from filigree.access.trees.recorded_form import INSERT, make_form, split
from filigree.formats.members import ByteStream, PayloadError
from filigree.formats.random_access import Bytes
from filigree.formats.tar_stream import tar_members
from filigree.formats.unpacking import Unpacked, UnpackError
from filigree.model.errors import AccessError, words_of

ENTRIES_LIMIT = 4_000_000
KEPT_LIMIT = 64 << 20
HOLES_LIMIT = 16 << 30
_PATH_LIMIT = 4096
_TRICKS_NAMED = 100
_PIECE = 1 << 17
_BATCH = 2000
_FOREVER = 1 << 62
_ALSO = {"md5": hashlib.md5, "sha1": hashlib.sha1}
_HIDES, _OPAQUE = b".wh.", b".wh..wh..opq"
_MARKS = b".wh..wh."
_CLEAN = re.compile(rb"(?:[^./\0][^/\0]*/)*[^./\0][^/\0]*")
"""A path from the root without a part that is empty, or begins with a dot: most are."""
_FORMS = {
    tarfile.DIRTYPE: stat.S_IFDIR, tarfile.SYMTYPE: stat.S_IFLNK, tarfile.FIFOTYPE: stat.S_IFIFO,
    tarfile.CHRTYPE: stat.S_IFCHR, tarfile.BLKTYPE: stat.S_IFBLK,
}  # fmt: skip
_ATTRIBUTES = ("SCHILY.xattr.security.capability", "LIBARCHIVE.xattr.security.capability")

_MORE = """
CREATE TABLE joined (parent BLOB, name BLOB, target BLOB, PRIMARY KEY (parent, name)) WITHOUT ROWID;
CREATE TABLE hidden (parent BLOB, name BLOB, PRIMARY KEY (parent, name)) WITHOUT ROWID;
CREATE TABLE holes (place INTEGER PRIMARY KEY, runs TEXT);
CREATE TABLE tricks (path BLOB, why TEXT);
"""
"""Hard links by where they lead; what is hidden below (no name: all of a directory); where the parts
of a sparse file belong; paths that are told and not taken."""


class LayerPromise(NamedTuple):
    """What an image says of a layer; None where it does not. `size` is that of the blob, in bytes."""

    digest: str | None = None
    size: int | None = None
    diff_id: str | None = None


class LayerRead(NamedTuple):
    """What a layer turned out to be. `troubles` are why it is not what it is said to be."""

    digest: str
    size: int
    diff_id: str
    unpacked: int
    troubles: tuple[str, ...]


class _Digesting:
    """A blob that is read from its start to its end, and digested meanwhile."""

    def __init__(
        self, source: Bytes, algorithm: str, told: Callable[[int], None] | None = None
    ) -> None:
        self._source = source
        self._told = told
        self._digest = hashlib.new(algorithm)
        self._at = 0

    @property
    def size(self) -> int:
        return self._source.size

    def at(self, offset: int, count: int) -> bytes:
        """The bytes at a place; what was not read before counts."""
        data = self._source.at(offset, count)
        new = offset + len(data) - self._at
        if offset <= self._at and new > 0:
            self._digest.update(data[len(data) - new :])
            self._at += new
            if self._told is not None:
                self._told(self._at)
        return data

    def finished(self) -> str:
        """The digest of the whole, what was not asked for included."""
        while data := self._source.at(self._at, 1 << 20):
            self._digest.update(data)
            self._at += len(data)
        return f"{self._digest.name}:{self._digest.hexdigest()}"


class LayerReader:
    """Reads one layer into a record. `kept` tells of which paths the contents are kept, too, and
    `digests` by which algorithms besides SHA-256 contents are digested."""

    def __init__(
        self,
        path: str,
        kept: Callable[[bytes], bool],
        digests: Sequence[str] = (),
        layered: bool = True,
    ) -> None:
        self._made = make_form(path)
        self._made.executescript(_MORE)
        self._kept = kept
        self._also = [one for one in _ALSO if one in digests]
        self._layered = layered
        self._rows: list[Sequence[Any]] = []
        self._tricks = 0
        self._number = 0
        self._holes = HOLES_LIMIT

    def read(
        self, source: Bytes, promise: LayerPromise, told: Callable[[int], None] | None = None
    ) -> LayerRead:
        """Read it whole. What it is not, that it is said to be, is told, and nothing is raised.

        `told` is called with how many bytes of the blob were read.
        """
        blob = _Digesting(source, _algorithm(promise.digest), told)
        stream = ReadAhead(Unpacked(blob, 0, blob.size), _algorithm(promise.diff_id))
        troubles: list[str] = []
        diff_id = ""
        try:
            sure = promise.diff_id is not None  # whether a digest tells that this is all
            for info, _ in tar_members(stream, ENTRIES_LIMIT, open_end=sure):
                self._entry(info, stream)
            diff_id = stream.finished()
        except (PayloadError, UnpackError, AccessError) as error:
            troubles.append(f"it cannot be read to its end: {words_of(error)}")
        finally:
            stream.close()
        self._flush()
        digest = blob.finished()
        if promise.size is not None and promise.size != source.size:
            troubles.append(f"it has {source.size:,} bytes, and is said to have {promise.size:,}")
        if promise.digest is not None and promise.digest != digest:
            troubles.append(f"its digest is {digest}, and is said to be {promise.digest}")
        if promise.diff_id is not None and diff_id and promise.diff_id != diff_id:
            troubles.append(
                f"what comes out of it has the digest {diff_id}, and is said to have {promise.diff_id}"
            )
        facts = LayerRead(digest, source.size, diff_id, stream.position, tuple(troubles))
        self._made.executemany(
            "INSERT INTO about VALUES (?, ?)",
            [("digest", digest), ("diff_id", diff_id), ("size", str(source.size)),
             ("unpacked", str(stream.position)), ("tricks", str(self._tricks))],
        )  # fmt: skip
        self._made.execute("INSERT INTO about SELECT 'entries', count(*) FROM entries")
        self._made.execute("INSERT INTO about VALUES ('whole', '1')")
        self._made.commit()
        self._made.close()
        return facts

    # -- one entry -------------------------------------------------------------------------

    def _entry(self, info: tarfile.TarInfo, stream: ByteStream) -> None:
        path = self._path(info.name)
        if path is None:
            return
        parent, name = split(path)
        if self._layered and name.startswith(_HIDES):
            self._hidden(parent, name)
            return
        self._number += 1
        if info.islnk():
            target = self._path(info.linkname)
            if target is None or target == path:
                self._trick(path, "a hard link that leads to nothing within")
            else:
                self._drop(parent, name)
                self._made.execute(
                    "INSERT OR REPLACE INTO joined VALUES (?, ?, ?)", (parent, name, target)
                )
            return
        self._add(parent, name, self._row(info, path, stream))

    def _row(self, info: tarfile.TarInfo, path: bytes, stream: ByteStream) -> Sequence[Any]:
        form = _FORMS.get(info.type, stat.S_IFREG)
        target = content = carried = None
        size, place = 0, -1
        if form == stat.S_IFLNK:
            target = _bytes(info.linkname)
            size = len(target)
        elif form == stat.S_IFREG:
            size, place = info.size, info.offset_data
            content = self._content(info, path, stream)
            carried = _capabilities(info.pax_headers)
        device = 0
        if form in (stat.S_IFCHR, stat.S_IFBLK):
            device = os.makedev(info.devmajor & 0xFFF, info.devminor & 0xFFFFF)
        md5, sha1, sha256 = content or (None, None, None)
        changed = int.from_bytes(sha256[:7], "big") if sha256 else 0
        return (
            form | (info.mode & 0o7777), _number(info.uid), _number(info.gid), size,
            _nanoseconds(info), changed, self._number, device, target, carried, md5, sha1, sha256,
            0, 0, place,
        )  # fmt: skip

    def _content(
        self, info: tarfile.TarInfo, path: bytes, stream: ByteStream
    ) -> tuple[bytes | None, bytes | None, bytes]:
        if info.size <= _PIECE and not info.issparse():
            data = stream.read(info.size)
            if len(data) < info.size:
                raise PayloadError(f"a file of {info.size:,} bytes is cut off", stream.position)
            return self._small(path, data)
        digests = [hashlib.sha256(), *(_ALSO[one](usedforsecurity=False) for one in self._also)]
        kept: list[bytes] | None = [] if info.size <= KEPT_LIMIT and self._kept(path) else None
        for piece in self._pieces(info, path, stream):
            for digest in digests:
                digest.update(piece)
            if kept is not None:
                kept.append(piece)
        if kept is not None:
            self._made.execute(
                "INSERT OR IGNORE INTO contents VALUES (?, ?)",
                (digests[0].digest(), zlib.compress(b"".join(kept), 1)),
            )
        found = {digest.name: digest.digest() for digest in digests}
        return found.get("md5"), found.get("sha1"), found["sha256"]

    def _small(self, path: bytes, data: bytes) -> tuple[bytes | None, bytes | None, bytes]:
        """What a piece of its own holds: most files do."""
        sha256 = hashlib.sha256(data).digest()
        if self._kept(path):
            packed = zlib.compress(data, 1)
            self._made.execute("INSERT OR IGNORE INTO contents VALUES (?, ?)", (sha256, packed))
        found = {one: _ALSO[one](data, usedforsecurity=False).digest() for one in self._also}
        return found.get("md5"), found.get("sha1"), sha256

    def _pieces(self, info: tarfile.TarInfo, path: bytes, stream: ByteStream) -> Iterator[bytes]:
        if not info.issparse():
            yield from _some(stream, info.size)
            return
        told = cast("list[tuple[int, int]]", info.sparse or [])
        runs = [
            (start, size) for start, size in told if size
        ]  # one writer fills up with empty ones
        self._made.execute(
            "INSERT OR REPLACE INTO holes VALUES (?, ?)",
            (info.offset_data, ";".join(f"{start},{size}" for start, size in runs)),
        )
        at = 0
        for start, size in (*runs, (info.size, 0)):
            if start < at:
                raise PayloadError(
                    "the parts of a sparse file lie over each other", stream.position
                )
            self._holes -= start - at
            if self._holes < 0:
                self._trick(path, "a sparse file with more holes than are read")
                raise PayloadError(f"more than {HOLES_LIMIT:,} bytes of holes", stream.position)
            while at < start:
                piece = bytes(min(_PIECE, start - at))
                yield piece
                at += len(piece)
            yield from _some(stream, size)
            at += size

    def _hidden(self, parent: bytes, name: bytes) -> None:
        if name == _OPAQUE:
            self._made.execute("INSERT OR IGNORE INTO hidden VALUES (?, x'')", (parent,))
        elif name.startswith(_MARKS):
            return  # what one file system notes for itself
        elif name[len(_HIDES) :] in (b"", b".", b".."):
            self._trick(parent + b"/" + name, "it hides what no path can be called")
        else:
            self._made.execute(
                "INSERT OR IGNORE INTO hidden VALUES (?, ?)", (parent, name[len(_HIDES) :])
            )

    def _path(self, text: str) -> bytes | None:
        """A path from the root, with a slash before each part; the root's is empty; None for none."""
        raw = _bytes(text)
        if len(raw) < _PATH_LIMIT and _CLEAN.fullmatch(raw):
            return b"/" + raw
        parts = [part for part in raw.split(b"/") if part not in (b"", b".")]
        if b".." in parts or b"\0" in raw or len(raw) > _PATH_LIMIT:
            self._trick(raw[:_PATH_LIMIT], "a path that climbs, or that no file can have")
            return None
        return b"".join(b"/" + part for part in parts)

    def _trick(self, path: bytes, why: str) -> None:
        self._tricks += 1
        if self._tricks <= _TRICKS_NAMED:
            self._made.execute("INSERT INTO tricks VALUES (?, ?)", (path, why))

    # -- the record ------------------------------------------------------------------------

    def _add(self, parent: bytes, name: bytes, rest: Sequence[Any]) -> None:
        self._rows.append((parent, name, *rest))
        if len(self._rows) >= _BATCH:
            self._flush()

    def _drop(self, parent: bytes, name: bytes) -> None:
        """What this layer itself said before of a path counts no more."""
        self._flush()
        self._made.execute("DELETE FROM entries WHERE parent = ? AND name = ?", (parent, name))

    def _flush(self) -> None:
        if self._rows:
            self._made.executemany(INSERT, self._rows)
            self._made.executemany(
                "DELETE FROM joined WHERE parent = ? AND name = ?", [row[:2] for row in self._rows]
            )
            self._rows = []


def _some(stream: ByteStream, size: int) -> Iterator[bytes]:
    left = size
    while left:
        piece = stream.read(min(left, _PIECE))
        if not piece:
            raise PayloadError(f"a file of {size:,} bytes is cut off", stream.position)
        left -= len(piece)
        yield piece


def _algorithm(digest: str | None) -> str:
    return (digest or "sha256:").partition(":")[0]


def _bytes(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def _number(value: int) -> int:
    return value if 0 <= value < 1 << 32 else (1 << 32) - 1


def _nanoseconds(info: tarfile.TarInfo) -> int:
    """When it was changed: an extended head has fractions, as text."""
    told = info.pax_headers.get("mtime")
    if told is None:
        return max(-_FOREVER, min(_FOREVER, int(info.mtime) * 10**9))
    whole, _, fraction = told.partition(".")
    if whole.isdigit() and len(whole) < 11 and (not fraction or fraction.isdigit()):
        return int(whole) * 10**9 + int(fraction[:9].ljust(9, "0"))
    try:
        found = Decimal(told) * 10**9
        return max(-_FOREVER, min(_FOREVER, int(found)))
    except (InvalidOperation, ValueError, OverflowError):
        return 0


def _capabilities(headers: Any) -> bytes | None:
    """The attribute of a file's capabilities, as either of two writers keeps it."""
    plain, packed = (headers.get(name) for name in _ATTRIBUTES)
    if plain is not None:
        return _bytes(plain)
    if packed is None:
        return None
    try:
        return base64.b64decode(packed + "=" * (-len(packed) % 4), validate=True)
    except (binascii.Error, ValueError):
        return _bytes(packed)
