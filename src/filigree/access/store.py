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
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from itertools import islice
from typing import Any, ClassVar, Generic, NamedTuple, TypeVar

from filigree.access.private_folder import is_private, make_private
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, words_of
from filigree.model.repositories import ListedPath, Offer

VERSION = 8
_BATCH = 2000
_UNUSED = 90 * 86400
"""After so many seconds without being asked a table is taken away."""

T = TypeVar("T")


class Table(Generic[T]):
    """What one index told, as rows of SQLite. Each kind says how it is laid out."""

    kind: ClassVar[str]
    layout: ClassVar[str]
    finish: ClassVar[str] = ""
    counted: ClassVar[str]

    def __init__(self, connection: sqlite3.Connection) -> None:
        self.connection = connection
        self.odd = False
        """Whether it holds text that is not UTF-8."""
        self.kept = False
        """Whether it was made by an earlier run."""

    def fill(self, items: list[T]) -> None:
        """Add a batch of what was read."""
        raise NotImplementedError

    def close(self) -> None:
        self.connection.close()

    def insert(self, table: str, width: int, rows: list[Any]) -> None:
        """Add rows. Text that is not UTF-8 is kept byte by byte: SQLite takes it no other way."""
        drawn = 0

        def each() -> Iterator[Any]:
            nonlocal drawn
            for row in rows:
                drawn += 1
                yield row

        left = each()
        plain = f"INSERT INTO {table} VALUES ({', '.join('?' * width)})"
        while True:
            try:
                self.connection.executemany(plain, left)
                return
            except UnicodeEncodeError:
                self.odd = True
                odd = [_as_bytes(value) for value in rows[drawn - 1]]
                marks = ["CAST(? AS TEXT)" if isinstance(v, bytes) else "?" for v in odd]
                self.connection.execute(f"INSERT INTO {table} VALUES ({', '.join(marks)})", odd)

    def ask(self, query: str, *values: Any) -> Iterator[Any]:
        """The rows of a query; a text that is not UTF-8 is looked for byte by byte."""
        if any(map(_is_odd, values)):
            values = tuple(_as_bytes(value) if _is_odd(value) else value for value in values)
            marks = ["CAST(? AS TEXT)" if isinstance(v, bytes) else "?" for v in values]
            parts = query.split("?")
            query = "".join(part + mark for part, mark in zip(parts, [*marks, ""], strict=True))
        return self.connection.execute(query, values)

    def _among(self, query: str, values: Sequence[Any]) -> Iterator[Any]:
        """The rows of a query whose `{}` stands for a part of the values at a time."""
        for at in range(0, len(values), 500):
            part = values[at : at + 500]
            yield from self.ask(query.format(", ".join("?" * len(part))), *part)


def _is_odd(value: Any) -> bool:
    """Whether it is a text that is not UTF-8."""
    if not isinstance(value, str) or value.isascii():
        return False
    try:
        value.encode()
    except UnicodeEncodeError:
        return True
    return False


def _as_bytes(value: Any) -> Any:
    return value.encode("utf-8", "surrogateescape") if isinstance(value, str) else value


def _as_text(data: bytes) -> str:
    return data.decode("utf-8", "surrogateescape")


_OFFER = "id, name, version, architecture, summary, description, record"


class KeptOffer(NamedTuple):
    """An offer as it is kept; `number` is its own within the table."""

    number: int
    name: str
    version: str
    architecture: str
    summary: str | None
    description: str | None
    record: str


