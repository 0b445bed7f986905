"""A tree that was recorded: what it tells is what stands in its record, and nothing is looked at anew.

Links resolve as in a directory's tree. A digest is the one on record, or made of the content where it
is of another algorithm. What cannot be told, because the record does not hold it, is never absent.
"""

import hashlib
import stat
import sys
from collections.abc import Iterator, Sequence
from typing import Any, Protocol

from filigree.access.trees.directories import LINK_LIMIT, decoded, encoded
from filigree.access.trees.protocol import (
    READ_LIMIT,
    Borrowed,
    Entry,
    Form,
    Portrait,
    WithoutLayers,
)
from filigree.access.trees.recorded_form import Recorded, TreeRecord
from filigree.access.trees.recorded_rows import capabilities_of, entry_of, observed
from filigree.access.trees.walking import MADE_UP, UNKNOWN, another_file_system
from filigree.formats.file_capabilities import (
    ATTRIBUTE,
)
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, Obstacle
from filigree.model.files import Observation

_REMEMBERED = 1 << 16
_DEEPEST = 256
_KEPT = ("md5", "sha1", "sha256")


class Contents(Protocol):
    """Where the contents of regular files are that a record tells of."""

    def lend(self, row: Recorded, path: str) -> Borrowed:
        """A content, to be read in place. Raises AccessError, too where it is not to be believed."""
        ...

    def doubt(self, row: Recorded) -> str | None:
        """Why no verdict may rest on what is recorded of a path; None where one may."""
        ...

    def close(self) -> None:
        """Let go of what is held open."""
        ...


