"""Writes a snapshot: what was seen is gathered in a scratch file beside it, and laid down in order.

The same tree seen twice gives the same bytes, but for times and numbers that the disk has others of.
What is not finished leaves nothing behind.
"""

import contextlib
import hashlib
import json
import os
import sqlite3
import stat
import tempfile
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from filigree.access.snapshots.form import COLUMNS, PIECE, TABLES, Row
from filigree.access.trees.directories import encoded
from filigree.access.trees.protocol import Entry, Portrait
from filigree.formats.file_capabilities import ATTRIBUTE
from filigree.model.errors import AccessError, BadQuestion
from filigree.model.files import FORM_OF_KIND, Kind

_BATCH = 5000
_KEPT_AS = ("md5", "sha1", "sha256")
_SCRATCH = f"""
CREATE TABLE scratch.seen (parent BLOB NOT NULL, name BLOB NOT NULL, {", ".join(COLUMNS)},
    portrayed INTEGER NOT NULL, PRIMARY KEY (parent, name)) WITHOUT ROWID;
CREATE TABLE scratch.wanted (parent BLOB NOT NULL, name BLOB NOT NULL, algorithm TEXT NOT NULL,
    PRIMARY KEY (parent, name, algorithm)) WITHOUT ROWID;
"""
"""What was seen, and which paths' contents are to be digested, and how."""
_SEE = f"INSERT OR REPLACE INTO scratch.seen VALUES ({', '.join('?' * (len(COLUMNS) + 3))})"
_WANT = "INSERT OR IGNORE INTO scratch.wanted VALUES (?, ?, ?)"


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
        self._rows: list[tuple[Any, ...]] = []
        self._systems: dict[int, int] = {}
        self._packed: set[bytes] = set()

    def discard(self) -> None:
        """Leave nothing behind."""
        with contextlib.suppress(sqlite3.Error):
            self._made.close()
        with contextlib.suppress(OSError):
            for name in os.listdir(self._folder):
                os.unlink(os.path.join(self._folder, name))
            os.rmdir(self._folder)

    # -- what was seen ---------------------------------------------------------------------

    def entry(self, one: Entry) -> None:
        """A path of a walk, as it tells it."""
        target = None if one.link_target is None else encoded(one.link_target)
        row = Row(
            FORM_OF_KIND[one.kind] | one.mode, one.uid, one.gid, one.size, one.modified,
            one.changed, one.inode, one.device, self._system(one.file_system), target, None, None,
            None, None, None, None,
        )  # fmt: skip
        self._see(one.path, row, portrayed=False)

    def portrait(self, path: str, seen: Portrait) -> bool:
        """A path with all that could be told of it; what a walk told before counts no more. Whether it
        was another thing then, which is noted."""
        digests: dict[str, bytes] = {}
        other = None
        for digest in seen.digests:
            algorithm, _, told = digest.partition(":")
            if algorithm in _KEPT_AS:
                digests[algorithm] = bytes.fromhex(told)
            else:
                other = digest
        more = {name: data.hex() for name, data in seen.attributes.items() if name != ATTRIBUTE}
        row = Row(
            seen.mode, seen.uid, seen.gid, seen.size, seen.modified, seen.changed, seen.inode,
            seen.device, self._system(seen.file_system),
            None if seen.link_target is None else encoded(seen.link_target),
            seen.attributes.get(ATTRIBUTE),
            json.dumps(more, sort_keys=True) if more else None,
            digests.get("md5"), digests.get("sha1"), digests.get("sha256"), other,
        )  # fmt: skip
        before = self._form(path)
        self._see(path, row, portrayed=True)
        now = (row.mode, row.uid, row.gid, row.size, row.modified, row.changed, row.inode)
        if before is None or before == now or not stat.S_ISREG(row.mode):
            return False
        self.changed(path)
        return True

    def _form(self, path: str) -> tuple[int, ...] | None:
        asked = (
            "SELECT mode, uid, gid, size, modified, changed, inode FROM scratch.seen"
            " WHERE parent = ? AND name = ?"
        )
        found: tuple[int, ...] | None = self._made.execute(asked, _split(path)).fetchone()
        return found

    def knows(self, path: str) -> bool:
        """Whether a path was seen."""
        self._flush()
        return self._form(path) is not None

    def gone(self, path: str) -> None:
        """A path that was seen, and was not there any more when it was looked at again."""
        self._flush()
        self._made.execute("DELETE FROM scratch.seen WHERE parent = ? AND name = ?", _split(path))

    def _see(self, path: str, row: Row, portrayed: bool) -> None:
        self._rows.append((*_split(path), *row, portrayed))
        if len(self._rows) >= _BATCH:
            self._flush()

    def _flush(self) -> None:
        if self._rows:
            self._made.executemany(_SEE, self._rows)
            self._rows = []

    def _system(self, number: int) -> int:
        return self._systems.setdefault(number, len(self._systems) + 1)

    def want(self, paths: Iterable[tuple[str, str]]) -> None:
        """Paths whose contents are to be digested, each with an algorithm; SHA-256 is made of all."""
        self._made.executemany(_WANT, ((*_split(path), told) for path, told in paths))

    def want_all(self, programs: bool) -> None:
        """Digest all regular files, or those that can be run or have other rights."""
        self._flush()
        only = f"AND (mode & {0o6111}) != 0" if programs else ""
        self._made.execute(
            "INSERT OR IGNORE INTO scratch.wanted SELECT parent, name, 'sha256' FROM scratch.seen"
            f" WHERE (mode & {0o170000}) = {FORM_OF_KIND[Kind.FILE]} {only}"
        )

    def left(self, most: int, after: str | None) -> list[tuple[str, tuple[str, ...]]]:
        """So many of the next paths that are to be portrayed, in their order, each with the algorithms
        of the digests that are wanted of it."""
        self._flush()
        parent, name = _split(after) if after is not None else (b"", b"")
        rows = self._made.execute(
            "SELECT parent, name, (SELECT group_concat(algorithm) FROM scratch.wanted w"
            "   WHERE w.parent = s.parent AND w.name = s.name) FROM ("
            " SELECT parent, name FROM scratch.seen WHERE (parent, name) > (?, ?)"
            " UNION SELECT parent, name FROM scratch.wanted WHERE (parent, name) > (?, ?)"
            ") s ORDER BY parent, name LIMIT ?",
            (parent, name, parent, name, most),
        )
        found = []
        for above, last, told in rows:
            wanted = sorted({"sha256", *told.split(",")}) if told else []
            path = (above + b"/" + last).decode("utf-8", "surrogateescape")
            found.append((path, tuple(wanted)))
        return found

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
        made.executemany(
            "INSERT INTO file_systems VALUES (?, ?, ?)",
            [(one, number, kinds.get(number)) for number, one in self._systems.items()],
        )
        made.execute(
            "INSERT INTO directories (path) SELECT DISTINCT parent FROM scratch.seen ORDER BY parent"
        )
        told = ", ".join(f"s.{name}" for name in COLUMNS)
        made.execute(
            f"INSERT INTO entries SELECT CASE WHEN s.name = x'' THEN 0 ELSE d.id END, s.name, {told}"
            " FROM directories d JOIN scratch.seen s ON s.parent = d.path ORDER BY 1, 2"
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


def _split(path: str) -> tuple[bytes, bytes]:
    """Parent and name of a real path; of the root neither."""
    parent, _, name = encoded(path).rstrip(b"/").rpartition(b"/")
    return parent, name


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
