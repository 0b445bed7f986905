"""An object store as a place for the files of a fleet, by its address: `s3://…`, `gs://…`, `az://…`.

Who may write there is for its owner to say: nothing that is found there is believed by itself. Files
have their digests for names, and a copy whose digest is another is none; a list has not, and so every
answer says on whose word it rests. Copies are kept in the auditor's own cache, under their digests.
"""

import hashlib
import os
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

from filigree.access.private_folder import is_private, make_private, why_not_private
from filigree.model.errors import BadQuestion

_KEPT = "fleet"
_LARGEST = 8 << 30


class ObjectShelf:
    """The objects below one address; `store` is what speaks to it, made of the address where there is
    none."""

    def __init__(self, address: str, cache: str | None, store: Any = None) -> None:
        self.address = address
        self._objects = _loaded()
        if cache is None:
            raise BadQuestion(
                "copies of what is there have to be kept",
                address,
                "name a cache folder of your own",
            )
        self._cache = os.path.join(cache, _KEPT)
        make_private(self._cache)
        why = why_not_private(self._cache)
        if why is not None:
            raise BadQuestion(f"nobody can vouch for copies that are kept here: {why}", self._cache)
        with self._told():
            self._store = store or self._objects.store.from_url(address)

    @property
    def doubt(self) -> str:
        """Why what is here is only somebody's word."""
        return "whoever may write there could have made up which files count"

    def names(self, folder: str) -> list[str]:
        """The names of what is in a folder, sorted; none where there is none."""
        with self._told():
            found = self._objects.list_with_delimiter(self._store, prefix=folder)
        paths = [str(one["path"]) for one in found["objects"]]
        paths += [str(one) for one in found["common_prefixes"]]
        return sorted(path.rstrip("/").rpartition("/")[2] for path in paths)

    def read(self, name: str, limit: int) -> bytes | None:
        """A whole object; None where there is none."""
        with self._told(name):
            try:
                told = self._objects.head(self._store, name)
            except FileNotFoundError:
                return None
            if told["size"] > limit:
                raise BadQuestion(f"it is larger than {limit:,} bytes", f"{self.address}/{name}")
            return bytes(self._objects.get(self._store, name).bytes())

    def create(self, name: str, data: bytes) -> bool:
        """Put an object there; False where there is one already, which stays."""
        with self._told(name):
            try:
                self._objects.put(self._store, name, data, mode="create")
            except self._objects.exceptions.AlreadyExistsError:
                return False
        return True

    def take_in(self, name: str, file: str) -> None:
        """Put a finished file there; where there is one of that name it is the same."""
        with self._told(name):
            self._objects.put(self._store, name, Path(file))

    def local(self, name: str) -> str | None:
        """A copy that is what its name says, fetched where there is none yet."""
        digest = name.rpartition("/")[2].removesuffix(".parquet")
        path = os.path.join(self._cache, f"{digest}.parquet")
        if is_private(path):
            return path
        handle, beside = tempfile.mkstemp(dir=self._cache, prefix=".beside-")
        made = hashlib.sha256()
        try:
            with self._told(name), os.fdopen(handle, "wb") as out:
                try:
                    pieces = self._objects.get(self._store, name)
                except FileNotFoundError:
                    return None
                if pieces.meta["size"] > _LARGEST:
                    return None
                for piece in pieces:
                    made.update(piece)
                    out.write(piece)
            if made.hexdigest() != digest:
                return None
            os.replace(beside, path)
            return path
        finally:
            if os.path.exists(beside):
                os.unlink(beside)

    def drop(self, name: str) -> None:
        """Take an object away, if it is there."""
        with self._told(name):
            try:
                self._objects.delete(self._store, name)
            except FileNotFoundError:
                return

    def age(self, name: str) -> float:
        """How many seconds ago an object was put there; 0 for one that is not there."""
        with self._told(name):
            try:
                at: datetime = self._objects.head(self._store, name)["last_modified"]
            except FileNotFoundError:
                return 0.0
        return time.time() - at.astimezone(UTC).timestamp()

    def sweep(self, folder: str, age: float) -> None:
        """Nothing is ever written beside: an object is there as a whole, or not."""

    @contextmanager
    def _told(self, name: str = "") -> Iterator[None]:
        try:
            yield
        except (self._objects.exceptions.BaseError, OSError, ValueError) as error:
            where = f"{self.address}/{name}".rstrip("/")
            words = (str(error).strip().splitlines() or ["it cannot be reached"])[0]
            raise BadQuestion(f"the store cannot be used: {words}", where) from error


def _loaded() -> Any:
    try:
        import obstore
        import obstore.exceptions
        import obstore.store
    except ImportError as error:
        raise BadQuestion(
            "what speaks to object stores is not installed", None, "install filigree[objects]"
        ) from error
    return obstore
