"""A tree that notes what is asked of the one below it: what is to be kept, so that it can be asked again.

Nothing is changed of what the tree below answers.
"""

import contextlib
import sys
from collections.abc import Iterator, Sequence

from filigree.access.trees.protocol import (
    READ_LIMIT,
    Borrowed,
    Entry,
    Form,
    Layered,
    Portrait,
    Tree,
)
from filigree.access.trees.trial import Group
from filigree.model.answer import Gap
from filigree.model.errors import AccessError
from filigree.model.files import Observation
from filigree.model.snapshots import SnapshotFacts


class NotingTree:
    """`contents` are the real paths of files that were read, `looked` all paths that were asked for."""

    def __init__(self, below: Tree) -> None:
        self._below = below
        self.contents: dict[str, None] = {}
        self.looked: dict[str, None] = {}

    @property
    def root(self) -> str:
        return self._below.root

    @property
    def troubles(self) -> Sequence[tuple[str, str]]:
        return self._below.troubles

    @property
    def layered(self) -> Layered | None:
        return self._below.layered

    @property
    def taken(self) -> SnapshotFacts | None:
        return self._below.taken

    def close(self) -> None:
        """The tree below is somebody else's, who closes it."""

    def _reads(self, path: str) -> None:
        with contextlib.suppress(AccessError):  # where it cannot be found, nothing is read
            self.contents[self._below.real_path(path)] = None
        self.looked[path] = None

    def real_path(self, path: str, follow: bool = True) -> str:
        self.looked[path] = None
        return self._below.real_path(path, follow)

    def observe(
        self,
        path: str,
        algorithm: str | None = None,
        limit: int = sys.maxsize,
        capabilities: bool = False,
        of_size: int | None = None,
    ) -> Observation:
        self.looked[path] = None
        return self._below.observe(path, algorithm, limit, capabilities, of_size)

    def portray(
        self, path: str, algorithms: Sequence[str] = (), limit: int = sys.maxsize
    ) -> Portrait:
        self.looked[path] = None
        return self._below.portray(path, algorithms, limit)

    def holds(
        self, path: str, digest: str, limit: int, form: Form | None = None, powerless: bool = True
    ) -> int:
        self.looked[path] = None
        return self._below.holds(path, digest, limit, form, powerless)

    def read(self, path: str, limit: int = READ_LIMIT) -> bytes:
        self._reads(path)
        return self._below.read(path, limit)

    def read_or_none(self, path: str, limit: int = READ_LIMIT) -> bytes | None:
        self._reads(path)
        return self._below.read_or_none(path, limit)

    def pieces(self, path: str, size: int = 1 << 20) -> Iterator[bytes]:
        self._reads(path)
        return self._below.pieces(path, size)

    def lend(self, path: str) -> Borrowed:
        self._reads(path)
        return self._below.lend(path)

    def names(self, path: str) -> list[str]:
        self.looked[path] = None
        return self._below.names(path)

    def exists(self, path: str) -> bool:
        self.looked[path] = None
        return self._below.exists(path)

    def is_directory(self, path: str) -> bool:
        self.looked[path] = None
        return self._below.is_directory(path)

    def walk(self, top: str, others: bool = False, made_up: bool = False) -> Iterator[Entry | Gap]:
        self.looked[top] = None
        return self._below.walk(top, others, made_up)

    def useful_workers(self, groups: Sequence[Group], processors: int) -> int:
        return self._below.useful_workers(groups, processors)

    def room(self, path: str) -> tuple[int, int, int]:
        return self._below.room(path)