class RecordedTree(WithoutLayers):
    """One record, and where its contents are."""

    def __init__(self, root: str, record: TreeRecord, contents: Contents) -> None:
        self.root = root
        self._record = record
        self._contents = contents
        self._real: dict[bytes, bytes] = {b"": b""}

    def close(self) -> None:
        """Let go of the record, and of its contents."""
        self._record.close()
        self._contents.close()

    def row(self, real: bytes) -> Recorded | None:
        """What stands at a real path; None where nothing does, and where nobody looked."""
        return self._record.row(real)

    def forms(self) -> Iterator[list[tuple[Any, ...]]]:
        """What makes a PathForm of every path, many at once, by the directory that it lies in and its
        name."""
        return self._record.forms()

    def unseen(self, real: bytes) -> str | None:
        """Why nobody looked at what stands, or does not, at a real path; None where somebody did."""
        return self._record.unseen(real)

    def hindrances(self) -> Iterator[tuple[str, str]]:
        """Every directory that nobody looked into, and every file that could not be read: why."""
        return self._record.hindrances()

    def _missing(self, real: bytes, shown: str) -> AccessError:
        """What to say of a real path where nothing stands: who did not look does not say `absent`."""
        why = self._record.unseen(real)
        if why is not None:
            return AccessError(Obstacle.FAILED, shown, f"it was not looked at: {why}")
        return AccessError(Obstacle.ABSENT, shown)

    # -- resolving -------------------------------------------------------------------------

    def _enter(self, directory: bytes, shown: str) -> bytes:
        """The real path of a directory, links resolved."""
        real = self._real.get(directory)
        if real is not None:
            return real
        real = self._walked(directory, shown)
        if len(self._real) > _REMEMBERED:
            self._real = {b"": b""}
        self._real[directory] = real
        return real

    def _walked(self, directory: bytes, shown: str) -> bytes:
        pending = directory.split(b"/")
        pending.reverse()
        real, links = b"", 0
        while pending:
            name = pending.pop()
            if name in (b"", b"."):
                continue
            if name == b"..":
                real = real.rpartition(b"/")[0]
                continue
            child = real + b"/" + name
            row = self.row(child)
            if row is None:
                raise self._missing(child, shown)
            if stat.S_ISLNK(row.mode):
                links += 1
                if links > LINK_LIMIT:
                    raise AccessError(Obstacle.LOOP, shown)
                target = row.target or b""
                if target.startswith(b"/"):
                    real = b""
                pending.extend(reversed(target.split(b"/")))
            elif stat.S_ISDIR(row.mode):
                real = child
            else:
                raise AccessError(Obstacle.NOT_DIRECTORY, shown)
        return real

    def _place(self, path: str) -> bytes:
        """The real path of what a path names, the last part not followed."""
        try:
            raw = encoded(path)
        except FileNotFoundError:
            raise AccessError(Obstacle.ABSENT, path) from None
        directory, _, name = raw.rpartition(b"/")
        if name in (b"", b".", b".."):
            return self._enter(raw, path)
        return self._enter(directory, path) + b"/" + name

    def _followed(self, path: str) -> tuple[bytes, Recorded | None]:
        """The real path of what a path leads to, and what stands there."""
        place = self._place(path)
        for _ in range(LINK_LIMIT + 1):
            row = self.row(place)
            if row is None or not stat.S_ISLNK(row.mode):
                return place, row
            target = row.target or b""
            front = b"" if target.startswith(b"/") else place.rpartition(b"/")[0] + b"/"
            whole = front + target
            above, _, name = whole.rpartition(b"/")
            if name in (b"", b".", b".."):
                place = self._enter(whole, path)
            else:
                place = self._enter(above, path) + b"/" + name
        raise AccessError(Obstacle.LOOP, path)

    def real_path(self, path: str, follow: bool = True) -> str:
        """The path without links (but for the last part, unless `follow`); `/` for the root."""
        place = self._followed(path)[0] if follow else self._place(path)
        return decoded(place) or "/"

    # -- looking ---------------------------------------------------------------------------

    def observe(
        self,
        path: str,
        algorithm: str | None = None,
        limit: int = sys.maxsize,
        capabilities: bool = False,
        of_size: int | None = None,
    ) -> Observation:
        """What is recorded of a path; a link is not followed."""
        place = self._place(path)
        row = self.row(place)
        if row is None:
            raise self._missing(place, path)
        doubt = self._contents.doubt(row)
        if doubt is not None:
            raise AccessError(Obstacle.FAILED, path, doubt)
        form = stat.S_IFMT(row.mode)
        digest = carried = None
        if form == stat.S_IFREG:
            if capabilities:
                carried = capabilities_of(row.capabilities)
            if algorithm is not None and of_size in (None, row.size):
                if row.size > limit:
                    raise AccessError(Obstacle.TOO_LARGE, path, f"{row.size} bytes")
                digest = self._digest(row, algorithm, path, place)
        return observed(row, digest, carried)

    def portray(
        self, path: str, algorithms: Sequence[str] = (), limit: int = sys.maxsize
    ) -> Portrait:
        seen = [self.observe(path, one, limit) for one in algorithms] or [self.observe(path)]
        row = self.row(self._place(path))
        if row is None:
            raise AccessError(Obstacle.CHANGED, path)
        attributes = dict(row.attributes)
        if row.capabilities:
            attributes[ATTRIBUTE] = row.capabilities
        return Portrait(
            *row[:8], file_system=row.file_system, link_target=seen[0].link_target,
            attributes=attributes, digests=tuple(one.digest for one in seen if one.digest),
        )  # fmt: skip

    def _digest(self, row: Recorded, algorithm: str, path: str, real: bytes) -> str:
        known: bytes | None = getattr(row, algorithm, None) if algorithm in _KEPT else None
        if known is not None:
            return f"{algorithm}:{known.hex()}"
        if row.other is not None and row.other.partition(":")[0] == algorithm:
            return row.other
        hindered = self._record.unread(real)
        if hindered is not None:
            raise hindered
        digest = hashlib.new(algorithm, usedforsecurity=False)
        lent = self._contents.lend(row, path)
        try:
            for piece in _pieces(lent, 1 << 20):
                digest.update(piece)
        finally:
            lent.close()
        return f"{algorithm}:{digest.hexdigest()}"

    def holds(
        self, path: str, digest: str, limit: int, form: Form | None = None, powerless: bool = True
    ) -> int:
        """How many bytes a regular file with that digest has; -1 where anything is not just so."""
        try:
            place = self._place(path)
            row = self.row(place)
            if row is None or not stat.S_ISREG(row.mode) or row.size > limit:
                return -1
            if self._contents.doubt(row) is not None:
                return -1
            if form is not None:
                seen = (row.mode, row.uid, row.gid, row.size, row.modified // 10**9)
                if seen != form or (powerless and row.capabilities):
                    return -1
            algorithm = digest.partition(":")[0]
            return row.size if self._digest(row, algorithm, path, place) == digest else -1
        except (AccessError, ValueError):
            return -1

    # -- contents --------------------------------------------------------------------------

    def lend(self, path: str) -> Borrowed:
        """A regular file to be read in place, links followed; whoever borrows it closes it."""
        place, row = self._followed(path)
        if row is None:
            raise self._missing(place, path)
        if not stat.S_ISREG(row.mode):
            raise AccessError(Obstacle.NOT_REGULAR, path)
        return self._contents.lend(row, path)

    def read(self, path: str, limit: int = READ_LIMIT) -> bytes:
        """A whole regular file, links followed. Raises AccessError, TOO_LARGE above `limit`."""
        lent = self.lend(path)
        try:
            if lent.size > limit:
                raise AccessError(Obstacle.TOO_LARGE, path, f"{lent.size} bytes")
            return b"".join(_pieces(lent, 1 << 20))
        finally:
            lent.close()

    def read_or_none(self, path: str, limit: int = READ_LIMIT) -> bytes | None:
        """As `read`, but None where there is no such file."""
        try:
            return self.read(path, limit)
        except AccessError as error:
            if error.absent:
                return None
            raise

    def pieces(self, path: str, size: int = 1 << 20) -> Iterator[bytes]:
        """A regular file in pieces of at most `size` bytes, links followed. Raises AccessError."""
        lent = self.lend(path)
        try:
            yield from _pieces(lent, size)
        finally:
            lent.close()

    # -- listing ---------------------------------------------------------------------------

    def names(self, path: str) -> list[str]:
        """The names in a directory, sorted, links followed. Raises AccessError."""
        place, row = self._followed(path)
        if row is None:
            raise self._missing(place, path)
        if not stat.S_ISDIR(row.mode):
            raise AccessError(Obstacle.NOT_DIRECTORY, path)
        why = self._record.unlisted(place)
        if why is not None:
            raise AccessError(Obstacle.FAILED, path, f"it was not looked at: {why}")
        return sorted(map(decoded, self._record.names(place)))

    def exists(self, path: str) -> bool:
        """Whether anything is at the path, a dangling link included."""
        try:
            place = self._place(path)
            if self.row(place) is None:
                raise self._missing(place, path)
        except AccessError as error:
            return not error.absent
        return True

    def is_directory(self, path: str) -> bool:
        """Whether the path is a directory, links followed."""
        try:
            _, row = self._followed(path)
        except AccessError:
            return False
        return row is not None and stat.S_ISDIR(row.mode)

    def walk(self, top: str, others: bool = False, made_up: bool = False) -> Iterator[Entry | Gap]:
        """Everything below a directory, itself not told; other file systems as they were."""
        try:
            place, row = self._followed(top)
            if row is None:
                raise self._missing(place, top)
            if not stat.S_ISDIR(row.mode):
                raise AccessError(Obstacle.NOT_DIRECTORY, top)
        except AccessError as error:
            yield Gap(top, error.what)
            return
        yield from self._inside(place, top.rstrip("/"), 0, row.file_system, (others, made_up))

    def _inside(
        self, place: bytes, path: str, depth: int, file_system: int, further: tuple[bool, bool]
    ) -> Iterator[Entry | Gap]:
        others, made_up = further
        why = self._record.unlisted(place)
        if why is not None:
            yield Gap(path or "/", why)
        try:
            rows = self._record.below(place)
        except AccessError as error:
            yield Gap(path or "/", error.what)
            return
        for name, row in rows:
            whole = f"{path}/{decoded(name)}"
            if isinstance(row, AccessError):
                yield Gap(whole, row.what)
            elif not stat.S_ISDIR(row.mode):
                yield entry_of(whole, row)
            elif (
                row.file_system != file_system
                and (kind := self._record.kind_of_file_system(row.file_system) or UNKNOWN)
                in MADE_UP
            ):
                if made_up:
                    yield entry_of(whole, row)
                    yield Gap(whole, self._record.unlisted(place + b"/" + name) or kind)
            elif row.file_system != file_system and not others:
                yield Gap(whole, another_file_system(kind))
            elif depth >= _DEEPEST:
                yield Gap(whole, f"more than {_DEEPEST} directories deep")
            else:
                child = place + b"/" + name
                yield entry_of(whole, row)._replace(empty=self._is_empty(child))
                yield from self._inside(child, whole, depth + 1, row.file_system, further)

    def _is_empty(self, real: bytes) -> bool:
        try:
            return not self._record.names(real)
        except AccessError:
            return False  # whoever looks into it is told why

    def room(self, path: str) -> tuple[int, int, int]:
        """Raises AccessError: a record is on no file system of its own."""
        raise AccessError(Obstacle.FAILED, path, "what was recorded has no room of its own")


def _pieces(lent: Borrowed, size: int) -> Iterator[bytes]:
    place = 0
    while piece := lent.at(place, size):
        yield piece
        place += len(piece)
