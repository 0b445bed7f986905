"""What runs on this very machine, as its kernel tells it: processes, what each has mapped, and modules.

Follows proc(5). Rules, before the code that keeps them:

- A name is never what is believed: a path that ends in "(deleted)" may be one that is called so. What is
  held is told by device and inode, and whether it is gone from the disk by its count of links.
- A process is the same one only where it began at the same time: what ends meanwhile, and whatever gets
  its number then, is told apart.
- Paths are those of the process's own root, which may be another than ours.
"""

import hashlib
import os
import re
import stat
from collections.abc import Iterator
from functools import cached_property
from typing import NamedTuple

PROC = "/proc"
_LIMIT = 16 << 20
_MAPS = re.compile(
    rb"^([0-9a-f]+)-([0-9a-f]+) ..(.). [0-9a-f]+ ([0-9a-f]+):([0-9a-f]+) (\d+) *(/[^\n]*)?$",
    re.MULTILINE,
)
_OCTAL = re.compile(rb"\\([0-7]{3})")
_GONE = " (deleted)"


class HeldFile(NamedTuple):
    """A file that a process runs or has mapped. `path` is as the kernel told it when it was opened,
    without what it says of its being gone; `links` is how many names it has now, None where that could
    not be looked at. `on_disk` is what is at that path now: device and inode, None for nothing."""

    path: str
    device: int
    inode: int
    links: int | None
    on_disk: tuple[int, int] | None

    @property
    def same(self) -> bool:
        """Whether what is on the disk is what is held."""
        return self.on_disk == (self.device, self.inode)


class Process(NamedTuple):
    """One process. `root` is where its root is: `/` for ours, else a path that leads there as long as it
    lives. `arguments` are what it was started with; `directory` is where it is."""

    pid: int
    name: str
    uid: int
    began: int
    program: HeldFile
    libraries: tuple[HeldFile, ...]
    arguments: tuple[str, ...]
    directory: str | None
    root: str


class _Root(NamedTuple):
    """The root of a process: the path that leads there, and what paths start with that are told of it."""

    place: str
    front: str

    def own(self, path: str) -> str:
        """A path as the process itself would name it."""
        return path.removeprefix(self.front) if path.startswith(f"{self.front}/") else path

    def on_disk(self, path: str) -> tuple[int, int] | None:
        """What is at a path of its own."""
        if not path.startswith("/"):
            return None
        try:
            seen = os.stat(path if self.place == "/" else f"{self.place}{path}")
        except (OSError, ValueError):
            return None
        return seen.st_dev, seen.st_ino


class Unseen(NamedTuple):
    """A process that could not be looked at, or ended meanwhile, and why."""

    pid: int
    name: str
    why: str


