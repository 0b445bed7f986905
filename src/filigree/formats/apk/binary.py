"""The binary form of `apk` packages, of indexes and of installed records: blocks, and typed values.

    file   = "ADB." schema blocks
           | "ADBd" deflated(file) | "ADBc" method level packed(file)
    block  = type and size (2 and 30 bits) [reserved size, for a long one] content, filled up to 8 bytes
    types  = 0 values | 1 a signature | 2 the content of a file | 3 a long block, whose type is its size

The first block holds the values: one array of bytes in which numbers of 28 bits stand as they are, and
longer ones, texts, lists and objects are told by where they stand. What an object holds has no name but
its place. All numbers are little-endian.

A signature is over the schema, the head of the signature, and the digest of the block of values.
"""

import hashlib
import stat
import struct
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from filigree.formats.apk.records import LetteredRecord, RecordedPath, written_digest
from filigree.formats.damage import Damage
from filigree.formats.random_access import Bytes, MemoryBytes
from filigree.formats.unpacking import Unpacked, UnpackError

_MAGIC = b"ADB"
_METHODS = {0: "none", 1: "deflate", 2: "zstd"}
SCHEMAS = {b"pckg": "package", b"indx": "index", b"idb\0": "installed"}
_VALUES, _SIGNATURE, _CONTENT, _LONG = range(4)
VALUES_LIMIT = 512 << 20
_SIGNATURE_LIMIT = 1 << 16
_MOST_SIGNATURES = 64
_ALGORITHMS = {1: "md5", 2: "sha1", 3: "sha256", 4: "sha512"}
_BY_SIZE = {16: "md5", 20: "sha1", 32: "sha256", 64: "sha512"}
_EASE = 1 << 20
"""So many values may be taken out of a block beside sixteen for each of its bytes."""
PIECE = 1 << 17

_FIELDS = ("P", "V", "C", "T", "A", "L", "o", "m", "U", "c", "t", "I", "S", "k", "D", "p", "r", "i")
_NUMBERS = frozenset("tISk")
_RELATIONS = frozenset("Dpri")
_SIGNS = {0: "=", 1: "=", 2: "<", 3: "<=", 4: ">", 5: ">=", 6: "><", 8: "~", 9: "~"}
_AWAY = 16
_SCRIPTS = (
    "trigger", "pre-install", "post-install", "pre-deinstall", "post-deinstall", "pre-upgrade",
    "post-upgrade",
)  # fmt: skip


class BinaryError(ValueError):
    """What is not as this form wants it."""


class BinarySignature(NamedTuple):
    """One signature: the first half of the SHA-512 of its key, in hex, and what it is over."""

    key: str
    signed: bytes
    signature: bytes


class BinaryPackage(NamedTuple):
    """One package: its record, and its scripts by name. `places` are the paths of files by their numbers,
    of their directory and within it."""

    record: LetteredRecord
    scripts: dict[str, bytes]
    places: dict[tuple[int, int], int]


def is_binary(head: bytes) -> bool:
    """Whether what begins so is of this form."""
    return head[:3] == _MAGIC and head[3:4] in (b".", b"d", b"c")


