"""What a snapshot tells, as the record of a tree. The file is hostile text: each value is looked at."""

import hashlib
import json
import stat
from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import Any

from filigree.access.snapshots.form import COLUMNS, PIECE, TABLES, VERSION, EntryRow
from filigree.access.sqlite_file import SqliteFile
from filigree.access.trees.directories import decoded
from filigree.access.trees.protocol import Borrowed
from filigree.access.trees.recorded_form import PathForm, Recorded, split
from filigree.access.trees.walking import BY_KERNEL
from filigree.formats.random_access import ContainerError
from filigree.model.errors import AccessError, NoSystem, Obstacle
from filigree.model.files import KIND_OF_FORM

_TOLD = ", ".join(f"e.{name}" for name in COLUMNS)
_AT = " FROM directories d JOIN entries e ON e.parent = d.id WHERE d.path = ?"
_ROW = f"SELECT {_TOLD}{_AT} AND e.name = ?"
_TOP = f"SELECT {_TOLD} FROM entries e WHERE e.parent = 0 AND e.name = x''"
_BELOW = f"SELECT e.name, {_TOLD}{_AT} ORDER BY e.name"
_NAMES = f"SELECT e.name{_AT} ORDER BY e.name"
_NUMBERS = 9
_BYTES = (9, 10, 12, 13, 14)
_LENGTHS = {12: 16, 13: 20, 14: 32}
_TEXTS = (11, 15)
_LARGEST = 1 << 30
_DIGESTS = ((10, 16), (11, 20), (12, 32))
_NONSENSE = "a row that makes no sense"


