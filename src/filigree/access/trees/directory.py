"""The tree of a directory: every read below it, and no way out of it.

`directories` sees to it that links resolve inside, and that a path that is swapped meanwhile leads
nowhere else. Where the platform allows it, access times are left alone.
"""

import errno
import hashlib
import os
import stat
import sys
from collections.abc import Iterator, Sequence
from functools import partial

from filigree.access.trees.attributes import attributes_at, capabilities_at
from filigree.access.trees.directories import (
    LINK_LIMIT,
    READ,
    READ_QUIETLY,
    Directories,
    decoded,
    encoded,
    open_seen,
    trouble,
)
from filigree.access.trees.lent_file import LentFile
from filigree.access.trees.protocol import READ_LIMIT, Entry, Form, Portrait, WithoutLayers
from filigree.access.trees.trial import Group, useful_workers
from filigree.access.trees.walking import DirectoryWalk, kinds_of_file_systems
from filigree.formats.file_capabilities import ATTRIBUTE
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, Obstacle
from filigree.model.files import KIND_OF_FORM, Observation

CHUNK = 1 << 17

_LISTED = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_stat, _open, _read, _close = os.stat, os.open, os.read, os.close
_attributes = os.listxattr
_FORM = 0o170000
_HASHED = ("md5", "sha1", "sha224", "sha256", "sha384", "sha512")
_HASHES = {name: getattr(hashlib, name) for name in _HASHED}


