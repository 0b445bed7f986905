"""The jail: every read below a root, and no way out of it.

Rules, before the code that keeps them:

- Symbolic links resolve inside the root, absolute ones from the root, as the system itself would.
- `..` stops at the root. More than 40 links on one path are a circle (as the kernel counts).
- Directories are entered one component at a time, never through a link that was not resolved
  here, and held open: a path that is swapped meanwhile cannot lead outside.
- Only regular files are opened, after a look at what they are; pipes and devices never.
- Nothing is written; where the platform allows it, not even access times change.

Paths are text; bytes that are not UTF-8 are lone surrogates in it, whatever the locale says.
"""

import errno
import hashlib
import os
import stat
import sys
import weakref
from collections.abc import Iterator
from functools import partial

from filigree.model.errors import AccessError, NoSystem, Obstacle
from filigree.model.files import Kind, Observation

LINK_LIMIT = 40
HELD_DIRECTORIES = 256
CHUNK = 1 << 17
READ_LIMIT = 1 << 27

_DIRECTORY = os.O_PATH | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_LISTED = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_stat, _open, _read, _close = os.stat, os.open, os.read, os.close
_READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC
_READ_QUIETLY = _READ | os.O_NOATIME
_FORM = 0o170000
_KINDS = {
    stat.S_IFREG: Kind.FILE,
    stat.S_IFDIR: Kind.DIRECTORY,
    stat.S_IFLNK: Kind.LINK,
    stat.S_IFIFO: Kind.PIPE,
    stat.S_IFSOCK: Kind.SOCKET,
    stat.S_IFBLK: Kind.BLOCK_DEVICE,
    stat.S_IFCHR: Kind.CHARACTER_DEVICE,
}
_HASHES = {
    "md5": hashlib.md5,
    "sha1": hashlib.sha1,
    "sha224": hashlib.sha224,
    "sha256": hashlib.sha256,
    "sha384": hashlib.sha384,
    "sha512": hashlib.sha512,
}
_OBSTACLES = {
    errno.ENOENT: Obstacle.ABSENT,
    errno.ENOTDIR: Obstacle.NOT_DIRECTORY,
    errno.ELOOP: Obstacle.CHANGED,
    errno.EACCES: Obstacle.DENIED,
    errno.EPERM: Obstacle.DENIED,
    errno.ENAMETOOLONG: Obstacle.ABSENT,
    errno.ENXIO: Obstacle.NOT_REGULAR,
}


def encoded(path: str) -> bytes:
    """A path as the kernel wants it. Raises FileNotFoundError where no file can be called so."""
    try:
        data = path.encode("utf-8", "surrogateescape")
    except UnicodeEncodeError as error:
        raise FileNotFoundError(errno.ENOENT, "no file is called so") from error
    if b"\0" in data:
        raise FileNotFoundError(errno.ENOENT, "no file is called so")
    return data


def decoded(path: bytes) -> str:
    """A path from the kernel as text."""
    return path.decode("utf-8", "surrogateescape")


def _let_go(held: dict[str, int]) -> None:
    for handle in held.values():
        os.close(handle)
    held.clear()