class BinaryFile:
    """One file, opened: its schema, its values, its signatures. Raises BinaryError or UnpackError."""

    def __init__(self, source: Bytes) -> None:
        self._stream, self.compression = _unpacked(source)
        head = self._take(8)
        if head[:4] != b"ADB.":
            raise BinaryError("what is packed is not of this form")
        self._schema = head[4:]
        if self._schema not in SCHEMAS:
            raise BinaryError(f"of a schema that is not known: {self._schema!r}")
        self.schema = SCHEMAS[self._schema]
        self._rest = self._blocks()
        kind, size = next(self._rest, (_LONG, 0))
        if kind != _VALUES or size > VALUES_LIMIT:
            raise BinaryError("it does not begin with its values")
        self.values = self._take(size)
        self._next: tuple[int, int] | None = None
        self.signatures = list(self._signatures())

    # -- blocks ----------------------------------------------------------------------------

    def _take(self, size: int) -> bytes:
        parts = []
        left = size
        while left and (data := self._stream.read(min(left, PIECE))):
            parts.append(data)
            left -= len(data)
        if left:
            raise BinaryError("it is cut off")
        return b"".join(parts)

    def _skip(self, size: int) -> None:
        while size:
            size -= len(self._take(min(size, PIECE)))

    def _blocks(self) -> Iterator[tuple[int, int]]:
        """The sort of each block, and the size of its content, which whoever asks has to take."""
        while first := self._stream.read(1):
            (word,) = struct.unpack("<I", first + self._take(3))
            kind, size = word >> 30, word & 0x3FFFFFFF
            head = 4
            if kind == _LONG:
                kind, head = size, 16
                _, size = struct.unpack("<IQ", self._take(12))
            if size < head:
                raise BinaryError("a block that is smaller than its head")
            yield kind, size - head
            self._skip(-size % 8)

    def _signatures(self) -> Iterator[BinarySignature]:
        for count, (kind, size) in enumerate(self._rest, 1):
            if kind != _SIGNATURE:
                self._next = (kind, size)
                return
            if size > _SIGNATURE_LIMIT or count > _MOST_SIGNATURES:
                raise BinaryError("signatures that are unreasonably large, or many")
            data = self._take(size)
            algorithm = _ALGORITHMS.get(data[1]) if len(data) > 18 and data[0] == 0 else None
            if algorithm is not None:
                digest = hashlib.new(algorithm, self.values, usedforsecurity=False).digest()
                yield BinarySignature(
                    data[2:18].hex(), self._schema + data[:18] + digest, data[18:]
                )

    def contents(self) -> Iterator[tuple[tuple[int, int], int, Iterator[bytes]]]:
        """What each file of a package holds: by its numbers, with its size; to be gone through once."""
        while True:
            block = self._next or next(self._rest, None)
            self._next = None
            if block is None:
                return
            kind, size = block
            if kind != _CONTENT or size < 8:
                raise BinaryError("a block that is no content of a file")
            folder, file = struct.unpack("<II", self._take(8))
            left = _Left(size - 8)
            yield (folder, file), size - 8, self._pieces(left)
            self._skip(left.count)

    def _pieces(self, left: "_Left") -> Iterator[bytes]:
        while left.count:
            data = self._take(min(left.count, PIECE))
            left.count -= len(data)
            yield data

    # -- values ----------------------------------------------------------------------------

    def packages(self) -> Iterator[BinaryPackage | Damage]:
        """Every package that it tells of; a Damage, numbered, in the place of one that makes no sense."""
        values = _Values(self.values)
        root = values.members(values.root)
        if self.schema == "package":
            yield values.package(root)
            return
        listed = values.members(_at(root, 1 if self.schema == "index" else 0))
        for number, one in enumerate(listed, 1):
            try:
                if self.schema == "index":
                    fields = values.fields(one)
                    yield BinaryPackage(LetteredRecord(fields, [], number), {}, {})
                else:
                    yield values.package(values.members(one), number)
            except _TooMuch:
                raise
            except BinaryError as error:
                yield Damage(number, str(error))


class _Left:
    """How much of a content was not yet taken."""

    def __init__(self, count: int) -> None:
        self.count = count


class _TooMuch(BinaryError):
    """More values than such a block can honestly hold."""


