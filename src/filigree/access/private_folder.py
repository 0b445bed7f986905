"""The auditor's own folder for what is kept: believed only where nobody else could have written it.

Rules, before the code that keeps them:

- The folder, every folder below it and every file in it belong to the caller, and nobody else may write
  there; no link stands for any of them.
- Whoever may write to a folder above it could put another in its place: those belong to the caller or the
  superuser, and what others may write to has the sticky bit. Links are allowed there.
- What is made is made for the caller alone: folders 0700, files 0600, whatever the mask.
"""

import contextlib
import os
import shutil
import stat
from typing import IO, Any

_OTHERS = stat.S_IWGRP | stat.S_IWOTH
_PRIVATE_FILE = 0o600
_MOST = 1_000_000


def why_not_private(folder: str, below: str = "") -> str | None:
    """Why what is kept in a folder, or in one `below` it, is not to be believed; None where it is, and
    where there is no folder yet.

    Files are judged one by one, by `is_private`.
    """
    here = os.path.abspath(folder)
    why = _why_not_above(os.path.dirname(here))
    parts = [part for part in below.split("/") if part]
    while why is None and os.path.lexists(here):
        why = _why_not(here)
        if not parts:
            break
        here = os.path.join(here, parts.pop(0))
    return why


def why_not_all_private(folder: str, below: str) -> str | None:
    """As `why_not_private`, and of everything that lies in the folder below."""
    why = why_not_private(folder, below)
    if why is not None:
        return why
    count = 0
    for above, folders, files in os.walk(os.path.join(folder, below)):
        for name in (*folders, *files):
            count += 1
            why = _why_not(os.path.join(above, name))
            if why is not None or count > _MOST:
                return why or f"{above} holds more than is reasonable"
    return None


def is_private(path: str) -> bool:
    """Whether a regular file is the caller's own, and nobody else may write to it."""
    try:
        return stat.S_ISREG(os.lstat(path).st_mode) and _why_not(path) is None
    except OSError:
        return False


def make_private(folder: str) -> None:
    """Make a folder, and those above it that are missing, for the caller alone. Raises OSError."""
    missing = []
    here = os.path.abspath(folder)
    while not os.path.isdir(here):
        missing.append(here)
        here = os.path.dirname(here)
    for one in reversed(missing):
        with contextlib.suppress(FileExistsError):  # another run may make it at the same time
            os.mkdir(one, 0o700)
            os.chmod(one, 0o700)


def open_private(path: str, mode: str) -> IO[Any]:
    """Open a file of one's own to write to it, made for the caller alone; no link is followed.

    Raises OSError.
    """
    text = None if "b" in mode else "utf-8"
    return open(path, mode, encoding=text, opener=_opener)


def copy_private(source: str, path: str) -> None:
    """Copy a file to a place of one's own. Raises OSError."""
    with open(source, "rb") as file, open_private(path, "wb") as out:
        shutil.copyfileobj(file, out, 1 << 20)


def _opener(path: str, flags: int) -> int:
    handle = os.open(path, flags | os.O_NOFOLLOW | os.O_CLOEXEC, _PRIVATE_FILE)
    os.fchmod(handle, _PRIVATE_FILE)
    return handle


def _why_not(path: str) -> str | None:
    """Why one folder or file is not the caller's alone."""
    try:
        seen = os.lstat(path)
    except OSError as error:
        return f"{path} cannot be looked at: {error.strerror}"
    if stat.S_ISLNK(seen.st_mode):
        return f"{path} is a link"
    if seen.st_uid != os.geteuid():
        return f"{path} belongs to somebody else"
    if seen.st_mode & _OTHERS:
        return f"{path} can be written to by others"
    return None


def _why_not_above(folder: str) -> str | None:
    """Why somebody else could put another folder in the place of one that lies here."""
    trusted = (0, os.geteuid())
    here = os.path.realpath(folder)
    while True:
        with contextlib.suppress(FileNotFoundError):
            try:
                seen = os.stat(here)
            except PermissionError:
                return f"{here} cannot be looked at"
            if seen.st_uid not in trusted:
                return f"{here} belongs to somebody else"
            if seen.st_mode & _OTHERS and not seen.st_mode & stat.S_ISVTX:
                return f"{here} can be written to by others"
        above = os.path.dirname(here)
        if above == here:
            return None
        here = above
