"""Writes a snapshot: what was seen is gathered in a scratch file beside it, and laid down in order.

The same tree seen twice gives the same bytes, but for times and numbers that the disk has others of.
What is not finished leaves nothing behind.
"""

import contextlib
import hashlib
import json
import os
import sqlite3
import tempfile
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from filigree.access.snapshots.form import COLUMNS, PIECE, TABLES, EntryRow
from filigree.access.trees.directories import decoded, encoded
from filigree.access.trees.protocol import Entry, Portrait
from filigree.access.trees.recorded_form import split
from filigree.formats.file_capabilities import ATTRIBUTE
from filigree.model.errors import AccessError, BadQuestion
from filigree.model.files import FORM_OF_KIND, Kind

_BATCH = 5000
_KEPT_AS = ("md5", "sha1", "sha256")
_WALKED = COLUMNS[:10]
_SCRATCH = f"""
CREATE TABLE scratch.walked (parent BLOB NOT NULL, name BLOB NOT NULL, {", ".join(_WALKED)},
    PRIMARY KEY (parent, name)) WITHOUT ROWID;
CREATE TABLE scratch.seen (parent BLOB NOT NULL, name BLOB NOT NULL, {", ".join(COLUMNS)},
    PRIMARY KEY (parent, name)) WITHOUT ROWID;
CREATE TABLE scratch.wanted (parent BLOB NOT NULL, name BLOB NOT NULL, algorithm TEXT NOT NULL,
    PRIMARY KEY (parent, name, algorithm)) WITHOUT ROWID;
"""
"""What a walk told, what a second look did, and which paths' contents are to be digested, and how. Here
`file_system` is the system's own number."""
_WALK = f"INSERT OR REPLACE INTO scratch.walked VALUES ({', '.join('?' * (len(_WALKED) + 2))})"
_SEE = f"INSERT OR REPLACE INTO scratch.seen VALUES ({', '.join('?' * (len(COLUMNS) + 2))})"
_WANT = "INSERT OR IGNORE INTO scratch.wanted VALUES (?, ?, ?)"
_FORM = "mode, uid, gid, size, modified, changed, inode"
_WANTED = (
    "(SELECT group_concat(algorithm) FROM scratch.wanted w"
    " WHERE w.parent = s.parent AND w.name = s.name)"
)


class SecondLook(NamedTuple):
    """A path that is to be looked at again: with which digests, and how a walk told it, None where none
    did."""

    path: str
    algorithms: tuple[str, ...]
    before: tuple[int, ...] | None


def row_of(seen: Portrait) -> EntryRow:
    """The row of a portrait; its file system is by the system's own number."""
    digests: dict[str, bytes] = {}
    other = None
    for digest in seen.digests:
        algorithm, _, told = digest.partition(":")
        if algorithm in _KEPT_AS:
            digests[algorithm] = bytes.fromhex(told)
        else:
            other = digest
    more = {name: data.hex() for name, data in seen.attributes.items() if name != ATTRIBUTE}
    return EntryRow(
        *seen[:9], target=None if seen.link_target is None else encoded(seen.link_target),
        capabilities=seen.attributes.get(ATTRIBUTE),
        attributes=json.dumps(more, sort_keys=True) if more else None, md5=digests.get("md5"),
        sha1=digests.get("sha1"), sha256=digests.get("sha256"), other=other,
    )  # fmt: skip