class ProcessTable:
    """All processes, as they are while they are asked for. `proc` is where the kernel tells of them."""

    def __init__(self, proc: str = PROC) -> None:
        self._proc = proc
        self.kernel_threads = 0

    def each(self) -> Iterator[Process | Unseen]:
        """Every process but this one, by number. Threads of the kernel have no program: those are
        counted."""
        own = os.getpid()
        for pid in sorted(int(name) for name in os.listdir(self._proc) if name.isdecimal()):
            if pid == own:
                continue
            found = self._look(pid)
            if found is not None:
                yield found

    def _look(self, pid: int) -> Process | Unseen | None:
        name = ""
        try:
            name, began = self._told(pid)
            found = self._process(pid, name, began)
            if self._told(pid)[1] != began:
                return Unseen(pid, name, "it ended meanwhile, and another has its number")
        except FileNotFoundError:
            return self._gone_or_kernel(pid, name)
        except ProcessLookupError:
            return Unseen(pid, name, "it ended meanwhile")
        except PermissionError:
            return Unseen(pid, name, "it may not be looked at: that takes more rights")
        except (OSError, ValueError) as error:
            return Unseen(pid, name, f"it could not be looked at: {error}")
        return found

    def _gone_or_kernel(self, pid: int, name: str) -> Unseen | None:
        """A process without a program is the kernel's own, or a shell of one that ended."""
        try:
            with open(f"{self._proc}/{pid}/status", "rb") as file:
                told = file.read(_LIMIT)
        except OSError:
            return Unseen(pid, name, "it ended meanwhile")
        if b"\nVmSize:" not in told:  # it has no memory of its own
            state = re.search(rb"^State:\s+(\w)", told, re.MULTILINE)
            if state is not None and state[1] in b"ZX":
                return Unseen(pid, name, "it has ended, and nobody asked how")
            self.kernel_threads += 1
            return None
        return Unseen(pid, name, "it ended meanwhile")

    def _told(self, pid: int) -> tuple[str, int]:
        """Its name and when it began, in ticks since the machine did. The name may hold anything."""
        with open(f"{self._proc}/{pid}/stat", "rb") as file:
            data = file.read(_LIMIT)
        front, _, rest = data.rpartition(b")")
        name = front.partition(b"(")[2].decode("utf-8", "surrogateescape")
        fields = rest.split()
        if len(fields) < 20:
            raise ValueError("what the kernel tells of it makes no sense")
        return name, int(fields[19])

    def _process(self, pid: int, name: str, began: int) -> Process:
        place = f"{self._proc}/{pid}"
        root = self._root(pid)
        program = self._held(f"{place}/exe", root)
        with open(f"{place}/cmdline", "rb") as file:
            words = file.read(_LIMIT).split(b"\0")[:-1]
        return Process(
            pid=pid, name=name, uid=os.stat(place).st_uid, began=began, program=program,
            libraries=tuple(self._mapped(pid, root, program)),
            arguments=tuple(word.decode("utf-8", "surrogateescape") for word in words),
            directory=_target(f"{place}/cwd"), root=root.place,
        )  # fmt: skip

    def _root(self, pid: int) -> _Root:
        """Its root. Where that is below ours the kernel tells paths from ours, and else from its own."""
        place = f"{self._proc}/{pid}/root"
        there, here = os.stat(place), os.stat("/")
        if (there.st_dev, there.st_ino) == (here.st_dev, here.st_ino):
            return _Root("/", "")
        return _Root(place, (_target(place) or "/").rstrip("/"))

    def _held(self, magic: str, root: _Root) -> HeldFile:
        """What a link of the kernel's leads to: the file itself, whatever its name."""
        path = os.readlink(magic)
        seen = os.stat(magic)
        return _held_at(path, seen.st_dev, seen.st_ino, seen.st_nlink, root)

    def _mapped(self, pid: int, root: _Root, program: HeldFile) -> Iterator[HeldFile]:
        """What else it has mapped to be run, each once."""
        with open(f"{self._proc}/{pid}/maps", "rb") as file:
            data = file.read(_LIMIT)
        known = {(program.device, program.inode)}
        for match in _MAPS.finditer(data):
            start, end, may_run, major, minor, inode, path = match.groups()
            if may_run != b"x" or path is None or inode == b"0":
                continue
            device = os.makedev(int(major, 16), int(minor, 16))
            identity = device, int(inode)
            if identity in known:
                continue
            known.add(identity)
            text = _OCTAL.sub(lambda found: bytes([int(found[1], 8)]), path)
            try:
                # Some file systems tell another device here than anywhere else: the kernel's own link
                # to what is mapped leads to the very file.
                span = f"{self._proc}/{pid}/map_files/{start.decode()}-{end.decode()}"
                seen = os.stat(span)
                links: int | None = seen.st_nlink
                device, number = seen.st_dev, seen.st_ino
            except (PermissionError, FileNotFoundError):
                links, number = None, int(inode)
            if (device, number) == (program.device, program.inode):
                continue
            yield _held_at(text.decode("utf-8", "surrogateescape"), device, number, links, root)


def _held_at(path: str, device: int, inode: int, links: int | None, root: _Root) -> HeldFile:
    """A file that is held, and what is at its path now. What a kernel says behind the name of a file that
    is gone counts only where no such file is there."""
    path = root.own(path)
    there = root.on_disk(path)
    if there != (device, inode) and path.endswith(_GONE):
        path = path.removesuffix(_GONE)
        there = root.on_disk(path)
    return HeldFile(path, device, inode, links, there)


def _target(link: str) -> str | None:
    try:
        return os.readlink(link)
    except OSError:
        return None


def digest_of_program(pid: int, began: int, limit: int, proc: str = PROC) -> str | None:
    """The SHA-256 digest of what a process runs, though no name leads there any more; None where it
    ended, may not be read, or is larger than `limit`."""
    try:
        if ProcessTable(proc)._told(pid)[1] != began:
            return None
        handle = os.open(f"{proc}/{pid}/exe", os.O_RDONLY)
    except (OSError, ValueError):
        return None
    digest = hashlib.sha256()
    with os.fdopen(handle, "rb") as file:
        if not stat.S_ISREG(os.fstat(file.fileno()).st_mode):
            return None
        size = 0
        try:
            while piece := file.read(1 << 20):
                digest.update(piece)
                size += len(piece)
                if size > limit:
                    return None
        except OSError:
            return None
    return f"sha256:{digest.hexdigest()}"


def started_at(began: int, proc: str = PROC) -> int | None:
    """When a process began, in seconds since 1970, by ticks since the machine did; None where that is not
    told."""
    try:
        with open(f"{proc}/stat", "rb") as file:
            found = re.search(rb"^btime (\d+)", file.read(_LIMIT), re.MULTILINE)
    except OSError:
        return None
    return None if found is None else int(found[1]) + began // os.sysconf("SC_CLK_TCK")


class KernelModules:
    """The modules that the kernel has loaded, by name. `proc` is where it tells of them."""

    def __init__(self, proc: str = PROC) -> None:
        self._proc = proc

    @cached_property
    def loaded(self) -> tuple[str, ...]:
        """Their names. Raises OSError where they may not be asked for."""
        try:
            with open(f"{self._proc}/modules", encoding="utf-8", errors="surrogateescape") as file:
                return tuple(line.split(" ", 1)[0] for line in file)
        except FileNotFoundError:  # a kernel that loads none
            return ()
