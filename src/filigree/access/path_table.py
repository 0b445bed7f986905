"""The paths of an index, as they are kept: packed a quarter of a million signs at a time.

Indexes list millions of paths, and most of a path is what the one before it has, too: packed they take a
tenth. To look through all of them takes less time than any index of them would have to be worth its room:
what is asked for is looked for as bytes, and only the lines that hold it are taken apart.

A line is `path TAB holder TAB kind`; in them a backslash, a tab and the end of a line are written with a
backslash before.
"""

import fnmatch
import re
import sqlite3
from array import array
from collections.abc import Callable, Iterator
from typing import Any

from filigree.access.tables import Table
from filigree.model.errors import DatabaseError
from filigree.model.repositories import ListedPath

_BLOCK = 1 << 18
"""Signs of text that are packed together. Of 64 KiB and of 1 MiB the time is the same."""
_ESCAPES = {"\\": "\\\\", "\t": "\\t", "\n": "\\n"}
_MEANT = {written: meant for meant, written in _ESCAPES.items()}
_ESCAPED = re.compile(r"\\.")
_LITERAL = re.compile(r"[^*?\[]+")
_EVERYTHING = b"\xff"


class PathTable(Table[ListedPath]):
    """Which package holds which path."""

    kind = "paths"
    layout = (
        # Every path of a block lies between `first` and `last`, as bytes; `count` is with those before.
        "CREATE TABLE blocks (id INTEGER PRIMARY KEY, count, first, last, data);"
        "CREATE TABLE holders (holder, blocks);"
    )
    finish = "CREATE INDEX holder_names ON holders (holder);"
    counted = "count FROM blocks ORDER BY id DESC LIMIT 1"

    def __init__(self, connection: sqlite3.Connection) -> None:
        super().__init__(connection)
        self._text: list[str] = []
        self._paths: list[str] = []
        self._whose: set[str] = set()
        self._size = 0
        self._count = 0
        self._blocks = 0
        self._held: dict[str, array[int]] = {}

    # -- making it -------------------------------------------------------------------------

    def fill(self, items: list[ListedPath]) -> None:
        text = "".join([f"\n{path}\t{holder}\t{kind or ''}" for path, holder, kind in items])
        if "\\" in text or text.count("\t") != 2 * len(items) or text.count("\n") != len(items):
            text = "".join(map(_line, items))
        self._text.append(text)
        self._paths += [item[0] for item in items]
        self._whose.update([item[1] for item in items])
        self._size += len(text)
        self._count += len(items)
        if self._size >= _BLOCK:
            self._pack()

    def end(self) -> None:
        if self._size:
            self._pack()
        self.insert("holders", 2, [(whose, at.tobytes()) for whose, at in self._held.items()])
        self._held.clear()

    def _pack(self) -> None:
        from zstandard import ZstdCompressor

        text = "".join(self._text)
        try:
            data = text.encode()
            first, last = min(self._paths).encode(), max(self._paths).encode()
        except UnicodeEncodeError:
            # Of texts that are no UTF-8 the order is another than that of their bytes.
            data = text.encode("utf-8", "surrogateescape")
            first, last = b"", _EVERYTHING
        self._blocks += 1
        self.connection.execute(
            "INSERT INTO blocks VALUES (?, ?, ?, ?, ?)",
            (self._blocks, self._count, first, last, ZstdCompressor(3).compress(data)),
        )
        for whose in self._whose:
            self._held.setdefault(whose, array("I")).append(self._blocks)
        self._text, self._paths, self._whose, self._size = [], [], set(), 0

    # -- asking it -------------------------------------------------------------------------

    def at(self, path: str) -> list[ListedPath]:
        """What holds a path."""
        raw = path.encode("utf-8", "surrogateescape")
        blocks = self._unpacked("WHERE first <= ? AND last >= ?", raw, raw)
        return list(self._where(blocks, _written("\n", path), lambda found: found == path))

    def named(self, name: str) -> list[ListedPath]:
        """The paths whose last part is a name."""
        return list(
            self._where(
                self._unpacked(), _written("/", name), lambda found: found.endswith(f"/{name}")
            )
        )

    def glob(self, pattern: str) -> Iterator[ListedPath]:
        """The paths that a glob matches: `*` and `?` match a slash too."""
        # What stands in brackets is one of several signs, and so is what is written with a backslash.
        plain = pattern.partition("[")[0]
        literal = max(_LITERAL.findall(plain), key=len, default="")
        matches = re.compile(fnmatch.translate(pattern)).match
        sought = _raw("".join(_ESCAPES.get(sign, sign) for sign in literal))
        return self._where(self._unpacked(), sought, lambda path: matches(path) is not None)

    def held_by(self, holder: str) -> list[ListedPath]:
        """The paths that a package holds."""
        numbers = array("I")
        for (blocks,) in self.ask("SELECT blocks FROM holders WHERE holder = ?", holder):
            numbers.frombytes(blocks)
        found: list[ListedPath] = []
        sought = _written("\t", holder)
        for number in numbers:
            blocks = self._unpacked("WHERE id = ?", number)
            found += (row for row in self._where(blocks, sought) if row.holder == holder)
        return found

    def _unpacked(self, where: str = "", *values: Any) -> Iterator[bytes]:
        from zstandard import ZstdDecompressor, ZstdError

        unpack = ZstdDecompressor().decompress
        for (data,) in self.connection.execute(
            f"SELECT data FROM blocks {where} ORDER BY id", values
        ):
            try:
                yield unpack(data)
            except ZstdError as error:
                _, _, file = self.connection.execute("PRAGMA database_list").fetchone()
                raise DatabaseError(
                    f"what was kept of an index of paths cannot be unpacked: {error}",
                    file or None,
                    "take it away, and it is made anew",
                ) from None

    @staticmethod
    def _where(
        blocks: Iterator[bytes], sought: bytes, accepts: Callable[[str], bool] = lambda _: True
    ) -> Iterator[ListedPath]:
        """The rows of the lines that hold some bytes, and whose path is accepted."""
        for text in blocks:
            at = text.find(sought)
            while 0 <= at < len(text):
                start = text.rfind(b"\n", 0, at + 1)
                end = text.find(b"\n", start + 1)
                end = len(text) if end < 0 else end
                row = _row(text[start + 1 : end])
                if accepts(row.path):
                    yield row
                at = text.find(sought, max(end, at + 1))


def _written(before: str, text: str) -> bytes:
    """A part of a line that ends at a tab."""
    return _raw(f"{before}{_escaped(text)}\t")


def _raw(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def _escaped(text: str) -> str:
    for meant, written in _ESCAPES.items():
        text = text.replace(meant, written)
    return text


def _line(item: ListedPath) -> str:
    path, holder, kind = item
    return f"\n{_escaped(path)}\t{_escaped(holder)}\t{_escaped(kind or '')}"


def _row(line: bytes) -> ListedPath:
    parts = line.decode("utf-8", "surrogateescape").split("\t")
    if b"\\" in line:
        parts = [_ESCAPED.sub(lambda found: _MEANT.get(found[0], found[0]), part) for part in parts]
    path, holder, kind = parts
    return ListedPath(path, holder, kind or None)
