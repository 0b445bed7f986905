"""The tables that are kept of parsed indexes: how rows lie, and how they are asked for."""

import sqlite3
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from typing import Any, ClassVar, Generic, NamedTuple, TypeVar

from filigree.model.repositories import Offer

BATCH = 2000


T = TypeVar("T")


class Table(Generic[T]):
    """What one index told, as rows of SQLite. Each kind says how it is laid out."""

    kind: ClassVar[str]
    layout: ClassVar[str]
    finish: ClassVar[str] = ""
    counted: ClassVar[str]
    """What counts the items that are kept, as far as they were not taken away: a part of a query."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self.connection = connection
        self.odd = False
        """Whether it holds text that is not UTF-8."""
        self.kept = False
        """Whether it was made by an earlier run."""

    def fill(self, items: list[T]) -> None:
        """Add a batch of what was read."""
        raise NotImplementedError

    def end(self) -> None:
        """Add what is left, after the last batch."""

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
                row = rows[drawn - 1]
                odd = [_as_bytes(value) for value in row]
                marks = ["CAST(? AS TEXT)" if isinstance(v, str) else "?" for v in row]
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
    counted = "max(rowid) FROM offers"

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

    def between(self, first: int, end: int) -> Iterator[KeptOffer]:
        """Those from one place in the order of the index to before another."""
        query = f"SELECT {_OFFER} FROM offers ORDER BY id LIMIT ? OFFSET ?"
        return map(KeptOffer._make, self.connection.execute(query, (end - first, first)))

    def by_name(self, chooses: Callable[[str], bool] | None = None) -> Iterator[KeptOffer]:
        """Those whose name is chosen, or all, by name (as texts are compared), then by number."""
        if chooses is not None:
            named = sorted((name, number) for number, name in self.names() if chooses(name))
        elif self.odd:
            # Bytes that are no UTF-8 have another order than the signs that stand for them.
            named = sorted((name, number) for number, name in self.names())
        else:
            rows = self.connection.execute(f"SELECT {_OFFER} FROM offers ORDER BY name, id")
            yield from map(KeptOffer._make, rows)
            return
        query = f"SELECT {_OFFER} FROM offers WHERE id = ?"
        for _, number in named:
            yield from map(KeptOffer._make, self.connection.execute(query, (number,)))

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


class KeyedTable(Table[tuple[str, str]]):
    """Texts by a key, in the order of the index; a key may have several."""

    layout = "CREATE TABLE texts (id INTEGER PRIMARY KEY, key, text);"
    finish = "CREATE INDEX text_keys ON texts (key);"
    counted = "max(rowid) FROM texts"

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
    counted = "max(rowid) FROM blobs"

    def fill(self, items: list[tuple[str, bytes]]) -> None:
        self.insert("blobs", 2, items)

    def whole(self) -> dict[str, bytes]:
        """Every blob, by its name."""
        return dict(self.connection.execute("SELECT name, data FROM blobs"))


def keyed(name: str) -> type[KeyedTable]:
    """A kind of keyed table."""
    return type(f"Keyed_{name}", (KeyedTable,), {"kind": name})
