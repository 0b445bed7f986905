"""Bytes that come in pieces, as a stream that can be read any number of bytes at a time."""

from collections.abc import Iterable


class PieceStream:
    """A stream over pieces. `position` counts the bytes that were taken."""

    def __init__(self, pieces: Iterable[bytes]) -> None:
        self._pieces = iter(pieces)
        self._rest = b""
        self.position = 0

    def read(self, size: int) -> bytes:
        """So many bytes; fewer only at the end."""
        parts = [self._rest[:size]]
        got = len(parts[0])
        self._rest = self._rest[size:]
        while got < size and (piece := next(self._pieces, b"")):
            parts.append(piece[: size - got])
            self._rest = piece[size - got :]
            got += len(parts[-1])
        self.position += got
        return b"".join(parts)