class SnapshotWriter:
    """A snapshot in the making, beside the place where it is going to stand.

    Raises BadQuestion where it cannot be written there.
    """

    def __init__(self, path: str) -> None:
        self._path = path
        folder = os.path.dirname(os.path.abspath(path))
        if os.path.lexists(path) and not os.path.isfile(path):
            raise BadQuestion("there is something else than a file", path, "name a new file")
        try:
            self._folder = tempfile.mkdtemp(prefix=".filigree-", dir=folder)
        except OSError as error:
            raise BadQuestion(f"nothing can be written there: {error.strerror}", path) from error
        self._made = _opened(os.path.join(self._folder, "snapshot"))
        for made in TABLES.values():
            self._made.execute(made)
        self._made.execute("ATTACH ? AS scratch", (os.path.join(self._folder, "scratch"),))
        self._made.execute("PRAGMA scratch.journal_mode = OFF")
        self._made.execute("PRAGMA scratch.synchronous = OFF")
        self._made.execute("PRAGMA scratch.cache_size = -32768")
        self._made.executescript(_SCRATCH)
        self._walk: list[tuple[Any, ...]] = []
        self._rows: list[tuple[Any, ...]] = []
        self._packed: set[bytes] = set()

    def place_below(self, root: str) -> str | None:
        """Where its own folder lies below a root; None where it does not."""
        top, here = os.path.realpath(root), os.path.realpath(self._folder)
        if os.path.commonpath((top, here)) != top:
            return None
        return "/" + os.path.relpath(here, top)

    def discard(self) -> None:
        """Leave nothing behind."""
        with contextlib.suppress(sqlite3.Error):
            self._made.close()
        with contextlib.suppress(OSError):
            for name in os.listdir(self._folder):
                os.unlink(os.path.join(self._folder, name))
            os.rmdir(self._folder)

    # -- what was seen ---------------------------------------------------------------------

    def walked(self, one: Entry) -> None:
        """A path of a walk, as it tells it."""
        target = None if one.link_target is None else encoded(one.link_target)
        mode = FORM_OF_KIND[one.kind] | one.mode
        self._walk.append((
            *_split(one.path), mode, one.uid, one.gid, one.size, one.modified, one.changed,
            one.inode, one.device, one.file_system, target,
        ))  # fmt: skip
        if len(self._walk) >= _BATCH:
            self._flush()

    def seen(self, path: str, row: EntryRow) -> None:
        """A path with all that could be told of it."""
        self._rows.append((*_split(path), *row))
        if len(self._rows) >= _BATCH:
            self._flush()

    def as_walked(self, path: str) -> None:
        """A path of which no more can be told than a walk did."""
        none = ", NULL" * (len(COLUMNS) - len(_WALKED))
        self._made.execute(
            f"INSERT OR REPLACE INTO scratch.seen SELECT *{none} FROM scratch.walked"
            " WHERE parent = ? AND name = ?",
            _split(path),
        )

    def _flush(self) -> None:
        self._made.executemany(_WALK, self._walk)
        self._made.executemany(_SEE, self._rows)
        self._walk, self._rows = [], []

    def want(self, paths: Iterable[tuple[str, str]]) -> None:
        """Paths whose contents are to be digested, each with an algorithm; SHA-256 is made of all."""
        self._made.executemany(_WANT, ((*_split(path), told) for path, told in paths))

    def want_all(self, programs: bool) -> None:
        """Digest all regular files, or those that can be run or have other rights."""
        self._flush()
        only = f"AND (mode & {0o6111}) != 0" if programs else ""
        self._made.execute(
            "INSERT OR IGNORE INTO scratch.wanted SELECT parent, name, 'sha256' FROM scratch.walked"
            f" WHERE (mode & {0o170000}) = {FORM_OF_KIND[Kind.FILE]} {only}"
        )

    def left(self, most: int, after: str | None) -> list[SecondLook]:
        """So many of the next paths of the walk, in their order."""
        self._flush()
        rows = self._made.execute(
            f"SELECT parent, name, {_WANTED}, {_FORM} FROM scratch.walked s"
            " WHERE (parent, name) > (?, ?) ORDER BY parent, name LIMIT ?",
            (*(_split(after) if after is not None else (b"", b"")), most),
        )
        return [_look(above, name, told, tuple(form)) for above, name, told, *form in rows]

    def elsewhere(self) -> list[SecondLook]:
        """The paths that are wanted and that no walk told."""
        rows = self._made.execute(
            f"SELECT DISTINCT parent, name, {_WANTED} FROM scratch.wanted s WHERE NOT EXISTS"
            " (SELECT 1 FROM scratch.walked x WHERE x.parent = s.parent AND x.name = s.name)"
        )
        return [_look(above, name, told, None) for above, name, told in rows]

    # -- what could not be seen, and what is kept -------------------------------------------

    def unlisted(self, path: str, why: str) -> None:
        """A directory that was not looked into."""
        self._made.execute(
            "INSERT OR IGNORE INTO unlisted VALUES (?, ?)", (encoded(path).rstrip(b"/"), why)
        )

    def unread(self, path: str, error: AccessError) -> None:
        """A file that could not be read, or not all of it."""
        self._made.execute(
            "INSERT OR REPLACE INTO unread VALUES (?, ?, ?)",
            (encoded(path), error.obstacle.name, error.detail),
        )

    def changed(self, path: str) -> None:
        """A file that was not the same at the beginning and at the end."""
        self._made.execute("INSERT OR IGNORE INTO changed VALUES (?)", (encoded(path),))

    def changed_count(self) -> int:
        """How many files were not the same."""
        return int(self._made.execute("SELECT count(*) FROM changed").fetchone()[0])

    def gap(self, what: str, why: str) -> None:
        """What could not be looked at."""
        told = (_plain(what), _plain(why))
        self._made.execute("INSERT OR IGNORE INTO gaps VALUES (?, ?)", told)

    def content(self, sha256: bytes, pieces: Iterable[bytes]) -> int | None:
        """Keep the content of a file by its digest; how many bytes it has, None where it has another
        digest, and is not kept."""
        from zstandard import ZstdCompressor

        if sha256 in self._packed:
            return 0
        packer = ZstdCompressor(level=9)
        digest, size = hashlib.sha256(), 0
        try:
            for part, piece in enumerate(_cut(pieces)):
                digest.update(piece)
                size += len(piece)
                packed = packer.compress(piece)
                self._made.execute("INSERT INTO contents VALUES (?, ?, ?)", (sha256, part, packed))
        finally:
            whole = digest.digest() == sha256
            if not whole:
                self._made.execute("DELETE FROM contents WHERE sha256 = ?", (sha256,))
        if whole:
            self._packed.add(sha256)
        return size if whole else None

    def digest_of(self, path: str) -> bytes | None:
        """The SHA-256 digest of a path as it was portrayed; None where there is none."""
        self._flush()
        asked = "SELECT sha256 FROM scratch.seen WHERE parent = ? AND name = ?"
        found = self._made.execute(asked, _split(path)).fetchone()
        return found[0] if found else None

    # -- laying it down --------------------------------------------------------------------

    def lay(self, about: Mapping[str, str], kinds: Mapping[int, str]) -> sqlite3.Connection:
        """Lay all down in order; the file can still be signed, and then it is to be kept."""
        self._flush()
        made = self._made
        made.executemany(
            "INSERT INTO about VALUES (?, ?)", [(k, _plain(v)) for k, v in sorted(about.items())]
        )
        numbers = made.execute(
            "SELECT DISTINCT file_system FROM scratch.seen ORDER BY 1"
        ).fetchall()
        made.executemany(
            "INSERT INTO file_systems VALUES (?, ?, ?)",
            [(one, number, kinds.get(number)) for one, (number,) in enumerate(numbers, 1)],
        )
        made.execute(
            "INSERT INTO directories SELECT parent, row_number() OVER (ORDER BY parent)"
            " FROM (SELECT DISTINCT parent FROM scratch.seen) ORDER BY parent"
        )
        told = ", ".join("f.id" if name == "file_system" else f"s.{name}" for name in COLUMNS)
        made.execute(
            f"INSERT INTO entries SELECT CASE WHEN s.name = x'' THEN 0 ELSE d.id END, s.name, {told}"
            " FROM directories d JOIN scratch.seen s ON s.parent = d.path"
            " JOIN file_systems f ON f.number = s.file_system ORDER BY 1, 2"
        )
        made.commit()
        return made

    def keep(self) -> int:
        """Put it in its place, whole, for the caller alone; how many bytes it has."""
        self._made.commit()
        self._made.execute("DETACH scratch")
        whole = os.path.join(self._folder, "whole")
        self._made.execute("VACUUM INTO ?", (whole,))
        self._made.close()
        os.chmod(whole, 0o600)
        with open(whole, "rb") as file:
            os.fsync(file.fileno())
        size = os.path.getsize(whole)
        os.replace(whole, self._path)
        self.discard()
        return size


