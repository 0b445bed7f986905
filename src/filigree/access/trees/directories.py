"""The directories of one root: entered a component at a time, and held open.

A link is read and resolved here, inside the root; `..` stops at the root. What is held cannot be
swapped for something else, so no later look can be led outside.
"""

import errno
import os
import weakref

from filigree.model.errors import AccessError, NoSystem, Obstacle
from filigree.model.hints import Hint

LINK_LIMIT = 40
"""Links on one path, as the kernel counts; more are a circle."""
HELD = 256
"""Directories held open at once."""
REMEMBERED = 1 << 16
"""Paths of directories whose real path is remembered."""

_DIRECTORY = os.O_PATH | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
READ = os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_NOCTTY | os.O_CLOEXEC
READ_QUIETLY = READ | os.O_NOATIME
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


def open_seen(raw: bytes, above: int, seen: os.stat_result) -> int:
    """Open a file that was just seen to be regular. Access times are left alone if possible."""
    if os.geteuid() in (0, seen.st_uid):
        try:
            return os.open(raw, READ_QUIETLY, dir_fd=above)
        except PermissionError:
            pass
    return os.open(raw, READ, dir_fd=above)


def trouble(error: OSError, path: str) -> AccessError:
    """What the kernel said of a path, in the product's own terms."""
    obstacle = _OBSTACLES.get(error.errno or 0, Obstacle.FAILED)
    detail = error.strerror if obstacle is Obstacle.FAILED else None
    return AccessError(obstacle, path or "/", detail)


def _let_go(held: dict[str, int]) -> None:
    for handle in held.values():
        os.close(handle)
    held.clear()


class Directories:
    """The directories below one root. Real paths have no end slash: the root's is empty."""

    def __init__(self, root: str) -> None:
        flags = os.O_PATH | os.O_DIRECTORY | os.O_CLOEXEC
        try:
            top = os.open(encoded(root), flags)
        except OSError as error:
            raise NoSystem(
                f"the root cannot be opened: {error.strerror}", root, Hint.NAME_A_ROOT
            ) from error
        self._held: dict[str, int] = {"": top}
        self._real: dict[str, str] = {"": ""}
        self.near: dict[str, int] = {}
        self.close = weakref.finalize(self, _let_go, self._held)

    def at(self, directory: str) -> int:
        """The handle of a directory, links resolved. `near` answers the same for what is in it."""
        handle = self.near.get(directory)
        if handle is None:
            handle = self.near[directory] = self.handle(self.enter(directory))
        return handle

    def enter(self, directory: str) -> str:
        """The real path of a directory, links resolved; afterwards its handle is held."""
        real = self._real.get(directory)
        if real is not None and real in self._held:
            return real
        try:
            real = self._walk(directory)
        except OSError as error:
            raise trouble(error, directory) from error
        if len(self._real) > REMEMBERED:
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
        self.handle(real)
        return real

    def _hold(self, parent: str, name: str, child: str) -> str | None:
        """Open one directory and hold it; where it is a link, its target instead."""
        above = self.handle(parent)
        try:
            handle = os.open(encoded(name), _DIRECTORY, dir_fd=above)
        except OSError as error:
            if error.errno not in (errno.ENOTDIR, errno.ELOOP):
                raise
            try:
                return decoded(os.readlink(encoded(name), dir_fd=above))
            except OSError:
                raise error from None
        while len(self._held) >= HELD:
            oldest = next(key for key in self._held if key)
            os.close(self._held.pop(oldest))
            self.near.clear()
        self._held[child] = handle
        return None

    def handle(self, real: str) -> int:
        """The handle of a directory whose real path is known."""
        handle = self._held.get(real)
        if handle is None:
            parent, _, name = real.rpartition("/")
            if self._hold(parent, name, real) is not None:
                raise AccessError(Obstacle.CHANGED, real)
            handle = self._held[real]
        return handle

    def room(self, path: str) -> tuple[int, int, int]:
        """The file system of a directory: its number, bytes free and in all. Raises AccessError."""
        try:
            handle = self.at(path)
            found = os.statvfs(handle)
            device = os.stat(handle).st_dev
        except OSError as error:
            raise trouble(error, path) from error
        return device, found.f_bavail * found.f_frsize, found.f_blocks * found.f_frsize