class SnapshotRecord:
    """The rows of one snapshot, checked. Raises AccessError of a row that makes no sense."""

    def __init__(self, file: SqliteFile, root: str) -> None:
        self._file = file
        self._root = root
        self.row = lru_cache(maxsize=1 << 14)(self._row)
        self.unlisted = lru_cache(maxsize=1 << 12)(self._unlisted)
        self._numbers = {
            one: (number, kind)
            for one, number, kind in self.asked("SELECT id, number, kind FROM file_systems")
        }
        kinds = (pair for pair in self._numbers.values() if isinstance(pair[0], int))
        self._kinds = {number: kind for number, kind in kinds if isinstance(kind, str)}

    def asked(self, query: str, *values: Any) -> Iterator[tuple[Any, ...]]:
        """Rows as they stand in the file. Raises AccessError where it is damaged."""
        try:
            yield from self._file.rows(query, *values)
        except ContainerError as error:
            raise self._damaged(error) from error

    def _damaged(self, error: ContainerError) -> AccessError:
        return AccessError(Obstacle.FAILED, self._root, f"the snapshot is damaged: {error}")

    def _row(self, real: bytes) -> Recorded | None:
        rows = self.asked(_ROW, *split(real)) if real else self.asked(_TOP)
        found = next(rows, None)
        return None if found is None else self._checked(found, real)

    def below(self, real: bytes) -> Sequence[tuple[bytes, Recorded | AccessError]]:
        found: list[tuple[bytes, Recorded | AccessError]] = []
        for name, *rest in self.asked(_BELOW, real):
            if not isinstance(name, bytes) or not _is_name(name):
                raise self._nonsense(real, "a name that no file can have")
            try:
                found.append((name, self._checked(rest, real + b"/" + name)))
            except AccessError as error:
                found.append((name, error))
        return found

    def forms(self) -> Iterator[list[tuple[Any, ...]]]:
        columns = ", ".join(f"e.{name}" for name in PathForm._fields[2:])
        top = f"SELECT x'', x'', {columns} FROM entries e WHERE e.parent = 0"
        rest = (
            f"SELECT d.path, e.name, {columns} FROM directories d JOIN entries e ON e.parent = d.id"
            " ORDER BY d.path, e.name"
        )
        first = [row for row in self.asked(top) if _is_form(row)]
        yield first[:1]
        try:
            for batch in self._file.batches(rest):
                if not all(map(_is_form, batch)):
                    raise AccessError(Obstacle.FAILED, self._root, f"the snapshot has {_NONSENSE}")
                yield batch
        except ContainerError as error:
            raise self._damaged(error) from error

    def names(self, real: bytes) -> Sequence[bytes]:
        found = [name for (name,) in self.asked(_NAMES, real)]
        if not all(isinstance(name, bytes) and _is_name(name) for name in found):
            raise self._nonsense(real, "a name that no file can have")
        return found

    def _unlisted(self, real: bytes) -> str | None:
        found = next(self.asked("SELECT why FROM unlisted WHERE path = ?", real), None)
        return None if found is None else str(found[0])

    def unseen(self, real: bytes) -> str | None:
        while real:
            real = split(real)[0]
            why = self.unlisted(real)
            if why is not None:
                return why
        return None

    def unread(self, path: bytes) -> AccessError | None:
        """Why a file was not read, as it was said then."""
        asked = "SELECT obstacle, why FROM unread WHERE path = ?"
        found = next(self.asked(asked, path), None)
        return None if found is None else _hindrance(path, *found)

    def hindrances(self) -> Iterator[tuple[str, str]]:
        for path, why in self.asked("SELECT path, why FROM unlisted"):
            if not str(why).startswith(BY_KERNEL):
                yield _shown(path), str(why)
        for path, obstacle, why in self.asked("SELECT path, obstacle, why FROM unread"):
            yield _shown(path), _hindrance(path, obstacle, why).what

    def kind_of_file_system(self, number: int) -> str | None:
        return self._kinds.get(number)

    def close(self) -> None:
        self._file.close()

    def _checked(self, row: Sequence[Any], real: bytes) -> Recorded:
        if (
            not all(isinstance(one, int) for one in row[:_NUMBERS])
            or not 0 <= row[0] < 1 << 16
            or stat.S_IFMT(row[0]) not in KIND_OF_FORM
            or not all(one is None or isinstance(one, bytes) for one in (row[at] for at in _BYTES))
            or any(row[at] is not None and len(row[at]) != size for at, size in _LENGTHS.items())
            or not all(one is None or isinstance(one, str) for one in (row[at] for at in _TEXTS))
            or any(one < 0 for one in row[1:4])
        ):
            raise self._nonsense(real, _NONSENSE)
        number, _ = self._numbers.get(row[8], (0, None))
        seen = EntryRow._make(row)
        return Recorded(
            mode=seen.mode, uid=seen.uid, gid=seen.gid, size=seen.size, modified=seen.modified,
            changed=seen.changed, inode=seen.inode, device=seen.device, target=seen.target,
            capabilities=seen.capabilities, md5=seen.md5, sha1=seen.sha1, sha256=seen.sha256,
            layer=0, source=0, place=-1, file_system=number if isinstance(number, int) else 0,
            other=seen.other, attributes=_attributes(seen.attributes),
        )  # fmt: skip

    def _nonsense(self, real: bytes, what: str) -> AccessError:
        return AccessError(Obstacle.FAILED, decoded(real) or "/", f"the snapshot has {what}")


def _hindrance(path: Any, obstacle: Any, why: Any) -> AccessError:
    """Why a file was not read; that it is not there is no such reason."""
    known = Obstacle.__members__.get(str(obstacle), Obstacle.FAILED)
    if known in (Obstacle.ABSENT, Obstacle.NOT_DIRECTORY):
        known = Obstacle.FAILED
    return AccessError(known, _shown(path), None if why is None else str(why))


def _shown(path: Any) -> str:
    return (decoded(path) or "/") if isinstance(path, bytes) else str(path)


def _is_form(row: tuple[Any, ...]) -> bool:
    """Whether a row of `forms` can be what it is said to be."""
    return (
        type(row[0]) is bytes
        and type(row[1]) is bytes
        and all(type(one) is int for one in row[2:8])
        and 0 <= row[2] < 1 << 16
        and min(row[3:6]) >= 0
        and all(one is None or type(one) is bytes for one in row[8:])
        and all(row[at] is None or len(row[at]) == size for at, size in _DIGESTS)
    )


def _is_name(name: bytes) -> bool:
    return bool(name) and b"/" not in name and b"\0" not in name and name not in (b".", b"..")


def _attributes(text: str | None) -> tuple[tuple[str, bytes], ...]:
    if not text:
        return ()
    try:
        return tuple((str(name), bytes.fromhex(told)) for name, told in json.loads(text).items())
    except (ValueError, TypeError, AttributeError, RecursionError):
        return ()