def _opened(path: str) -> sqlite3.Connection:
    handle = os.open(path, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW, 0o600)
    os.close(handle)
    made = sqlite3.connect(path)
    for told in (
        "page_size = 8192",
        "journal_mode = OFF",
        "synchronous = OFF",
        "cache_size = -32768",
    ):
        made.execute(f"PRAGMA {told}")
    return made


def _look(
    above: bytes, name: bytes, told: str | None, before: tuple[int, ...] | None
) -> SecondLook:
    wanted = tuple(sorted({"sha256", *told.split(",")})) if told else ()
    return SecondLook(decoded(above + b"/" + name), wanted, before)


def _split(path: str) -> tuple[bytes, bytes]:
    """Parent and name of a real path; of the root neither."""
    return split(encoded(path).rstrip(b"/"))


def _cut(pieces: Iterable[bytes]) -> Iterator[bytes]:
    """Pieces of PIECE bytes each, but for the last; an empty content is one empty piece."""
    held = bytearray()
    none = True
    for piece in pieces:
        held += piece
        while len(held) >= PIECE:
            yield bytes(held[:PIECE])
            del held[:PIECE]
            none = False
    if held or none:
        yield bytes(held)


def _plain(text: str) -> str:
    """A text that any reader takes: bytes that are no UTF-8 as `\\xNN`."""
    return text.encode("utf-8", "surrogateescape").decode("utf-8", "backslashreplace")