class Jail:
    """One root, read-only. Holds directories open while it lives, or until `close`."""

    def __init__(self, root: str) -> None:
        self.root = root
        flags = os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC
        try:
            self._top = os.open(encoded(root), flags)
        except OSError as error:
            raise NoSystem(
                f"the root cannot be opened: {error.strerror}", root, "name a directory with --root"
            ) from error
        self._held: dict[str, int] = {"": self._top}
        self._close = weakref.finalize(self, _let_go, self._held)
        self._real: dict[str, str] = {"": ""}
        self._near: dict[str, int] = {}
        self._window = memoryview(bytearray(CHUNK))
        self._quiet_owner = os.geteuid()

    def close(self) -> None:
        """Let go of the directories. The jail cannot be used afterwards."""
        self._close()

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
            return self._enter(path), ""
        return self._enter(directory), name

    def _enter(self, directory: str) -> str:
        """The real path of a directory, links resolved; afterwards its handle is held."""
        real = self._real.get(directory)
        if real is not None and real in self._held:
            return real
        try:
            real = self._walk(directory)
        except OSError as error:
            raise self._trouble(error, directory) from error
        if len(self._real) > 1 << 16:
            self._real = {"": ""}
        self._real[directory] = real
        return real

    def _walk(self, directory: str) -> str:
        pending = directory.split("/")
        pending.reverse()
        real = ""
        links = 0
        while pending:
            name = pending.pop()
            if name in ("", "."):
                continue
            if name == "..":
                real = real.rpartition("/")[0]
                continue
            child = f"{real}/{name}"
            if child not in self._held:
                target = self._hold(real, name, child)
                if target is not None:
                    links += 1
                    if links > LINK_LIMIT:
                        raise AccessError(Obstacle.LOOP, directory)
                    if target.startswith("/"):
                        real = ""
                    pending.extend(reversed(target.split("/")))
                    continue
            real = child
        self._handle(real)
        return real

    def _hold(self, parent: str, name: str, child: str) -> str | None:
        """Open one directory and hold it; where it is a link, its target instead."""
        above = self._handle(parent)
        try:
            handle = os.open(encoded(name), _DIRECTORY, dir_fd=above)
        except OSError as error:
            if error.errno not in (errno.ENOTDIR, errno.ELOOP):
                raise
            try:
                return decoded(os.readlink(encoded(name), dir_fd=above))
            except OSError:
                raise error from None
        while len(self._held) >= HELD_DIRECTORIES:
            oldest = next(key for key in self._held if key)
            os.close(self._held.pop(oldest))
            self._near.clear()
        self._held[child] = handle
        return None

    def _handle(self, real: str) -> int:
        """The handle of a directory whose real path is known."""
        handle = self._held.get(real)
        if handle is None:
            parent, _, name = real.rpartition("/")
            if self._hold(parent, name, real) is not None:
                raise AccessError(Obstacle.CHANGED, real)
            handle = self._held[real]
        return handle

    def _read_link(self, parent: str, name: str) -> str | None:
        """The target of a link, None where the path is no link."""
        try:
            return decoded(os.readlink(encoded(name), dir_fd=self._handle(parent)))
        except OSError as error:
            if error.errno == errno.EINVAL:
                return None
            raise self._trouble(error, f"{parent}/{name}") from error

    @staticmethod
    def _trouble(error: OSError, path: str) -> AccessError:
        obstacle = _OBSTACLES.get(error.errno or 0, Obstacle.FAILED)
        detail = error.strerror if obstacle is Obstacle.FAILED else None
        return AccessError(obstacle, path or "/", detail)

    # -- looking ---------------------------------------------------------------------------

    def observe(
        self, path: str, algorithm: str | None = None, limit: int = sys.maxsize
    ) -> Observation:
        """What is at a path; a link is not followed. With `algorithm`, a file's digest as well.

        Raises AccessError; CHANGED where the file was not the same before and after reading, also
        at a second look; TOO_LARGE where a digest is asked of a file of more than `limit` bytes.
        """
        try:
            return self._observe(path, algorithm, limit)
        except AccessError as error:
            if error.obstacle is not Obstacle.CHANGED:
                raise
        return self._observe(path, algorithm, limit)

    def _observe(self, path: str, algorithm: str | None, limit: int) -> Observation:
        directory, _, name = path.rpartition("/")
        if name in ("", ".", ".."):
            directory, name = path, "."
        real = self._real.get(directory)
        above = self._held.get(real) if real is not None else None
        if above is None:
            above = self._handle(self._enter(directory))
        try:
            raw = encoded(name)
            before = os.stat(raw, dir_fd=above, follow_symlinks=False)
            mode = before.st_mode
            form = stat.S_IFMT(mode)
            digest = target = None
            if form == stat.S_IFREG:
                if algorithm is not None:
                    if before.st_size > limit:
                        raise AccessError(Obstacle.TOO_LARGE, path, f"{before.st_size} bytes")
                    digest = self._digest(raw, above, before, algorithm, path)
            elif form == stat.S_IFLNK:
                target = decoded(os.readlink(raw, dir_fd=above))
        except OSError as error:
            raise self._trouble(error, path) from error
        return Observation(
            _KINDS[form], before.st_size, mode & 0o7777, before.st_uid, before.st_gid,
            before.st_mtime_ns, target, digest,
        )  # fmt: skip

    def _digest(
        self, raw: bytes, above: int, before: os.stat_result, algorithm: str, path: str
    ) -> str:
        new = _HASHES.get(algorithm) or partial(hashlib.new, algorithm)
        size = before.st_size
        handle = self._open(raw, above, before)
        try:
            # One byte more than the size tells at once whether the file has grown.
            if size < CHUNK:
                data = os.read(handle, size + 1)
                digest = new(data, usedforsecurity=False)
                total = len(data)
            else:
                digest = new(usedforsecurity=False)
                total = 0
                buffer = self._window
                # A file that somebody goes on writing to must come to an end all the same.
                while total <= size and (count := os.readv(handle, (buffer,))):
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
        return f"{algorithm}:{digest.hexdigest()}"

    def holds(self, path: str, digest: str, limit: int) -> int:
        """How many bytes a regular file with that digest has; -1 where anything is not just so.

        So it is where the file has more than `limit` bytes: it is not read then.

        Made to be asked of every file of a system: what it does not confirm, for whatever reason,
        is to be looked at again with `observe`. No second look at the file is needed here, for
        bytes that changed while they were read do not have the digest.
        """
        directory, _, name = path.rpartition("/")
        handle = -1
        try:
            above = self._near.get(directory)
            if above is None:
                above = self._near[directory] = self._handle(self._enter(directory))
            raw = name.encode("utf-8", "surrogateescape")
            seen = _stat(raw, dir_fd=above, follow_symlinks=False)
            if seen.st_mode & _FORM != stat.S_IFREG:
                return -1
            algorithm, _, expected = digest.partition(":")
            size = seen.st_size
            if size > limit:
                return -1
            quiet = self._quiet_owner
            flags = _READ_QUIETLY if quiet in (0, seen.st_uid) else _READ
            handle = _open(raw, flags, dir_fd=above)
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

    def _open(self, raw: bytes, above: int, seen: os.stat_result) -> int:
        """Open a file that was just seen to be regular. Access times are left alone if possible."""
        if self._quiet_owner in (0, seen.st_uid):
            try:
                return os.open(raw, _READ_QUIETLY, dir_fd=above)
            except PermissionError:
                pass
        return os.open(raw, _READ, dir_fd=above)

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
        parent, name = self._split(self.real_path(path))
        above = self._handle(parent)
        try:
            raw = encoded(name or ".")
            seen = os.stat(raw, dir_fd=above, follow_symlinks=False)
            if not stat.S_ISREG(seen.st_mode):
                raise AccessError(Obstacle.NOT_REGULAR, path, _KINDS[stat.S_IFMT(seen.st_mode)])
            handle = self._open(raw, above, seen)
        except OSError as error:
            raise self._trouble(error, path) from error
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
            raise self._trouble(error, path) from error
        finally:
            os.close(handle)

    def names(self, path: str) -> list[str]:
        """The names in a directory, sorted, links followed."""
        try:
            real = self._enter(path)
            above = self._handle(real)
            handle = os.open(".", _LISTED, dir_fd=above)
            try:
                return sorted(os.fsencode(name).decode("utf-8", "surrogateescape")
                              for name in os.listdir(handle))  # fmt: skip
            finally:
                os.close(handle)
        except OSError as error:
            raise self._trouble(error, path) from error

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
            self._enter(path)
        except AccessError:
            return False
        return True
