"""Where what layers told is kept: believed only where nobody else could have written it."""

import contextlib
import json
import os
import sqlite3
import tempfile
import time

from filigree.access.images.layers import LayerRead
from filigree.access.private_folder import is_private, make_private, open_private, why_not_private
from filigree.access.trees.recorded_form import VERSION, open_form

_DAY = 86400
_UNUSED = 90 * _DAY


class LayerShelf:
    """Where what layers told is kept: a private folder, or one of this process alone."""

    def __init__(self, folder: str | None) -> None:
        self._own: tempfile.TemporaryDirectory[str] | None = None
        if folder is not None and why_not_private(folder) is None:
            with contextlib.suppress(OSError):
                make_private(folder)
                _sweep(folder)
                self.folder: str | None = folder
                return
        self.folder = None
        self._own = tempfile.TemporaryDirectory(prefix="filigree-")

    def close(self) -> None:
        """Take away what was kept for this once."""
        if self._own is not None:
            self._own.cleanup()

    def kept(self, kind: str, key: str) -> str | None:
        """The file of what is kept under a key, where it is whole and one's own."""
        if self.folder is None:
            return None
        path = os.path.join(self.folder, f"{kind}-{VERSION}-{key}.sqlite")
        if not is_private(path):
            return None
        try:
            open_form(path).close()
            os.utime(path)
        except (sqlite3.Error, TypeError, OSError):
            return None
        return path

    def new(self) -> str:
        """A file to be made."""
        folder = self.folder or (self._own.name if self._own else None)
        handle, path = tempfile.mkstemp(prefix="new-", suffix=".sqlite", dir=folder)
        os.close(handle)
        return path

    def keep(self, new: str, kind: str, key: str) -> str:
        """Put a file in its place; where it stands then."""
        if self.folder is None:
            return new
        path = os.path.join(self.folder, f"{kind}-{VERSION}-{key}.sqlite")
        os.replace(new, path)
        return path

    def recall(self, blob: str) -> LayerRead | None:
        """What a blob was found to be before, where it is the same file still."""
        if self.folder is None:
            return None
        path = os.path.join(self.folder, f"blob-{VERSION}-{blob}.json")
        if not is_private(path):
            return None
        try:
            with open(path, encoding="utf-8") as file:
                digest, size, diff_id, unpacked = json.load(file)
            return LayerRead(digest, size, diff_id, unpacked, ())
        except (OSError, ValueError, TypeError):
            return None

    def remember(self, blob: str, facts: LayerRead) -> None:
        """Note what a blob was found to be."""
        if self.folder is None:
            return
        path = os.path.join(self.folder, f"blob-{VERSION}-{blob}.json")
        with contextlib.suppress(OSError), open_private(path, "w") as file:
            json.dump(facts[:4], file)


def _sweep(folder: str) -> None:
    """Take away what nobody asked for in a long time, and what a run left that was stopped."""
    now = time.time()
    with contextlib.suppress(OSError), os.scandir(folder) as entries:
        for entry in entries:
            age = now - entry.stat(follow_symlinks=False).st_mtime
            if age > (_DAY if entry.name.startswith("new-") else _UNUSED):
                os.unlink(entry.path)