class _Values:
    """The values of one block."""

    def __init__(self, data: bytes) -> None:
        self._data = data
        self._left = 16 * len(data) + _EASE
        if len(data) < 8:
            raise BinaryError("its values are cut off")
        (self.root,) = struct.unpack_from("<I", data, 4)

    def _spend(self, count: int) -> None:
        self._left -= count
        if self._left < 0:
            raise _TooMuch("its values hold each other more often than makes sense")

    def members(self, value: int) -> Sequence[int]:
        """The values of a list or an object, in their places; none where it is none."""
        if value == 0:
            return ()
        if value >> 28 not in (0xD, 0xE):
            raise BinaryError("a value that is no list and no object")
        at = value & 0x0FFFFFFF
        if at + 4 > len(self._data):
            raise BinaryError("a value that stands behind the end")
        (count,) = struct.unpack_from("<I", self._data, at)
        if count < 1 or at + 4 * count > len(self._data):
            raise BinaryError("a list that goes on behind the end")
        self._spend(count)
        return struct.unpack_from(f"<{count - 1}I", self._data, at + 4)

    def blob(self, value: int) -> bytes:
        """The bytes of a value; none where there is none."""
        if value == 0:
            return b""
        form = {8: "<B", 9: "<H", 10: "<I"}.get(value >> 28)
        at = value & 0x0FFFFFFF
        if form is None:
            raise BinaryError("a value that is no text")
        start = at + struct.calcsize(form)
        if start > len(self._data):
            raise BinaryError("a value that stands behind the end")
        (size,) = struct.unpack_from(form, self._data, at)
        if start + size > len(self._data):
            raise BinaryError("a text that goes on behind the end")
        self._spend(size + 1)
        return self._data[start : start + size]

    def text(self, value: int) -> str:
        """A text, without what could end a field of a record."""
        return self.blob(value).decode("utf-8", "surrogateescape").replace("\n", " ")

    def number(self, value: int) -> int:
        """The number of a value; 0 where there is none."""
        kind, at = value >> 28, value & 0x0FFFFFFF
        if value == 0 or kind == 1:
            return at
        form = {2: "<I", 3: "<Q"}.get(kind)
        if form is None or at + struct.calcsize(form) > len(self._data):
            raise BinaryError("a value that is no number")
        self._spend(1)
        return int(struct.unpack_from(form, self._data, at)[0])

    def package(self, members: Sequence[int], number: int = 1) -> BinaryPackage:
        """A package with its paths and its scripts."""
        if not members:
            raise BinaryError("a package without anything")
        fields = self.fields(members[0])
        paths: list[RecordedPath] = []
        places: dict[tuple[int, int], int] = {}
        for folder, one in enumerate(self.members(_at(members, 1)), 1):
            told = self.members(one)
            name = self.text(_at(told, 0)).strip("/")
            paths.append(self._path(name, told, is_directory=True))
            for file, inner in enumerate(self.members(_at(told, 2)), 1):
                inside = self.members(inner)
                called = self.text(_at(inside, 0))
                if not called or "/" in called or called in (".", ".."):
                    raise BinaryError(f"no name of a file: {called[:80]!r}")
                places[folder, file] = len(paths)
                paths.append(self._path(f"{name}/{called}" if name else called, inside))
        scripts = {
            _SCRIPTS[at]: self.blob(one)
            for at, one in enumerate(self.members(_at(members, 2))[: len(_SCRIPTS)])
            if one
        }
        priority = self.number(_at(members, 4))
        if priority:
            fields["q"] = str(priority)
        return BinaryPackage(LetteredRecord(fields, paths, number), scripts, places)

    def fields(self, value: int) -> dict[str, str]:
        """What describes a package, by the letters that records have."""
        found = {}
        for letter, one in zip(_FIELDS, self.members(value), strict=False):
            if one == 0:
                continue
            if letter in _NUMBERS:
                found[letter] = str(self.number(one))
            elif letter in _RELATIONS:
                found[letter] = " ".join(map(self._relation, self.members(one)))
            elif letter == "C":
                found[letter] = _written(self.blob(one))
            elif letter == "c":
                found[letter] = self.blob(one).hex()
            else:
                found[letter] = self.text(one)
        return found

    def _relation(self, value: int) -> str:
        told = self.members(value)
        name, version = self.text(_at(told, 0)), self.text(_at(told, 1))
        match = self.number(_at(told, 2))
        sign = _SIGNS.get(match & ~_AWAY)
        if sign is None or not name:
            raise BinaryError("a relation that makes no sense")
        return f"{'!' if match & _AWAY else ''}{name}{sign + version if version else ''}"

    def _path(self, path: str, told: Sequence[int], is_directory: bool = False) -> RecordedPath:
        rights = self.members(_at(told, 1))
        found = RecordedPath(
            path, is_directory,
            mode=self.number(_at(rights, 0)) & 0o7777 if rights else None,
            owner=self.text(_at(rights, 1)) or None, group=self.text(_at(rights, 2)) or None,
            has_attributes=bool(_at(rights, 3)),
        )  # fmt: skip
        if is_directory:
            return found
        found = found._replace(size=self.number(_at(told, 2)), modified=self.number(_at(told, 3)))
        target = self.blob(_at(told, 5))
        if target:
            return _leading(found, target)
        digest = self.blob(_at(told, 4))
        algorithm = _BY_SIZE.get(len(digest))
        return found._replace(
            form=stat.S_IFREG, digest=f"{algorithm}:{digest.hex()}" if algorithm else None
        )


def _leading(path: RecordedPath, target: bytes) -> RecordedPath:
    """A path that is no regular file of its own: by the form that its target begins with."""
    if len(target) < 2:
        raise BinaryError("a target that is cut off")
    form = stat.S_IFMT(int.from_bytes(target[:2], "little"))
    rest = target[2:]
    if form == stat.S_IFLNK:
        text = rest.decode("utf-8", "surrogateescape")
        return path._replace(form=form, target=text, size=None, modified=None)
    if form == stat.S_IFREG:
        return path._replace(form=form, same_as=rest.decode("utf-8", "surrogateescape"))
    device = int.from_bytes(rest[:8], "little") if form in (stat.S_IFBLK, stat.S_IFCHR) else None
    return path._replace(form=form, device=device, size=None, modified=None)


def _at(members: Sequence[int], place: int) -> int:
    return members[place] if place < len(members) else 0


def _written(digest: bytes) -> str:
    algorithm = _BY_SIZE.get(len(digest))
    try:
        return written_digest(f"{algorithm}:{digest.hex()}")
    except ValueError:
        return digest.hex()


def _unpacked(source: Bytes) -> tuple[Unpacked, str]:
    head = source.at(0, 6)
    if not is_binary(head):
        raise BinaryError("it is not of this form")
    match head[3:4]:
        case b".":
            start, method = 0, "none"
        case b"d":
            start, method = 4, "deflate"
        case _:
            start, method = 6, _METHODS.get(head[4] if len(head) > 4 else 255, "")
    if not method:
        raise BinaryError("it is packed in a way that is not known")
    return Unpacked(source, start, source.size - start, compression=method), method


def read_binary_records(data: bytes) -> Iterator[LetteredRecord | Damage]:
    """The records of a file. What is no such file is a Damage."""
    try:
        for one in BinaryFile(MemoryBytes(data)).packages():
            yield one if isinstance(one, Damage) else one.record
    except (BinaryError, UnpackError, struct.error) as error:
        yield Damage(1, str(error))
