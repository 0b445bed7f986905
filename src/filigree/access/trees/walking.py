"""Walks a directory below a root, without following a link, and without leaving its file system."""

import errno
import os
import stat
from collections.abc import Callable, Iterator
from functools import lru_cache
from typing import Any

from filigree.access.trees.directories import decoded, trouble
from filigree.access.trees.protocol import Entry
from filigree.model.answer import Gap
from filigree.model.errors import AccessError
from filigree.model.files import KIND_OF_FORM

MADE_UP = frozenset({
    "autofs", "binfmt_misc", "bpf", "cgroup", "cgroup2", "configfs", "debugfs", "devpts", "devtmpfs",
    "efivarfs", "fusectl", "hugetlbfs", "mqueue", "nsfs", "proc", "pstore", "rpc_pipefs", "securityfs",
    "selinuxfs", "sysfs", "tracefs",
})  # fmt: skip
"""File systems that the kernel makes up: what is in them is in no package and on no disk."""
BY_KERNEL = "the kernel makes it up"
"""How a walk begins to say that it passed over what the kernel makes up."""
UNKNOWN = "of an unknown kind"
_LISTED = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_DEEPEST = 256


def another_file_system(kind: str) -> str:
    """Why a walk did not go on into another file system, for people."""
    return f"it is another file system ({kind}), and those were not asked for"


@lru_cache(maxsize=1)
def kinds_of_file_systems() -> dict[int, str]:
    """The kind of each mounted file system, by its number; none where the kernel does not tell.

    Follows proc(5), on `mountinfo`: the third field is the number, the one after the hyphen the kind.
    """
    found: dict[int, str] = {}
    try:
        with open("/proc/self/mountinfo", encoding="utf-8", errors="surrogateescape") as file:
            for line in file:
                fields = line.split()
                major, _, minor = fields[2].partition(":")
                found[os.makedev(int(major), int(minor))] = fields[fields.index("-") + 1]
    except (OSError, ValueError, IndexError):
        return found
    return found


class DirectoryWalk:
    """Everything below a directory, a directory before its contents; a Gap where it cannot be entered."""

    def __init__(
        self, listable: Callable[[str], int], top: str, others: bool, kinds: dict[int, str],
        made_up: bool = False,
    ) -> None:  # fmt: skip
        self._listable = listable
        self._top = top
        self._others = others
        self._kinds = kinds
        self._made_up = made_up

    def __iter__(self) -> Iterator[Entry | Gap]:
        try:
            handle = self._listable(self._top)
        except AccessError as error:
            yield Gap(self._top, error.what)
            return
        try:
            device = os.fstat(handle).st_dev
            if self._kinds.get(device) in MADE_UP:
                return
            names = _names(handle)
            yield from self._inside(handle, names, self._top.rstrip("/"), device, 0)
        except OSError as error:
            yield Gap(self._top, trouble(error, self._top).what)
        finally:
            os.close(handle)

    def _inside(
        self, handle: int, names: list[bytes], path: str, device: int, depth: int
    ) -> Iterator[Entry | Gap]:
        for name in names:
            whole = f"{path}/{decoded(name)}"
            try:
                seen = os.stat(name, dir_fd=handle, follow_symlinks=False)
                target = None
                if stat.S_ISLNK(seen.st_mode):
                    target = decoded(os.readlink(name, dir_fd=handle))
            except OSError as error:
                if error.errno != errno.ENOENT:
                    yield Gap(whole, trouble(error, whole).what)
                continue  # it went while we looked
            if not stat.S_ISDIR(seen.st_mode):
                yield _entry(whole, seen, target)
            else:
                yield from self._directory(handle, name, whole, seen, device, depth)

    def _directory(
        self, above: int, name: bytes, path: str, seen: os.stat_result, device: int, depth: int
    ) -> Iterator[Entry | Gap]:
        if seen.st_dev != device:
            kind = self._kinds.get(seen.st_dev, UNKNOWN)
            if kind in MADE_UP:
                if self._made_up:
                    yield _entry(path, seen, None)
                    yield Gap(path, f"{BY_KERNEL} ({kind})")
                return
            if not self._others:
                yield Gap(path, another_file_system(kind))
                return
        if depth >= _DEEPEST:
            yield Gap(path, f"more than {_DEEPEST} directories deep")
            return
        try:
            handle = os.open(name, _LISTED, dir_fd=above)
        except OSError as error:
            yield Gap(path, trouble(error, path).what)
            return
        try:
            names = _names(handle)
            yield _entry(path, seen, None)._replace(empty=not names)
            yield from self._inside(handle, names, path, seen.st_dev, depth + 1)
        except OSError as error:
            yield Gap(path, trouble(error, path).what)
        finally:
            os.close(handle)


def _names(handle: int) -> list[bytes]:
    found: list[Any] = os.listdir(handle)
    for place, name in enumerate(found):  # in place: there may be millions
        found[place] = os.fsencode(name)
    found.sort()
    return found


def _entry(path: str, seen: os.stat_result, target: str | None) -> Entry:
    return Entry(
        path=path, kind=KIND_OF_FORM[stat.S_IFMT(seen.st_mode)], size=seen.st_size,
        mode=stat.S_IMODE(seen.st_mode), uid=seen.st_uid, gid=seen.st_gid,
        modified=seen.st_mtime_ns, link_target=target, changed=seen.st_ctime_ns, inode=seen.st_ino,
        device=seen.st_rdev, file_system=seen.st_dev,
    )  # fmt: skip