class OfferTable(Table[Offer]):
    """The packages of an index, and the names that they stand under besides their own."""

    kind = "offers"
    layout = (
        f"CREATE TABLE offers ({_OFFER.replace('id,', 'id INTEGER PRIMARY KEY,')});"
        "CREATE TABLE named (kind, name, offer);"
    )
    finish = (
        "CREATE INDEX offer_names ON offers (name); CREATE INDEX other_names ON named (name, kind);"
    )
    counted = "offers"

    def __init__(self, connection: sqlite3.Connection) -> None:
        super().__init__(connection)
        self._next = 1

    def fill(self, items: list[Offer]) -> None:
        rows, others = [], []
        for number, offer in enumerate(items, self._next):
            rows.append((number, *offer[:6]))
            if offer.named:
                others += [(kind, name, number) for kind, name in offer.named]
        self._next += len(items)
        self.insert("offers", 7, rows)
        self.insert("named", 3, others)

    def names(self) -> list[tuple[int, str]]:
        """The number and name of each."""
        return self.connection.execute("SELECT id, name FROM offers").fetchall()

    def count(self) -> int:
        """How many there are."""
        return int(self.connection.execute("SELECT count(*) FROM offers").fetchone()[0])

    def versions(self) -> Iterator[tuple[str, str]]:
        """The name and version of each."""
        return self.ask("SELECT name, version FROM offers")

    def known(self, names: Sequence[str]) -> Iterator[str]:
        """Those of the names that are here."""
        query = "SELECT DISTINCT name FROM offers WHERE name IN ({})"
        return (name for (name,) in self._among(query, names))

    def offers(self, numbers: Sequence[int] | None = None) -> Iterator[KeptOffer]:
        """All, or those with the numbers given."""
        query = f"SELECT {_OFFER} FROM offers"
        if numbers is None:
            rows: Iterable[Any] = self.connection.execute(f"{query} ORDER BY id")
        else:
            rows = self._among(f"{query} WHERE id IN ({{}}) ORDER BY id", numbers)
        return map(KeptOffer._make, rows)

    def called(self, names: Sequence[str]) -> Iterator[KeptOffer]:
        """Those of any of these names."""
        query = f"SELECT {_OFFER} FROM offers WHERE name IN ({{}}) ORDER BY id"
        return map(KeptOffer._make, self._among(query, names))

    def known_as(self, kind: str, names: Sequence[str]) -> Iterator[tuple[str, KeptOffer]]:
        """Those that stand under any of these names in some way, each with that name."""
        query = (
            f"SELECT named.name, {_OFFER.replace('name,', 'offers.name,')} FROM named "
            f"JOIN offers ON offers.id = named.offer WHERE named.name IN ({{}}) AND named.kind = "
            f"'{kind}' ORDER BY id"
        )
        return ((row[0], KeptOffer._make(row[1:])) for row in self._among(query, names))

    def other_names(self, kind: str) -> Iterator[tuple[str, int]]:
        """Every name that something stands under in some way, with its number."""
        return self.ask("SELECT name, offer FROM named WHERE kind = ?", kind)

    def holding(self, words: Sequence[str]) -> Iterator[KeptOffer]:
        """Those whose words, or names of any kind, hold all of these; ASCII letters of either case."""
        marks = [f"%{_no_wildcards(word)}%" for word in words]
        one = (
            r"(name LIKE ? ESCAPE '\' OR summary LIKE ? ESCAPE '\' OR description LIKE ? ESCAPE '\' "
            r"OR id IN (SELECT offer FROM named WHERE kind = 'provides' AND name LIKE ? ESCAPE '\'))"
        )
        query = f"SELECT {_OFFER} FROM offers WHERE {' AND '.join([one] * len(words))}"
        values = [mark for mark in marks for _ in range(4)]
        return map(KeptOffer._make, self.ask(query, *values))

    def provided(self, numbers: Collection[int] | None = None) -> dict[int, list[str]]:
        """The names that each, or each of some, stands under because it provides them."""
        found: dict[int, list[str]] = {}
        for name, number in self.other_names("provides"):
            if numbers is None or number in numbers:
                found.setdefault(number, []).append(name)
        return found


def _no_wildcards(text: str) -> str:
    return text.replace("\\", "\\\\").replace("%", r"\%").replace("_", r"\_")


class PathTable(Table[ListedPath]):
    """Which package holds which path."""

    kind = "paths"
    layout = (
        "CREATE TABLE folders (id INTEGER PRIMARY KEY, path);"
        "CREATE TABLE holders (id INTEGER PRIMARY KEY, holder);"
        "CREATE TABLE paths (name, folder, holder, kind);"
    )
    finish = (
        "CREATE INDEX path_names ON paths (name); CREATE INDEX path_holders ON paths (holder);"
        "CREATE INDEX holder_names ON holders (holder);"
    )
    counted = "paths"

    def __init__(self, connection: sqlite3.Connection) -> None:
        super().__init__(connection)
        self._folders: dict[str, int] = {}
        self._holders: dict[str, int] = {}

    def fill(self, items: list[ListedPath]) -> None:
        folders, holders = self._folders, self._holders
        new_folders: list[tuple[int, str]] = []
        new_holders: list[tuple[int, str]] = []
        rows = []
        for path, holder, kind in items:
            folder, _, name = path.rpartition("/")
            place = folders.get(folder)
            if place is None:
                place = folders[folder] = len(folders)
                new_folders.append((place, folder))
            whose = holders.get(holder)
            if whose is None:
                whose = holders[holder] = len(holders)
                new_holders.append((whose, holder))
            rows.append((name, place, whose, kind))
        self.insert("folders", 2, new_folders)
        self.insert("holders", 2, new_holders)
        self.insert("paths", 4, rows)

    _ROWS = (
        "SELECT folders.path || '/' || name, holders.holder, kind FROM paths "
        "JOIN folders ON folders.id = folder JOIN holders ON holders.id = paths.holder WHERE "
    )

    def at(self, path: str) -> list[ListedPath]:
        """What holds a path."""
        folder, _, name = path.rpartition("/")
        query = f"{self._ROWS} name = ? AND folders.path = ?"
        return [ListedPath(*row) for row in self.ask(query, name, folder)]

    def named(self, name: str) -> list[ListedPath]:
        """The paths whose last part is a name."""
        return [ListedPath(*row) for row in self.ask(f"{self._ROWS} name = ?", name)]

    def glob(self, pattern: str) -> Iterator[ListedPath]:
        """The paths that a glob matches: `*` and `?` match a slash too."""
        query = f"{self._ROWS} folders.path || '/' || name GLOB ?"
        return (ListedPath(*row) for row in self.ask(query, pattern))

    def held_by(self, holder: str) -> list[ListedPath]:
        """The paths that a package holds."""
        query = f"{self._ROWS} holders.holder = ?"
        return [ListedPath(*row) for row in self.ask(query, holder)]


