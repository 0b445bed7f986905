"""A regular file of a directory's tree, lent to be read at any place."""

import os
import stat
import weakref

from filigree.access.trees.directories import trouble
from filigree.model.errors import AccessError, Obstacle


class LentFile:
    """A regular file, held open, read at any place. It cannot be swapped while it is held."""

    def __init__(self, handle: int, path: str) -> None:
        self.handle = handle
        self.path = path
        self._let_go = weakref.finalize(self, os.close, handle)
        seen = os.fstat(handle)
        if not stat.S_ISREG(seen.st_mode):
            self.close()
            raise AccessError(Obstacle.CHANGED, path)
        self.size = seen.st_size

    def close(self) -> None:
        """Let go of it."""
        self._let_go()

    def at(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset`; fewer at the end. Raises AccessError."""
        try:
            return os.pread(self.handle, min(count, max(0, self.size - offset)), offset)
        except OSError as error:
            raise trouble(error, self.path) from error
