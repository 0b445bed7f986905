"""What was parsed of indexes, kept in the auditor's own cache under the digest of what it came from.

A kept table is made whole in a file of its own and then put in its place in one step, so that two runs
that make it at once do each other no harm. One that is damaged is made anew. Where nothing can be kept
(a full disk, a folder that may not be written) the table lives in memory for this once, and that is told.
"""

import contextlib
import os
import sqlite3
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence

from filigree.model.answer import Gap
from filigree.model.repositories import Offer

VERSION = 1
_COLUMNS = ", ".join(Offer._fields)
_MARKS = ", ".join("?" * len(Offer._fields))
_BATCH = 2000


class Table:
    """The offers of one index."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._connection = connection

    def names(self) -> list[tuple[int, str]]:
        """The number and name of each."""
        return self._connection.execute("SELECT id, name FROM offers").fetchall()

    def offers(self, numbers: Sequence[int] | None = None) -> Iterator[Offer]:
        """All, or those with the numbers given."""
        if numbers is None:
            rows = self._connection.execute(f"SELECT {_COLUMNS} FROM offers ORDER BY id")
            yield from map(Offer._make, rows)
            return
        for at in range(0, len(numbers), 500):
            part = numbers[at : at + 500]
            marks = ", ".join("?" * len(part))
            query = f"SELECT {_COLUMNS} FROM offers WHERE id IN ({marks}) ORDER BY id"
            yield from map(Offer._make, self._connection.execute(query, part))

    def close(self) -> None:
        self._connection.close()


class Store:
    """A folder of tables; without a folder, nothing is kept."""

    def __init__(self, folder: str | None, report: Callable[[Gap], None]) -> None:
        self._folder = folder
        self._report = report

    def table(self, key: str, offers: Callable[[], Iterable[Offer]]) -> Table:
        """The table of an index, by the digest of its text; made from `offers` where it is not kept."""
        if self._folder is None:
            return Table(_made(":memory:", offers()))
        path = os.path.join(self._folder, f"index-{VERSION}-{key.replace(':', '-')}.sqlite")
        kept = _opened(path)
        if kept is not None:
            return Table(kept)
        try:
            os.makedirs(self._folder, mode=0o700, exist_ok=True)
            handle, new = tempfile.mkstemp(dir=self._folder, prefix="new-", suffix=".sqlite")
            os.close(handle)
            try:
                _made(new, offers()).close()
                os.replace(new, path)
            except BaseException:
                with contextlib.suppress(OSError):
                    os.unlink(new)
                raise
            kept = _opened(path)
        except (OSError, sqlite3.Error) as error:
            self._report(
                Gap(self._folder, f"nothing could be kept there for the next time: {error}")
            )
        return Table(kept if kept is not None else _made(":memory:", offers()))


def _opened(path: str) -> sqlite3.Connection | None:
    """A table that is kept and whole; None where there is none."""
    if not os.path.isfile(path):
        return None
    try:
        connection = sqlite3.connect(f"file:{_quoted(path)}?mode=ro", uri=True)
        (count,) = connection.execute("SELECT count FROM whole").fetchone()
        (there,) = connection.execute("SELECT max(id) FROM offers").fetchone()
    except (sqlite3.Error, TypeError, ValueError):
        return None
    return connection if count == (there or 0) else None


def _quoted(path: str) -> str:
    return "".join(f"%{ord(sign):02x}" if sign in "%?#" else sign for sign in path)


def _made(path: str, offers: Iterable[Offer]) -> sqlite3.Connection:
    connection = sqlite3.connect(path)
    connection.execute("PRAGMA journal_mode = OFF")
    connection.execute("PRAGMA synchronous = OFF")
    connection.execute(f"CREATE TABLE offers (id INTEGER PRIMARY KEY, {_COLUMNS})")
    count = 0
    batch: list[Offer] = []
    for offer in offers:
        batch.append(offer)
        if len(batch) == _BATCH:
            count += _added(connection, batch)
    count += _added(connection, batch)
    connection.execute("CREATE TABLE whole (count)")
    connection.execute("INSERT INTO whole VALUES (?)", (count,))
    connection.commit()
    return connection


def _added(connection: sqlite3.Connection, batch: list[Offer]) -> int:
    connection.executemany(f"INSERT INTO offers ({_COLUMNS}) VALUES ({_MARKS})", batch)
    count = len(batch)
    batch.clear()
    return count