class KeyedTable(Table[tuple[str, str]]):
    """Texts by a key, in the order of the index; a key may have several."""

    layout = "CREATE TABLE texts (id INTEGER PRIMARY KEY, key, text);"
    finish = "CREATE INDEX text_keys ON texts (key);"
    counted = "texts"

    def fill(self, items: list[tuple[str, str]]) -> None:
        self.insert("texts (key, text)", 2, items)

    def of(self, keys: Sequence[str]) -> Iterator[tuple[str, str]]:
        """The texts of keys."""
        yield from self._among("SELECT key, text FROM texts WHERE key IN ({}) ORDER BY id", keys)

    def all(self) -> Iterator[tuple[str, str]]:
        yield from self.connection.execute("SELECT key, text FROM texts ORDER BY id")


class BlobTable(Table[tuple[str, bytes]]):
    """Bytes by name: what is read whole, or not at all."""

    kind = "blobs"
    layout = "CREATE TABLE blobs (name, data);"
    counted = "blobs"

    def fill(self, items: list[tuple[str, bytes]]) -> None:
        self.insert("blobs", 2, items)

    def whole(self) -> dict[str, bytes]:
        return dict(self.connection.execute("SELECT name, data FROM blobs"))


def keyed(name: str) -> type[KeyedTable]:
    """A kind of keyed table."""
    return type(f"Keyed_{name}", (KeyedTable,), {"kind": name})


class Filler(Generic[T]):
    """One table in the making, and the gaps that are found meanwhile."""

    def __init__(self, kind: type[Table[T]], path: str, where: str) -> None:
        self.gaps: list[Gap] = []
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
                batch.extend(islice(batches, _BATCH))
            except (AccessError, ValueError) as error:
                broke = Gap(self._where, words_of(error))
            if not batch and broke is None:
                break
            table.fill(batch)
            count += len(batch)
        self.connection.executescript(self._kind.finish)
        self.connection.execute("CREATE TABLE whole (count, odd)")
        self.connection.execute("CREATE TABLE gaps (place, why)")
        gaps = [(gap.what.removeprefix(self._where), gap.why) for gap in self.gaps]
        table.insert("gaps", 2, gaps)
        self.connection.execute("INSERT INTO whole VALUES (?, ?)", (count, table.odd))
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
            self._report(Gap(f"{where}{place}", why))
        table = kind(kept)
        table.kept = True
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
        return kind(filler.connection), broke is None


def _sweep(folder: str) -> None:
    """Take away what nobody asked for in a long time, and what a run left that was stopped."""
    now = time.time()
    with contextlib.suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            if entry.name.endswith(".sqlite"):
                age = now - entry.stat(follow_symlinks=False).st_mtime
                if age > (86400 if entry.name.startswith("new-") else _UNUSED):
                    os.unlink(entry.path)


def _opened(kind: type[Table[Any]], path: str) -> sqlite3.Connection | None:
    """A table that is kept and whole; None where there is none."""
    if not is_private(path):
        return None
    try:
        connection = sqlite3.connect(f"file:{_quoted(path)}?mode=ro", uri=True)
        count, odd = connection.execute("SELECT count, odd FROM whole").fetchone()
        (there,) = connection.execute(f"SELECT max(rowid) FROM {kind.counted}").fetchone()
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
