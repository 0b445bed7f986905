"""The form in which a tree is recorded: one SQLite file, with a row a path.

`parent` is the real path of the directory that a path lies in, without an end slash (the root's is
empty); the root itself has neither parent nor name. Times are nanoseconds since 1970, `mode` is with the
kind, `inode` is the same for paths that are one file. Digests are of regular files. `layer` is who
brought the path as it is, `source` who has the content, `place` where in that it begins; -1 where nothing
tells.
"""

import os
import sqlite3
from collections.abc import Iterator, Sequence
from itertools import islice
from typing import Any, NamedTuple, Protocol

from filigree.model.errors import AccessError

_BATCH = 2000
VERSION = 1
"""Of this form. What was kept in another one is made anew."""

COLUMNS = (
    "parent", "name", "mode", "uid", "gid", "size", "modified", "changed", "inode", "device", "target",
    "capabilities", "md5", "sha1", "sha256", "layer", "source", "place",
)  # fmt: skip

LAYOUT = """
CREATE TABLE entries (
    parent BLOB NOT NULL, name BLOB NOT NULL, mode INTEGER NOT NULL, uid INTEGER NOT NULL,
    gid INTEGER NOT NULL, size INTEGER NOT NULL, modified INTEGER NOT NULL, changed INTEGER NOT NULL,
    inode INTEGER NOT NULL, device INTEGER NOT NULL, target BLOB, capabilities BLOB, md5 BLOB, sha1 BLOB,
    sha256 BLOB, layer INTEGER NOT NULL, source INTEGER NOT NULL, place INTEGER NOT NULL,
    PRIMARY KEY (parent, name)
) WITHOUT ROWID;
CREATE TABLE contents (sha256 BLOB PRIMARY KEY, packed BLOB NOT NULL) WITHOUT ROWID;
CREATE TABLE about (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
"""


class Recorded(NamedTuple):
    """One path as it was recorded, without its name.

    `file_system` is the number of that which it is on, 0 where there is one alone; `other` a digest by
    another algorithm, `algorithm:hex`; `attributes` are extended ones besides capabilities.
    """

    mode: int
    uid: int
    gid: int
    size: int
    modified: int
    changed: int
    inode: int
    device: int
    target: bytes | None
    capabilities: bytes | None
    md5: bytes | None
    sha1: bytes | None
    sha256: bytes | None
    layer: int
    source: int
    place: int
    file_system: int = 0
    other: str | None = None
    attributes: tuple[tuple[str, bytes], ...] = ()


class PathForm(NamedTuple):
    """What two records are compared by: a path, and all of its form that tells what it is."""

    parent: bytes
    name: bytes
    mode: int
    uid: int
    gid: int
    size: int
    modified: int
    device: int
    target: bytes | None
    capabilities: bytes | None
    md5: bytes | None
    sha1: bytes | None
    sha256: bytes | None


class TreeRecord(Protocol):
    """What a recorded tree answers from: rows by real paths. Raises AccessError where it is damaged."""

    def row(self, real: bytes) -> Recorded | None:
        """What stands at a real path; None where nothing does."""
        ...

    def below(self, real: bytes) -> Sequence[tuple[bytes, Recorded | AccessError]]:
        """Names and rows of all that lies in a directory, by name; or why a row cannot be told."""
        ...

    def names(self, real: bytes) -> Sequence[bytes]:
        """The names of all that lies in a directory."""
        ...

    def forms(self) -> Iterator[list[tuple[Any, ...]]]:
        """What makes a PathForm of every path, many at once, by the directory that it lies in and its
        name, as it stands: not checked."""
        ...

    def unseen(self, real: bytes, /) -> str | None:
        """Why nobody looked at what stands, or does not, at a real path; None where somebody did."""
        ...

    def unread(self, real: bytes, /) -> AccessError | None:
        """Why the content of a file was not read; None where nothing hindered that."""
        ...

    def unlisted(self, real: bytes, /) -> str | None:
        """Why nobody looked into a directory; None where somebody did."""
        ...

    def hindrances(self) -> Iterator[tuple[str, str]]:
        """Every directory that nobody looked into, and every file that could not be read: why. What the
        kernel makes up is none."""
        ...

    def kind_of_file_system(self, number: int, /) -> str | None:
        """The kind of a file system by its number; None where nobody tells."""
        ...

    def close(self) -> None:
        """Let go of it."""
        ...