class DirectoryTree(WithoutLayers):
    """One root, read-only. Holds directories open while it lives, or until `close`."""

    def __init__(self, root: str) -> None:
        self.root = root
        self._directories = Directories(root)
        self._near = self._directories.near
        self._window = memoryview(bytearray(CHUNK))
        self._quiet_owner = os.geteuid()

    def close(self) -> None:
        """Let go of the directories. The jail cannot be used afterwards."""
        self._directories.close()

    # -- resolving -------------------------------------------------------------------------

    def real_path(self, path: str, follow: bool = True) -> str:
        """The path without links (but for the last part, unless `follow`); `/` for the root.

        Raises AccessError where a part is missing, unless it is the last one.
        """
        for _ in range(LINK_LIMIT):
            parent, name = self._split(path)
            if name == "":
                return parent or "/"
            here = f"{parent}/{name}"
            if not follow:
                return here
            try:
                target = self._read_link(parent, name)
            except AccessError as error:
                if error.absent:
                    return here
                raise
            if target is None:
                return here
            path = target if target.startswith("/") else f"{parent}/{target}"
        raise AccessError(Obstacle.LOOP, path)

    def _split(self, path: str) -> tuple[str, str]:
        """The real path of the directory that a path lies in (no end slash), and its last name."""
        directory, _, name = path.rpartition("/")
        if name in ("", ".", ".."):
            return self._directories.enter(path), ""
        return self._directories.enter(directory), name

    def _read_link(self, parent: str, name: str) -> str | None:
        """The target of a link, None where the path is no link."""
        try:
            return decoded(os.readlink(encoded(name), dir_fd=self._directories.handle(parent)))
        except OSError as error:
            if error.errno == errno.EINVAL:
                return None
            raise trouble(error, f"{parent}/{name}") from error

    # -- looking ---------------------------------------------------------------------------

    def observe(
        self,
        path: str,
        algorithm: str | None = None,
        limit: int = sys.maxsize,
        capabilities: bool = False,
        of_size: int | None = None,
    ) -> Observation:
        """What is at a path; a link is not followed. With `algorithm`, a file's digest as well.

        With `of_size` only if it has that size: another size tells by itself that it is another file.

        Raises AccessError; CHANGED where the file was not the same before and after reading, also
        at a second look; TOO_LARGE where a digest is asked of a file of more than `limit` bytes.
        """
        try:
            return self._observe(path, algorithm, limit, capabilities, of_size)
        except AccessError as error:
            if error.obstacle is not Obstacle.CHANGED:
                raise
        return self._observe(path, algorithm, limit, capabilities, of_size)

    def _observe(
        self,
        path: str,
        algorithm: str | None,
        limit: int,
        capabilities: bool,
        of_size: int | None,
    ) -> Observation:
        directory, _, name = path.rpartition("/")
        if name in ("", ".", ".."):
            directory, name = path, "."
        above = self._directories.at(directory)
        try:
            raw = encoded(name)
            before = os.stat(raw, dir_fd=above, follow_symlinks=False)
            mode = before.st_mode
            form = stat.S_IFMT(mode)
            digest = target = carried = None
            if form == stat.S_IFREG:
                if capabilities:
                    carried = capabilities_at(above, raw, partial(open_seen, raw, above, before))
                if algorithm is not None and of_size in (None, before.st_size):
                    if before.st_size > limit:
                        raise AccessError(Obstacle.TOO_LARGE, path, f"{before.st_size} bytes")
                    (digest,) = self._digests(raw, above, before, (algorithm,), path)
            elif form == stat.S_IFLNK:
                target = decoded(os.readlink(raw, dir_fd=above))
        except OSError as error:
            raise trouble(error, path) from error
        return Observation(
            kind=KIND_OF_FORM[form], size=before.st_size, mode=mode & 0o7777, uid=before.st_uid,
            gid=before.st_gid,
            modified=before.st_mtime_ns, link_target=target, digest=digest, device=before.st_rdev,
            capabilities=carried, inode=before.st_ino,
            changed=before.st_ctime_ns,
        )  # fmt: skip

    def portray(
        self, path: str, algorithms: Sequence[str] = (), limit: int = sys.maxsize
    ) -> Portrait:
        try:
            return self._portray(path, algorithms, limit)
        except AccessError as error:
            if error.obstacle is not Obstacle.CHANGED:
                raise
        return self._portray(path, algorithms, limit)

    def _portray(self, path: str, algorithms: Sequence[str], limit: int) -> Portrait:
        directory, _, name = path.rpartition("/")
        if name in ("", ".", ".."):
            directory, name = path, "."
        above = self._directories.at(directory)
        digests: tuple[str, ...] = ()
        try:
            raw = encoded(name)
            seen = os.stat(raw, dir_fd=above, follow_symlinks=False)
            form = stat.S_IFMT(seen.st_mode)
            target = decoded(os.readlink(raw, dir_fd=above)) if form == stat.S_IFLNK else None
            attributes = attributes_at(above, raw)
            if form == stat.S_IFREG and algorithms:
                if seen.st_size > limit:
                    raise AccessError(Obstacle.TOO_LARGE, path, f"{seen.st_size} bytes")
                digests = self._digests(raw, above, seen, algorithms, path)
        except OSError as error:
            raise trouble(error, path) from error
        return Portrait(
            mode=seen.st_mode, uid=seen.st_uid, gid=seen.st_gid, size=seen.st_size,
            modified=seen.st_mtime_ns, changed=seen.st_ctime_ns, inode=seen.st_ino,
            device=seen.st_rdev, file_system=seen.st_dev, link_target=target, attributes=attributes,
            digests=digests,
        )  # fmt: skip

    def _digests(
        self, raw: bytes, above: int, before: os.stat_result, algorithms: Sequence[str], path: str
    ) -> tuple[str, ...]:
        """The digests of a file by several algorithms, of one reading."""
        kinds = [_HASHES.get(one) or partial(hashlib.new, one) for one in algorithms]
        size = before.st_size
        handle = open_seen(raw, above, before)
        try:
            # One byte more than the size tells at once whether the file has grown.
            if size < CHUNK:
                data = os.read(handle, size + 1)
                digests = [new(data, usedforsecurity=False) for new in kinds]
                total = len(data)
            else:
                digests = [new(usedforsecurity=False) for new in kinds]
                total = 0
                buffer = self._window
                # A file that somebody goes on writing to must come to an end all the same.
                while total <= size and (count := os.readv(handle, (buffer,))):
                    for digest in digests:
                        digest.update(buffer[:count])
                    total += count
            after = os.fstat(handle)
        finally:
            os.close(handle)
        if (
            before.st_ino != after.st_ino
            or before.st_mtime_ns != after.st_mtime_ns
            or before.st_dev != after.st_dev
            or after.st_size != total
        ):
            raise AccessError(Obstacle.CHANGED, path)
        return tuple(
            f"{name}:{one.hexdigest()}" for name, one in zip(algorithms, digests, strict=True)
        )

    def holds(
        self, path: str, digest: str, limit: int, form: Form | None = None, powerless: bool = True
    ) -> int:
        """How many bytes a regular file with that digest has; -1 where anything is not just so.

        No second look at the file is needed here, for bytes that changed while they were read do not
        have the digest.
        """
        directory, _, name = path.rpartition("/")
        handle = -1
        try:
            above = self._near.get(directory)
            if above is None:
                above = self._directories.at(directory)
            raw = name.encode("utf-8", "surrogateescape")
            seen = _stat(raw, dir_fd=above, follow_symlinks=False)
            if seen.st_mode & _FORM != stat.S_IFREG:
                return -1
            algorithm, _, expected = digest.partition(":")
            size = seen.st_size
            if size > limit:
                return -1
            if form is not None and form != (
                seen.st_mode, seen.st_uid, seen.st_gid, size, seen.st_mtime_ns // 1_000_000_000
            ):  # fmt: skip
                return -1
            quiet = self._quiet_owner
            flags = READ_QUIETLY if quiet in (0, seen.st_uid) else READ
            handle = _open(raw, flags, dir_fd=above)
            if form is not None and powerless and ATTRIBUTE in _attributes(handle):
                return -1
            if size < CHUNK:
                data = _read(handle, size + 1)
                found = _HASHES[algorithm](data, usedforsecurity=False)
            else:
                found = _HASHES[algorithm](usedforsecurity=False)
                window = self._window
                left = size
                while left >= 0 and (count := os.readv(handle, (window,))):
                    found.update(window[:count])
                    left -= count
        except (OSError, ValueError, KeyError, AccessError):
            return -1
        finally:
            if handle >= 0:
                _close(handle)
        return size if found.hexdigest() == expected else -1

    # -- reading ---------------------------------------------------------------------------

    def read(self, path: str, limit: int = READ_LIMIT) -> bytes:
        """A whole regular file, links followed. Raises AccessError, TOO_LARGE above `limit`."""
        pieces = []
        total = 0
        for piece in self.pieces(path):
            total += len(piece)
            if total > limit:
                raise AccessError(Obstacle.TOO_LARGE, path, f"more than {limit} bytes")
            pieces.append(piece)
        return pieces[0] if len(pieces) == 1 else b"".join(pieces)

    def read_or_none(self, path: str, limit: int = READ_LIMIT) -> bytes | None:
        """As `read`, but None where there is no such file."""
        try:
            return self.read(path, limit)
        except AccessError as error:
            if error.absent:
                return None
            raise

    def pieces(self, path: str, size: int = 1 << 20) -> Iterator[bytes]:
        """A regular file in pieces, links followed."""
        handle = self._regular(path)
        try:
            now = os.fstat(handle)
            if not stat.S_ISREG(now.st_mode):
                raise AccessError(Obstacle.CHANGED, path)
            # One more byte than the size: a file that has not grown is read in one call.
            first = os.read(handle, min(now.st_size + 1, size))
            yield first
            if len(first) == now.st_size:
                return
            while piece := os.read(handle, size):
                yield piece
        except OSError as error:
            raise trouble(error, path) from error
        finally:
            os.close(handle)

    def lend(self, path: str) -> LentFile:
        """A regular file to be read in place, links followed; whoever borrows it closes it."""
        return LentFile(self._regular(path), path)

    def _regular(self, path: str) -> int:
        """A regular file, opened, links followed."""
        parent, name = self._split(self.real_path(path))
        above = self._directories.handle(parent)
        try:
            raw = encoded(name or ".")
            seen = os.stat(raw, dir_fd=above, follow_symlinks=False)
            if not stat.S_ISREG(seen.st_mode):
                raise AccessError(
                    Obstacle.NOT_REGULAR, path, KIND_OF_FORM[stat.S_IFMT(seen.st_mode)]
                )
            return open_seen(raw, above, seen)
        except OSError as error:
            raise trouble(error, path) from error

    def room(self, path: str) -> tuple[int, int, int]:
        """The file system that a directory is on, links followed: its number, bytes free and in all."""
        return self._directories.room(path)

    def useful_workers(self, groups: Sequence[Group], processors: int) -> int:
        """By a quick trial: more than there are processors where a disk is faster that way."""
        return useful_workers(self.root, groups, processors)

    def walk(self, top: str, others: bool = False, made_up: bool = False) -> Iterator[Entry | Gap]:
        """Everything below a directory, a directory before its contents; a Gap where it cannot be
        entered.
        """
        kinds = kinds_of_file_systems()
        return iter(DirectoryWalk(self._listable, top, others, kinds, made_up))

    def _listable(self, path: str) -> int:
        """A directory, links followed, opened for whoever lists it, and closes it."""
        try:
            return os.open(".", _LISTED, dir_fd=self._directories.at(path))
        except OSError as error:
            raise trouble(error, path) from error

    def names(self, path: str) -> list[str]:
        """The names in a directory, sorted, links followed."""
        try:
            handle = self._listable(path)
            try:
                found = os.listdir(handle)
                for place, name in enumerate(found):  # in place: there may be millions
                    found[place] = decoded(os.fsencode(name))
                found.sort()
                return found
            finally:
                os.close(handle)
        except OSError as error:
            raise trouble(error, path) from error

    def exists(self, path: str) -> bool:
        """Whether anything is at the path, a dangling link included. Unreadable counts as yes."""
        try:
            self.observe(path)
        except AccessError as error:
            return not error.absent
        return True

    def is_directory(self, path: str) -> bool:
        """Whether the path is a directory, links followed."""
        try:
            self._directories.enter(path)
        except AccessError:
            return False
        return True
