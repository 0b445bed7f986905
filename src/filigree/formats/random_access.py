"""Bytes at a place: what a reader of a large file needs, whatever the file is."""

from typing import Protocol


class Bytes(Protocol):
    """A file of a known size that can be read anywhere."""

    @property
    def size(self) -> int: ...

    def at(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset`; fewer at the end."""
        ...


class MemoryBytes:
    """The same over bytes in memory."""

    def __init__(self, data: bytes) -> None:
        self._data = data

    @property
    def size(self) -> int:
        return len(self._data)

    def at(self, offset: int, count: int) -> bytes:
        return self._data[offset : offset + count]


class ContainerError(ValueError):
    """A container that is not as its format wants it; `offset` is where that shows."""

    def __init__(self, why: str, offset: int) -> None:
        super().__init__(f"{why} (at byte {offset})")
        self.offset = offset
