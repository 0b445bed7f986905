"""A quick trial of what a disk is good for: whether files are in memory, and whether they come faster
several at once.

Where files are on a disk that does several things at a time, more workers than there are processors keep
it busy: while some wait others compute. Where files come no faster together than one after the other (an
arm that has to move, a network that is full), more workers would only be in each other's way.
"""

import os
import stat
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import islice

from filigree.access.trees.directories import Directories, encoded, open_seen
from filigree.access.workers import is_alone
from filigree.model.errors import AccessError, Obstacle

MORE = 4
"""So many workers a processor keep a disk busy that can do several things at once."""
MOST = 16
_LOOKED, _TRIED = 16, 96
"""So many files are looked at; and so many, where those are not in memory."""
_COLD = 0.1
"""From this share of files on that are not in memory it is worth while."""
_FASTER = 0.7
_PIECE = 1 << 16

Group = Callable[[], Iterable[str]]
"""Tells the paths of one job."""


def useful_workers(root: str, groups: Sequence[Group], processors: int) -> int:
    """How many workers are of use for reading the files of some jobs below a root: as many as there are
    processors where the files are in memory, or where nothing is known of that. Whoever is to be alone
    tries nothing."""
    if is_alone():
        return 1
    directories = Directories(root)
    try:
        first = [is_in_memory(directories, one) for one in _sample(groups, _LOOKED)]
        if first.count(False) <= _COLD * len(first):
            return processors
        every = _sample(groups, _TRIED)
        cold = [one for one in every if is_in_memory(directories, one) is False]
        if len(cold) < _LOOKED:
            return processors
        third = len(cold) // 3
        alone = _seconds(directories, cold[:third], 1) / third
        together = _seconds(directories, cold[third:], MOST) / (len(cold) - third)
        faster = together < _FASTER * alone
    finally:
        directories.close()
    return max(processors, min(MOST, MORE * processors)) if faster else processors


def _sample(groups: Sequence[Group], count: int) -> Iterator[str]:
    """Paths from all over: one of the first of some groups."""
    step = max(1, len(groups) // count)
    for group in groups[step - 1 :: step][:count]:
        paths = list(islice(group(), 64))
        if paths:
            yield paths[len(paths) // 2]


def is_in_memory(directories: Directories, path: str) -> bool | None:
    """Whether the beginning of a regular file can be read without a disk; None: it cannot be told."""
    try:
        handle = _opened(directories, path)
    except (OSError, AccessError):
        return None
    try:
        return bool(os.preadv(handle, [bytearray(1)], 0, os.RWF_NOWAIT)) or None
    except BlockingIOError:
        return False
    except OSError:
        return None
    finally:
        os.close(handle)


def _read(directories: Directories, path: str) -> None:
    try:
        handle = _opened(directories, path)
    except (OSError, AccessError):
        return
    try:
        os.pread(handle, _PIECE, 0)
    except OSError:
        pass
    finally:
        os.close(handle)


def _seconds(directories: Directories, paths: Sequence[str], at_once: int) -> float:
    from concurrent.futures import ThreadPoolExecutor

    started = time.perf_counter()
    with ThreadPoolExecutor(at_once) as crew:
        list(crew.map(lambda path: _read(directories, path), paths))
    return time.perf_counter() - started


def _opened(directories: Directories, path: str) -> int:
    """A regular file, opened; nothing else ever is, and nothing outside of the root."""
    directory, _, name = path.rpartition("/")
    above, raw = directories.at(directory), encoded(name)
    seen = os.stat(raw, dir_fd=above, follow_symlinks=False)
    if not stat.S_ISREG(seen.st_mode):
        raise AccessError(Obstacle.NOT_REGULAR, path)
    return open_seen(raw, above, seen)
