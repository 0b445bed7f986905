"""What was parsed of indexes, kept in the auditor's own cache under the digest of what it came from.

A kept table is made whole in a file of its own and then put in its place in one step, so that two runs
that make it at once do each other no harm. One that is damaged is made anew. Where nothing can be kept
(a full disk, a folder that may not be written) the table lives in memory for this once, and that is told.
What was damaged in the index is kept with its table and told every time; a table of an index that broke
off is not kept.
"""

import contextlib
import os
import sqlite3
import tempfile
import time
from collections.abc import Callable, Iterable
from itertools import islice
from typing import Any, Generic, TypeVar

from filigree.access.private_folder import is_private, make_private
from filigree.access.tables import BATCH, BlobTable, T, Table, _as_text
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, words_of

VERSION = 9
_DAY = 86400
_UNUSED = 90 * _DAY
"""After so many seconds without being asked a table is taken away."""
_UNUSED_BLOBS = 14 * _DAY
"""The same of what was made of several indexes: one that changes daily leaves one each day."""


_OF_ANOTHER = "\x1f"
"""What a gap begins with that is not of the table's own index."""


def _placed(what: str, where: str) -> str:
    """What a gap is of, as it is kept: within the index, or as it stands."""
    return what[len(where) :] if what.startswith(where) else f"{_OF_ANOTHER}{what}"


class Filler(Generic[T]):
    """One table in the making, and the gaps that are found meanwhile."""

    def __init__(self, kind: type[Table[T]], path: str, where: str) -> None:
        self.gaps: list[Gap] = []
        self.odd = False
        self._where = where
        self.connection = sqlite3.connect(path)
        self.connection.execute("PRAGMA journal_mode = OFF")
        self.connection.execute("PRAGMA synchronous = OFF")
        self.connection.executescript(kind.layout)
        self._kind = kind

    def run(self, items: Callable[[Callable[[Gap], None]], Iterable[T]]) -> Gap | None:
        """Fill it; why it broke off comes back, None where it is whole."""
        table = self._kind(self.connection)
        broke = None
        count = 0
        batches = iter(items(self.gaps.append))
        while broke is None:
            batch: list[T] = []
            try:
                batch.extend(islice(batches, BATCH))
            except (AccessError, ValueError) as error:
                broke = Gap(self._where, words_of(error))
            if not batch and broke is None:
                break
            table.fill(batch)
            count += len(batch)
        table.end()
        self.connection.executescript(self._kind.finish)
        self.connection.execute("CREATE TABLE whole (count, odd)")
        self.connection.execute("CREATE TABLE gaps (place, why)")
        gaps = [(_placed(gap.what, self._where), gap.why) for gap in self.gaps]
        table.insert("gaps", 2, gaps)
        self.connection.execute("INSERT INTO whole VALUES (?, ?)", (count, table.odd))
        self.odd = table.odd
        if table.odd:
            self.connection.text_factory = _as_text
        self.connection.commit()
        return broke


K = TypeVar("K", bound=Table[Any])


class Store:
    """A folder of tables; without a folder, nothing is kept."""

    def __init__(
        self,
        folder: str | None,
        report: Callable[[Gap], None],
        say: Callable[[str], None] = lambda _: None,
    ) -> None:
        self._folder = folder
        self._report = report
        self._say = say

    def table(
        self,
        kind: type[K],
        key: str,
        where: str,
        items: Callable[[Callable[[Gap], None]], Iterable[Any]],
    ) -> K:
        """The table of an index, by the digest of its text; made from `items` where it is not kept.

        `where` is the index for people, with which the gaps within it begin.
        """
        if self._folder is None:
            return self._made(kind, ":memory:", where, items)[0]
        path = self._path(self._folder, kind, key)
        kept = _opened(kind, path)
        if kept is None:
            # A table that somebody else could have written is no better than none.
            try:
                return self._kept_anew(kind, path, where, items)
            except (OSError, sqlite3.Error) as error:
                # It takes time the next time, and costs the answer nothing: it is no gap.
                self._say(f"nothing could be kept in {self._folder} for the next time: {error}")
            return self._made(kind, ":memory:", where, items)[0]
        for place, why in kept.execute("SELECT place, why FROM gaps"):
            of_another = place.startswith(_OF_ANOTHER)
            self._report(Gap(place[1:] if of_another else f"{where}{place}", why))
        table = kind(kept)
        table.kept = True
        table.odd = kept.text_factory is _as_text
        return table

    def forget(self, kind: type[Table[Any]], key: str) -> None:
        """Not to keep a table any longer: it turned out to be damaged."""
        if self._folder is not None:
            with contextlib.suppress(OSError):
                os.unlink(self._path(self._folder, kind, key))

    @staticmethod
    def _path(folder: str, kind: type[Table[Any]], key: str) -> str:
        return os.path.join(folder, f"{kind.kind}-{VERSION}-{key.replace(':', '-')}.sqlite")

    def _kept_anew(self, kind: type[K], path: str, where: str, items: Any) -> K:
        folder = os.path.dirname(path)
        make_private(folder)
        _sweep(folder)
        handle, new = tempfile.mkstemp(dir=folder, prefix="new-", suffix=".sqlite")
        os.close(handle)
        try:
            table, whole = self._made(kind, new, where, items)
            if whole:
                os.replace(new, path)
            else:  # what is open can still be read
                os.unlink(new)
        except BaseException:
            with contextlib.suppress(OSError):
                os.unlink(new)
            raise
        return table

    def _made(self, kind: type[K], path: str, where: str, items: Any) -> tuple[K, bool]:
        filler = Filler(kind, path, where)
        broke = filler.run(items)
        for gap in (*filler.gaps, *((broke,) if broke else ())):
            self._report(gap)
        table = kind(filler.connection)
        table.odd = filler.odd
        return table, broke is None


def _sweep(folder: str) -> None:
    """Take away what nobody asked for in a long time, and what a run left that was stopped."""
    now = time.time()
    with contextlib.suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            if entry.name.endswith(".sqlite"):
                age = now - entry.stat(follow_symlinks=False).st_mtime
                kind = entry.name.partition("-")[0]
                if age > _KEPT_FOR.get(kind, _UNUSED):
                    os.unlink(entry.path)


_KEPT_FOR = {"new": _DAY, BlobTable.kind: _UNUSED_BLOBS}


def _opened(kind: type[Table[Any]], path: str) -> sqlite3.Connection | None:
    """A table that is kept and whole; None where there is none."""
    if not is_private(path):
        return None
    try:
        connection = sqlite3.connect(f"file:{_quoted(path)}?mode=ro", uri=True)
        count, odd = connection.execute("SELECT count, odd FROM whole").fetchone()
        (there,) = connection.execute(f"SELECT {kind.counted}").fetchone()
    except (sqlite3.Error, TypeError, ValueError):
        return None
    if odd:
        # In another text there is nothing that SQLite could not read by itself, and faster.
        connection.text_factory = _as_text
    with contextlib.suppress(OSError):
        os.utime(path)
    return connection if count == (there or 0) else None


def _quoted(path: str) -> str:
    return "".join(f"%{ord(sign):02x}" if sign in "%?#" else sign for sign in path)
