"""The three containers of the database, behind one face: headers by the place where they lie."""

from collections.abc import Iterator
from typing import NamedTuple, Protocol

from filigree.access.sqlite_file import SqliteFile
from filigree.access.trees.protocol import Tree
from filigree.families.rpm import places
from filigree.formats.random_access import Bytes, ContainerError
from filigree.formats.rpm.bdb_hash import is_hash_file, read_pairs
from filigree.formats.rpm.slot_file import is_slot_file, read_slots


class FoundDatabase(NamedTuple):
    """What lies at one place: the bytes of a header, or why they cannot be had."""

    place: int
    blob: bytes | None
    damage: str | None = None


class Container(Protocol):
    def __iter__(self) -> Iterator[FoundDatabase]:
        """Everything that is there. Raises ContainerError where the file as a whole is damaged."""
        ...

    def blob(self, place: int) -> bytes | None:
        """The header at a place that was told before; None where it is gone."""
        ...

    def close(self) -> None: ...


class SqliteContainer:
    """A table of numbers and headers."""

    def __init__(self, tree: Tree, path: str) -> None:
        self._file = SqliteFile(tree, path)
        if "Packages" not in self._file.tables():
            raise ContainerError("it has no table of packages", 0)

    def __iter__(self) -> Iterator[FoundDatabase]:
        last = -1
        for (number,) in self._file.rows("SELECT hnum FROM Packages ORDER BY hnum"):
            if not isinstance(number, int) or number <= last:
                # They come in their order, unless the pages of the table go round in a circle.
                yield FoundDatabase(0, None, "rows out of their order; what follows was not read")
                return
            last = number
            # One by one, so that a damaged row costs itself.
            try:
                blob = self.blob(number)
            except ContainerError as error:
                yield FoundDatabase(number, None, f"row {number}: {error}")
                continue
            damage = None if blob is not None else f"row {number} holds no header"
            yield FoundDatabase(number, blob, damage)

    def blob(self, place: int) -> bytes | None:
        rows = self._file.rows("SELECT blob FROM Packages WHERE hnum = ?", place)
        found = next((row[0] for row in rows), None)
        return found if isinstance(found, bytes) else None

    def close(self) -> None:
        self._file.close()


class _Lent(Bytes, Protocol):
    def close(self) -> None: ...


class SlotContainer:
    """A file of blobs with a table of slots."""

    def __init__(self, source: _Lent) -> None:
        self._source = source
        if not is_slot_file(source):
            raise ContainerError("no slot file starts here", 0)

    def __iter__(self) -> Iterator[FoundDatabase]:
        for blob in read_slots(self._source):
            yield FoundDatabase(blob.slot, blob.data, blob.damage)

    def blob(self, place: int) -> bytes | None:
        return next((blob.data for blob in read_slots(self._source, place)), None)

    def close(self) -> None:
        self._source.close()


class HashContainer:
    """A hash file. The value of key 0 is no header but a count."""

    def __init__(self, source: _Lent) -> None:
        self._source = source
        if not is_hash_file(source):
            raise ContainerError("no hash file starts here", 0)

    def __iter__(self) -> Iterator[FoundDatabase]:
        for pair in read_pairs(self._source):
            if pair.damage is not None:
                yield FoundDatabase(pair.place, None, pair.damage)
            elif pair.key.strip(b"\0"):
                yield FoundDatabase(pair.place, pair.value)

    def blob(self, place: int) -> bytes | None:
        return next((pair.value for pair in read_pairs(self._source, place)), None)

    def close(self) -> None:
        self._source.close()


def open_container(tree: Tree, path: str) -> Container:
    """The container at a path. Raises AccessError or ContainerError."""
    if path.endswith(places.SQLITE):
        return SqliteContainer(tree, path)
    source = tree.lend(path)
    return SlotContainer(source) if path.endswith(places.SLOTS) else HashContainer(source)
