"""Places where files are kept under names that never change what they stand for: a folder of one's own.

What is put there is complete or not there at all: it is written beside, and given its name at the end. A
name that is taken stays as it is.
"""

import contextlib
import os
import secrets
import time
from collections.abc import Iterator
from typing import Protocol

from filigree.access.private_folder import (
    copy_private,
    is_private,
    make_private,
    open_private,
    why_not_private,
)
from filigree.model.errors import BadQuestion, words_of

_BESIDE = ".beside-"


class Shelf(Protocol):
    """Where the files of a store are. Names are paths below it, with slashes."""

    @property
    def address(self) -> str:
        """What a person calls it by."""
        ...

    @property
    def doubt(self) -> str | None:
        """Why what is kept there is only somebody's word; None where nobody else could have written
        it."""
        ...

    def names(self, folder: str) -> list[str]:
        """The names of the files in a folder, sorted; none where there is no such folder."""
        ...

    def read(self, name: str, limit: int) -> bytes | None:
        """A whole file; None where there is none. Raises BadQuestion where it cannot be read, or is not
        to be believed."""
        ...

    def create(self, name: str, data: bytes) -> bool:
        """Put a file there; False where there is one of that name already, which stays. Raises
        BadQuestion."""
        ...

    def take_in(self, name: str, file: str) -> None:
        """Put a copy of a finished file there; where there is one of that name it is the same. Raises
        BadQuestion."""
        ...

    def local(self, name: str) -> str | None:
        """Where a file can be read in place; None where there is none, or it is not to be believed."""
        ...

    def drop(self, name: str) -> None:
        """Take a file away, if it is there."""
        ...

    def age(self, name: str) -> float:
        """How many seconds ago a file was put there; 0 for one that is not there."""
        ...

    def sweep(self, folder: str, age: float) -> None:
        """Take away what was begun so many seconds ago, and never given its name."""
        ...


class FolderShelf:
    """A folder of one's own: what others may write to is not believed."""

    doubt: str | None = None

    def __init__(self, folder: str, make: bool) -> None:
        self.address = folder
        self._folder = os.path.abspath(folder)
        if make:
            with _told(folder):
                make_private(self._folder)
        elif not os.path.isdir(self._folder):
            raise BadQuestion("there is no such folder", folder, "gather something into it first")
        why = why_not_private(self._folder)
        if why is not None:
            raise BadQuestion(f"nobody can vouch for what is kept here: {why}", folder)

    def _path(self, name: str) -> str:
        assert not name.startswith("/")
        assert ".." not in name.split("/")
        return os.path.join(self._folder, name)

    def names(self, folder: str) -> list[str]:
        """The names of the files in a folder."""
        try:
            found = os.listdir(self._path(folder))
        except (FileNotFoundError, NotADirectoryError):
            return []
        return sorted(one for one in found if not one.startswith(_BESIDE))

    def read(self, name: str, limit: int) -> bytes | None:
        """A whole file."""
        path = self._path(name)
        if not os.path.lexists(path):
            return None
        if not is_private(path):
            raise BadQuestion("others could have written it", path)
        with _told(path), open(path, "rb") as file:
            data = file.read(limit + 1)
        if len(data) > limit:
            raise BadQuestion(f"it is larger than {limit:,} bytes", path)
        return data

    def create(self, name: str, data: bytes) -> bool:
        """Put a file there, where there is none."""
        path = self._path(name)
        with self._beside(path) as beside:
            with _told(path), open_private(beside, "xb") as out:
                out.write(data)
                out.flush()
                os.fsync(out.fileno())
            with _told(path):
                try:
                    os.link(beside, path)
                except FileExistsError:
                    return False
        self._settle(path)
        return True

    def take_in(self, name: str, file: str) -> None:
        """Put a copy of a finished file there."""
        path = self._path(name)
        with self._beside(path) as beside, _told(path):
            copy_private(file, beside)
            handle = os.open(beside, os.O_RDONLY | os.O_CLOEXEC)
            try:
                os.fsync(handle)
            finally:
                os.close(handle)
            os.replace(beside, path)
        self._settle(path)

    def local(self, name: str) -> str | None:
        """Where a file can be read in place."""
        path = self._path(name)
        return path if is_private(path) else None

    def drop(self, name: str) -> None:
        """Take a file away, if it is there."""
        with _told(name), contextlib.suppress(FileNotFoundError):
            os.unlink(self._path(name))

    def age(self, name: str) -> float:
        """How many seconds ago a file was put there; 0 for one that is not there."""
        try:
            return time.time() - os.stat(self._path(name)).st_mtime
        except OSError:
            return 0.0

    def sweep(self, folder: str, age: float) -> None:
        """Take away what was begun beside so many seconds ago, and never given its name."""
        with contextlib.suppress(FileNotFoundError):
            for one in os.listdir(self._path(folder)):
                if one.startswith(_BESIDE) and self.age(f"{folder}/{one}") > age:
                    self.drop(f"{folder}/{one}")

    @contextlib.contextmanager
    def _beside(self, path: str) -> Iterator[str]:
        with _told(path):
            make_private(os.path.dirname(path))
        beside = os.path.join(os.path.dirname(path), f"{_BESIDE}{secrets.token_hex(8)}")
        try:
            yield beside
        finally:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(beside)

    @staticmethod
    def _settle(path: str) -> None:
        """Have the name itself written to the disk."""
        handle = os.open(os.path.dirname(path), os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


@contextlib.contextmanager
def _told(where: str) -> Iterator[None]:
    try:
        yield
    except OSError as error:
        raise BadQuestion(f"it cannot be kept: {words_of(error)}", where) from error


def is_address(text: str) -> bool:
    """Whether a text is the address of a store of objects, and not a folder."""
    return "://" in text


def open_shelf(address: str, make: bool = False, cache: str | None = None) -> Shelf:
    """A store's files, by its address: a folder, or an object store, of which copies are kept in
    `cache`. With `make` a folder is made where there is none.

    Raises BadQuestion where there is none, or others could have written what is in it.
    """
    if is_address(address):
        from filigree.access.object_shelf import ObjectShelf

        return ObjectShelf(address, cache)
    return FolderShelf(address, make)
