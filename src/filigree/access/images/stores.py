"""Where the parts of an image lie: in a folder, or in a tar that is that folder packed."""

import os
import tempfile
from typing import Protocol

from filigree.access.trees.directory import DirectoryTree
from filigree.access.trees.protocol import Borrowed
from filigree.formats.random_access import Bytes
from filigree.formats.tar_stream import tar_members
from filigree.formats.unpacking import Unpacked
from filigree.model.errors import AccessError, Obstacle

_LINKS = 8
MEMBERS_LIMIT = 100_000


class PartStore(Protocol):
    """The parts of an image, by name."""

    def lend(self, name: str) -> Borrowed:
        """A part to be read in place; whoever borrows it closes it. Raises AccessError."""
        ...

    def names(self) -> list[str]:
        """What stands at the top."""
        ...

    def close(self) -> None:
        """Let go of what is held open."""
        ...


class FolderStore:
    """A folder. Links resolve inside it."""

    def __init__(self, folder: str) -> None:
        self._tree = DirectoryTree(folder)

    def lend(self, name: str) -> Borrowed:
        return self._tree.lend(f"/{name}")

    def names(self) -> list[str]:
        return self._tree.names("/")

    def close(self) -> None:
        self._tree.close()


class Window:
    """A part of a file that is held open, as a file of its own."""

    def __init__(self, source: Bytes, start: int, size: int, path: str) -> None:
        self.path = path
        self.size = size
        self._source = source
        self._start = start

    def at(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset`; fewer at the end."""
        count = min(count, max(0, self.size - offset))
        return self._source.at(self._start + offset, count)

    def close(self) -> None:
        """The file stays open: it is not this window's."""


class TemporaryBytes:
    """A file of our own that nobody else can reach; it goes when it is let go of."""

    def __init__(self, path: str) -> None:
        self.path = path
        self._file = tempfile.TemporaryFile(prefix="filigree-")  # noqa: SIM115
        self.size = 0

    def write(self, data: bytes) -> None:
        """Append. Raises AccessError where there is no room."""
        try:
            self._file.write(data)
            self._file.flush()
        except OSError as error:
            why = f"there is no room to unpack it: {error.strerror}"
            raise AccessError(Obstacle.FAILED, self.path, why) from error
        self.size += len(data)

    def at(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset`; fewer at the end."""
        return os.pread(self._file.fileno(), count, offset)

    def close(self) -> None:
        """Let go of it."""
        self._file.close()


class TarStore:
    """A tar. A packed one is unpacked into a file of our own first. Raises PayloadError, UnpackError."""

    def __init__(self, source: Borrowed) -> None:
        self._source: Borrowed = source
        stream = Unpacked(source, 0, source.size)
        if stream.compression != "none":
            whole = TemporaryBytes(source.path)
            while piece := stream.read(1 << 20):
                whole.write(piece)
            source.close()
            self._source, stream = whole, Unpacked(whole, 0, whole.size)
        self._parts: dict[str, tuple[int, int]] = {}
        self._links: dict[str, str] = {}
        for info, _ in tar_members(Hopping(self._source), MEMBERS_LIMIT):
            name = _clean(info.name)
            if info.isreg() and not info.issparse():
                self._parts[name] = (info.offset_data, info.size)
            elif info.issym():
                self._links[name] = _clean(f"{name}/../{info.linkname}")
            elif info.islnk():
                self._links[name] = _clean(info.linkname)

    def lend(self, name: str) -> Borrowed:
        for _ in range(_LINKS):
            place = self._parts.get(name)
            if place is not None:
                return Window(self._source, *place, name)
            if name not in self._links:
                raise AccessError(Obstacle.ABSENT, name)
            name = self._links[name]
        raise AccessError(Obstacle.LOOP, name)

    def names(self) -> list[str]:
        return sorted({name.partition("/")[0] for name in (*self._parts, *self._links)})

    def close(self) -> None:
        self._source.close()


class Hopping:
    """The bytes of a tar from its start to its end, of which what a member holds is passed over."""

    def __init__(self, source: Bytes) -> None:
        self._source = source
        self.position = 0

    def read(self, size: int) -> bytes:
        """So many bytes; fewer only at the end."""
        data = self._source.at(self.position, size)
        self.position += len(data)
        return data

    def skip(self, size: int) -> None:
        """Pass over so many bytes, without reading them."""
        self.position = min(self.position + size, self._source.size)


def _clean(name: str) -> str:
    """A name without parts that stand for nothing; one that climbs stops at the top."""
    parts: list[str] = []
    for part in name.split("/"):
        if part == "..":
            del parts[-1:]
        elif part not in ("", "."):
            parts.append(part)
    return "/".join(parts)
