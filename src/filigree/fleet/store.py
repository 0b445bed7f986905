"""A store: files of tables, and lists of which of them count.

Rules, before the code that keeps them:

- A file of a table has its own digest for a name, and never changes. What counts is the list with the
  highest number: it names every file, with its table, month, rows and digest.
- A list is never changed either. Who adds to a store writes the files first, and then a list with the
  next number, which can be made but once: who comes second reads the first one's list, and adds to
  that.
- So whatever ends a writer, at any moment: the last list is whole, and names files that are whole. What
  no list names is swept away later, when it is older than whoever might still write or read it.
"""

import hashlib
import json
import os
import re
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from filigree.access.shelves import Shelf, open_shelf
from filigree.fleet.form import BY_NAME, VERSION
from filigree.model.errors import BadQuestion

LISTS = "lists"
_LIST = re.compile(r"(\d{8})\.json")
_NAME = re.compile(r"(?P<table>[a-z_]+)/\d{4}-\d{2}/(?P<digest>[0-9a-f]{64})\.parquet")
_LIMIT = 64 << 20
_SIZE = 1 << 40
_TRIES = 32


class File(NamedTuple):
    """A file of a table: its name (with its table, month and digest), how many rows, and its size."""

    name: str
    rows: int
    size: int

    @property
    def table(self) -> str:
        """Which table it is of."""
        return self.name.partition("/")[0]

    @property
    def month(self) -> str:
        """In which month what is in it was gathered first: `2026-11`."""
        return self.name.split("/")[1]

    @property
    def digest(self) -> str:
        """The SHA-256 of its content."""
        return self.name.rpartition("/")[2].removesuffix(".parquet")


@dataclass(frozen=True, slots=True)
class FileList:
    """Which files count: the number of the list, the files, sorted, and of which form they are."""

    number: int
    files: tuple[File, ...] = ()
    form: int = VERSION

    def of(self, table: str) -> list[File]:
        """The files of a table."""
        return [one for one in self.files if one.table == table]


class FleetStore:
    """A store, opened. Raises BadQuestion where there is none, or it is of a form that is not known."""

    def __init__(
        self, address: str, make: bool = False, cache: str | None = None, shelf: Shelf | None = None
    ) -> None:
        self.address = address
        self.shelf: Shelf = shelf or open_shelf(address, make, cache)
        self.list = self._last()
        if not make and not self.list.number:
            raise BadQuestion(
                "it is no store of a fleet", address, "gather something into it first"
            )

    def _last(self) -> FileList:
        numbers = [int(m[1]) for name in self.shelf.names(LISTS) if (m := _LIST.fullmatch(name))]
        if not numbers:
            return FileList(0)
        last = max(numbers)
        data = self.shelf.read(f"{LISTS}/{last:08d}.json", _LIMIT)
        if data is None:  # swept away meanwhile: there is a newer one
            return self._last()
        return read_list(data, last, self.address)

    def local(self, files: Iterable[File]) -> tuple[list[str], list[str]]:
        """Where files can be read, and the names of those that are not there or not to be believed."""
        found, gone = [], []
        for one in files:
            path = self.shelf.local(one.name)
            if path is None or os.path.getsize(path) != one.size:
                gone.append(one.name)
            else:
                found.append(path)
        return found, gone

    def add(self, made: Sequence[tuple[str, str, int]], month: str) -> list[File]:
        """Put finished files there: each its table, its path here, and how many rows it has. They count
        when a list names them."""
        found = []
        for table, path, rows in made:
            name = f"{table}/{month}/{digest_of(path)}.parquet"
            self.shelf.take_in(name, path)
            found.append(File(name, rows, os.path.getsize(path)))
        return found

    def commit(self, files: Iterable[File]) -> bool:
        """Make the next list, of these files; False where somebody else made one meanwhile: what was
        known of the store is not true any more then, and has to be read anew."""
        following = FileList(self.list.number + 1, tuple(sorted(set(files))))
        if not self.shelf.create(f"{LISTS}/{following.number:08d}.json", list_text(following)):
            return False
        self.list = following
        return True

    def change(self, files_of: Callable[[], Iterable[File] | None]) -> bool:
        """Make a next list of the files that `files_of` says by what is known (None: nothing is to be
        changed); again where somebody else made one meanwhile. False where that happens all the time."""
        for again in range(_TRIES):
            files = files_of()
            if files is None or self.commit(files):
                return True
            time.sleep(0.02 * again)
            self.refresh()
        return False

    def change_surely(self, files_of: Callable[[], Iterable[File] | None]) -> None:
        """As `change`. Raises BadQuestion where others come first all the time."""
        if not self.change(files_of):
            raise BadQuestion("others write to it all the time", self.address, "try again later")

    def refresh(self) -> None:
        """Read the last list anew."""
        self.list = self._last()


def digest_of(path: str) -> str:
    """The SHA-256 of a file."""
    with open(path, "rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def list_text(one: FileList) -> bytes:
    """A list as it is written."""
    told = {
        "store": "filigree/fleet",
        "form": one.form,
        "files": [list(file) for file in one.files],
    }
    return (json.dumps(told, separators=(",", ":")) + "\n").encode()


def read_list(data: bytes, number: int, address: str) -> FileList:
    """A list. Raises BadQuestion for whatever is not as it is to be."""
    try:
        told = json.loads(data)
    except (ValueError, RecursionError) as error:
        raise BadQuestion(f"its list {number} cannot be read", address) from error
    if not isinstance(told, dict) or told.get("store") != "filigree/fleet":
        raise BadQuestion(f"its list {number} is of something else", address)
    form = told.get("form")
    if not isinstance(form, int) or form > VERSION or form < 1:
        raise BadQuestion(f"it is of form {form}, and known are those up to {VERSION}", address)
    files = told.get("files")
    if not isinstance(files, list) or not all(map(_is_file, files)):
        raise BadQuestion(f"its list {number} names files that are none", address)
    return FileList(number, tuple(File(*one) for one in files), form)


def _is_file(told: Any) -> bool:
    if not isinstance(told, list) or len(told) != len(File._fields) or not isinstance(told[0], str):
        return False
    found = _NAME.fullmatch(told[0])
    numbers = all(isinstance(one, int) and 0 <= one < _SIZE for one in told[1:])
    return found is not None and found["table"] in BY_NAME and numbers