SELECT = f"SELECT {', '.join(COLUMNS[2:])} FROM entries WHERE parent = ? AND name = ?"
_BELOW = (
    f"SELECT {', '.join(COLUMNS[1:])} FROM entries WHERE parent = ? AND name != x'' ORDER BY name"
)
INSERT = f"INSERT OR REPLACE INTO entries VALUES ({', '.join('?' * len(COLUMNS))})"


def split(path: bytes) -> tuple[bytes, bytes]:
    """Parent and name of a real path; of the root neither.

    >>> split(b"/usr/bin"), split(b"")
    ((b'/usr', b'bin'), (b'', b''))
    """
    parent, _, name = path.rpartition(b"/")
    return parent, name


def open_form(path: str) -> sqlite3.Connection:
    """A record that is not going to be changed. Raises sqlite3.Error where it is none."""
    quoted = "".join(f"%{ord(sign):02x}" if sign in "%?#" else sign for sign in path)
    connection = sqlite3.connect(
        f"file:{quoted}?mode=ro&immutable=1", uri=True, check_same_thread=False
    )
    (found,) = connection.execute("SELECT value FROM about WHERE name = 'whole'").fetchone() or (
        "",
    )
    if found != str(VERSION):
        connection.close()
        raise sqlite3.DatabaseError("it is not whole, or of another form")
    return connection


def make_form(path: str) -> sqlite3.Connection:
    """A record in the making; `finish` says that it is whole."""
    connection = sqlite3.connect(path)
    connection.execute("PRAGMA journal_mode = OFF")
    connection.execute("PRAGMA synchronous = OFF")
    connection.execute("PRAGMA page_size = 8192")
    connection.execute("PRAGMA cache_size = -32768")
    connection.executescript(LAYOUT)
    return connection


def finish(connection: sqlite3.Connection) -> None:
    """Say that a record is whole, and let go of it."""
    connection.execute("INSERT INTO about VALUES ('whole', ?)", (str(VERSION),))
    connection.commit()
    connection.close()


class RecordFile:
    """A record of this form in a file of one's own, of layers: all there is was looked at."""

    def __init__(self, file: str) -> None:
        self._file = file
        self._opened: tuple[int, sqlite3.Connection] | None = None

    def _rows(self, query: str, *values: Any) -> Iterator[Any]:
        """The rows of a query; a process that was forked opens the file anew."""
        process = os.getpid()
        if self._opened is None or self._opened[0] != process:
            self._opened = (process, open_form(self._file))
        return self._opened[1].execute(query, values)

    def row(self, real: bytes) -> Recorded | None:
        found = next(self._rows(SELECT, *split(real)), None)
        return None if found is None else Recorded(*found)

    def below(self, real: bytes) -> Sequence[tuple[bytes, Recorded | AccessError]]:
        rows = self._rows(_BELOW, real)
        return [(name, Recorded(*rest)) for name, *rest in rows]

    def names(self, real: bytes) -> Sequence[bytes]:
        return [name for (name,) in self._rows(_NAMES, real)]

    def forms(self) -> Iterator[list[tuple[Any, ...]]]:
        columns = ", ".join(PathForm._fields)
        rows = self._rows(f"SELECT {columns} FROM entries ORDER BY parent, name")
        while batch := list(islice(rows, _BATCH)):
            yield batch

    def unseen(self, _: bytes) -> str | None:
        return None

    unlisted = unseen

    def unread(self, _: bytes) -> AccessError | None:
        return None

    def hindrances(self) -> Iterator[tuple[str, str]]:
        return iter(())

    def kind_of_file_system(self, _: int) -> str | None:
        return None

    def close(self) -> None:
        if self._opened is not None:
            self._opened[1].close()
            self._opened = None


_NAMES = "SELECT name FROM entries WHERE parent = ? AND name != x''"