class SnapshotContents:
    """The contents that a snapshot holds; each is held against its digest before anybody sees it."""

    def __init__(self, record: SnapshotRecord) -> None:
        self._record = record

    def doubt(self, _: Recorded) -> str | None:
        return None

    def lend(self, row: Recorded, path: str) -> Borrowed:
        asked = "SELECT part, length(packed) FROM contents WHERE sha256 = ? ORDER BY part"
        parts = list(self._record.asked(asked, row.sha256)) if row.sha256 is not None else []
        if not parts:
            raise AccessError(Obstacle.FAILED, path, "the snapshot does not hold its content")
        count = max(1, -(-row.size // PIECE))
        if row.size > _LARGEST or [part for part, _ in parts] != list(range(count)):
            raise AccessError(
                Obstacle.FAILED, path, "the snapshot has a content that makes no sense"
            )
        lent = _PartedContent(self._record, row, path)
        digest = hashlib.sha256()
        at = 0
        while piece := lent.at(at, PIECE):
            digest.update(piece)
            at += len(piece)
        if at != row.size or digest.digest() != row.sha256:
            raise AccessError(
                Obstacle.FAILED,
                path,
                "what the snapshot holds does not have the digest of the file",
            )
        return lent

    def close(self) -> None:
        """The record is closed by itself."""


class _PartedContent:
    """A content in parts of PIECE bytes each, but for the last; each is unpacked when it is asked for."""

    def __init__(self, record: SnapshotRecord, row: Recorded, path: str) -> None:
        self.path = path
        self.size = row.size
        self._record = record
        self._sha256 = row.sha256
        self._part = -1
        self._data = b""

    def at(self, offset: int, count: int) -> bytes:
        out = []
        end = min(offset + count, self.size)
        while offset < end:
            data = self._unpacked(offset // PIECE)[offset % PIECE :][: end - offset]
            if not data:
                break
            out.append(data)
            offset += len(data)
        return out[0] if len(out) == 1 else b"".join(out)

    def _unpacked(self, part: int) -> bytes:
        if part != self._part:
            from zstandard import ZstdDecompressor, ZstdError

            asked = "SELECT packed FROM contents WHERE sha256 = ? AND part = ?"
            found = next(self._record.asked(asked, self._sha256, part), None)
            if found is None or not isinstance(found[0], bytes):
                return b""
            try:
                data = ZstdDecompressor().decompress(found[0], max_output_size=PIECE)
            except (ZstdError, MemoryError) as error:
                raise AccessError(
                    Obstacle.FAILED, self.path, "the snapshot has a content that is damaged"
                ) from error
            if len(data) > PIECE:  # a frame may say itself how much comes out
                raise AccessError(Obstacle.TOO_LARGE, self.path)
            self._part, self._data = part, data
        return self._data

    def close(self) -> None:
        """Nothing is held open."""


def check_form(file: SqliteFile, path: str) -> None:
    """Raises NoSystem where a file is no snapshot, or one of another form."""
    if not file.is_whole:
        raise NoSystem("it is a database that is cut off", path, "check that it was copied whole")
    try:
        made = {
            (str(name), str(sql))
            for name, sql in file.rows(
                "SELECT name, sql FROM sqlite_master WHERE sql IS NOT NULL LIMIT 99"
            )
        }
        automatic = list(
            file.rows("SELECT type FROM sqlite_master WHERE sql IS NULL AND type != 'index'")
        )
        told = None
        if ("about", TABLES["about"]) in made:
            told = next(file.rows("SELECT value FROM about WHERE name = 'form'"), None)
    except ContainerError as error:
        raise NoSystem(f"it is no snapshot that can be read: {error}", path) from error
    form = told[0] if told else None
    if isinstance(form, str) and form.isascii() and form.isdigit() and int(form[:9]) > VERSION:
        raise NoSystem(
            f"it is a snapshot of a newer form ({form[:9]}; known is {VERSION})", path,
            "read it with the version that wrote it, or a newer one",
        )  # fmt: skip
    if form != str(VERSION) or made != set(TABLES.items()) or automatic:
        raise NoSystem(
            "it is a database, and no snapshot", path, "name a snapshot, or another root"
        )
