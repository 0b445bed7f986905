"""An SQLite database below a root, read without a trace.

A copy is read, and never the file: nothing is created beside it, its access time stays as it was, and
what happens to it meanwhile does not matter. A small one is copied to memory, a large one to a private
folder; so is one beside which a journal lies: what is on record is only whole together with that.
Queries are ours, the schema is not: what a database does in answer is bounded.
"""

import os
import sqlite3
import tempfile
from collections.abc import Iterator
from typing import Any

from filigree.access.trees.protocol import Borrowed, Tree
from filigree.formats.random_access import ContainerError
from filigree.model.errors import AccessError, Obstacle

_BESIDE = ("-wal", "-journal")
_STEPS = 10_000
_BATCH = 2000
_VALUE_LIMIT = 64 << 20
COPY_LIMIT = 4 << 30
IN_MEMORY = 16 << 20


class _StepAllowance:
    """How many steps a query may still take."""

    def __init__(self) -> None:
        self.steps = 0

    def spent(self) -> bool:
        """Take off what was just used; whether that was more than there was."""
        self.steps -= _STEPS
        return self.steps < 0


class SqliteFile:
    """One database. Raises AccessError where it cannot be opened, ContainerError where it is damaged."""

    def __init__(self, tree: Tree, path: str) -> None:
        self.path = path
        self._lent = tree.lend(path)
        self._copy: tempfile.TemporaryDirectory[str] | None = None
        self._connection: sqlite3.Connection | None = None
        self._process = 0
        self._allowance = _StepAllowance()
        self._running = 0
        beside = [ending for ending in _BESIDE if _size(tree, path + ending)]
        self._memory = None if beside or self._lent.size > IN_MEMORY else self._whole()
        self._size = self._lent.size + sum(_size(tree, path + ending) for ending in beside)
        if self._memory is None:
            self._copy = tempfile.TemporaryDirectory(prefix="filigree-")
            try:
                for ending in ("", *beside):
                    self._copied(tree, path + ending, ending)
            except OSError as error:
                raise AccessError(
                    Obstacle.FAILED, path, f"no private copy of it can be made: {error.strerror}"
                ) from error

    def _whole(self) -> bytes:
        data = b"".join(pieces_of(self._lent))
        # In memory there is no journal: two bytes of the head say that one may lie beside the file.
        return data[:18] + b"\1\1" + data[20:] if data[18:20] == b"\2\2" else data

    def _copied(self, tree: Tree, path: str, ending: str) -> None:
        assert self._copy is not None
        total = 0
        with open(f"{self._copy.name}/copy{ending}", "xb") as out:
            for piece in pieces_of(self._lent) if not ending else tree.pieces(path):
                total += len(piece)
                if total > COPY_LIMIT:
                    raise AccessError(Obstacle.TOO_LARGE, path)
                out.write(piece)

    @property
    def size(self) -> int:
        """Bytes of the database and of what lies beside it."""
        return self._size

    @property
    def is_whole(self) -> bool:
        """Whether the file is as long as it says itself, in pages (Database File Format, 1.3.8)."""
        head = self._lent.at(0, 32)
        page = int.from_bytes(head[16:18], "big")
        pages = int.from_bytes(head[28:32], "big")
        return self._lent.size == pages * (65536 if page == 1 else page) > 0

    def tables(self) -> frozenset[str]:
        """The names of the ordinary tables: views and virtual tables are none."""
        query = "SELECT name FROM sqlite_master WHERE type = 'table' AND rootpage > 0 LIMIT 1000"
        return frozenset(name for (name,) in self.rows(query) if isinstance(name, str))

    def columns(self, table: str) -> frozenset[str]:
        """The names of the columns of a table of that very name; none where there is none."""
        found = self.rows("SELECT name FROM pragma_table_info(?)", table)
        return frozenset(name for (name,) in found if isinstance(name, str))

    def rows(self, query: str, *values: Any) -> Iterator[tuple[Any, ...]]:
        """The rows of a query of ours. Raises ContainerError."""
        # A look at a row takes a few steps; a schema that was made to go in circles takes no end. A
        # query that is asked within another one shares its allowance.
        if not self._running:
            self._allowance.steps = 2_000_000 + 2 * self.size
        self._running += 1
        try:
            yield from self._connected().execute(query, values)
        except (sqlite3.Error, OverflowError) as error:
            raise ContainerError(f"the database cannot be read: {error}", 0) from error
        except UnicodeDecodeError as error:
            # What the library says of a damaged schema quotes it, and fails on what is no text.
            raise ContainerError("the database cannot be read: its schema is damaged", 0) from error
        finally:
            self._running -= 1

    def batches(self, query: str) -> Iterator[list[tuple[Any, ...]]]:
        """The rows of a query of ours that takes the whole file, many at once. Raises ContainerError."""
        self._running += 1  # such a query shares the allowance of nobody
        self._allowance.steps = 2_000_000 + 64 * self.size
        try:
            cursor = self._connected().execute(query)
            while batch := cursor.fetchmany(_BATCH):
                yield batch
        except (sqlite3.Error, OverflowError) as error:
            raise ContainerError(f"the database cannot be read: {error}", 0) from error
        finally:
            self._running -= 1

    def _connected(self) -> sqlite3.Connection:
        """A connection of this very process: none may be carried into a child."""
        if self._connection is None or self._process != os.getpid():
            self._process = os.getpid()
            self._connection = self._connect()
        return self._connection

    def _connect(self) -> sqlite3.Connection:
        place = ":memory:" if self._copy is None else f"{self._copy.name}/copy"
        connection = sqlite3.connect(place, check_same_thread=False)
        if self._memory:
            connection.deserialize(self._memory)
        connection.text_factory = lambda data: data.decode("utf-8", "surrogateescape")
        # A length is a claim: none can be more than the file has.
        connection.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, min(_VALUE_LIMIT, 4096 + self.size))
        connection.setlimit(sqlite3.SQLITE_LIMIT_ATTACHED, 0)
        # Nothing that the connection holds may hold this object, or neither would ever be let go.
        connection.set_progress_handler(self._allowance.spent, _STEPS)
        connection.execute("PRAGMA trusted_schema = OFF")
        connection.execute("PRAGMA cell_size_check = ON")
        return connection

    def close(self) -> None:
        """Let go of the file, and of its copy."""
        if self._connection is not None and self._process == os.getpid():
            self._connection.close()
        self._connection = None
        self._lent.close()
        if self._copy is not None:
            self._copy.cleanup()


def pieces_of(file: Borrowed) -> Iterator[bytes]:
    """A file that is held open, in pieces, as far as it was long when it was opened."""
    at = 0
    while piece := file.at(at, 1 << 20):
        yield piece
        at += len(piece)


def _size(tree: Tree, path: str) -> int:
    try:
        return tree.observe(path).size
    except AccessError:
        return 0
