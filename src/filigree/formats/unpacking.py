"""Compressed bytes unpacked as they are asked for: never more in memory than one piece.

The compression is told by the first bytes, for names lie. What comes out is bounded: by a share of
what went in, as no honest payload exceeds it, and by the memory that an unpacker may take. What goes
beyond that share is allowed once for all that a question unpacks, and not once a stream.
"""

import bz2
import lzma
import zlib
from collections.abc import Callable
from typing import Any

from filigree.formats.random_access import Bytes

PIECE = 1 << 16
MEMORY_LIMIT = 128 << 20
ALLOWANCE = 1 << 30
RATIO = 250
"""What may come out: so many times what went in, and so many bytes besides, of all streams together."""

_MAGICS = (
    (b"\x1f\x8b", "gzip"),
    (b"BZh", "bzip2"),
    (b"\xfd7zXZ\0", "xz"),
    (b"\x28\xb5\x2f\xfd", "zstd"),
    (b"\x5d\0\0", "lzma"),
    (b"\x04\x22\x4d\x18", "lz4"),
)


class _UnpackAllowance:
    """What is left of the bytes that streams may give beyond their share."""

    def __init__(self) -> None:
        self.left = ALLOWANCE


_ALLOWANCE = _UnpackAllowance()


def renew_allowance() -> None:
    """Begin anew: for another question."""
    _ALLOWANCE.left = ALLOWANCE


class UnpackError(ValueError):
    """A stream that cannot be unpacked, or only to more than is reasonable."""


def compression_of(head: bytes) -> str:
    """The compression of what starts so; "none" where it starts as none that is known."""
    return next((name for magic, name in _MAGICS if head.startswith(magic)), "none")


class _Packed:
    """The packed bytes of a part of a file, from its start to its end."""

    def __init__(self, source: Bytes, start: int, size: int) -> None:
        self._source = source
        self._start = start
        self._end = start + size
        self._at = start

    @property
    def taken(self) -> int:
        """How many bytes were read."""
        return self._at - self._start

    def end_before(self, rest: bytes) -> None:
        """What was read last belongs to what comes behind, and nothing more is read."""
        self._at = self._end = self._at - len(rest)

    def read(self, size: int = PIECE) -> bytes:
        """The next bytes; none at the end."""
        data = self._source.at(self._at, min(size, self._end - self._at))
        self._at += len(data)
        return data


class Unpacked:
    """A part of a file, unpacked from its start to its end. Raises UnpackError.

    `position` counts the bytes that came out. Streams one behind the other are read as one, but for a
    `single` one (not of zstd), which is read to its own end. Where only what is around it tells the
    compression it is given: so is `deflate`, which begins with no mark of its own (RFC 1951).
    """

    def __init__(
        self, source: Bytes, start: int, size: int, single: bool = False,
        compression: str | None = None,
    ) -> None:  # fmt: skip
        self.position = 0
        self.compression = compression or compression_of(source.at(start, min(size, 8)))
        # What unpacks knows the packed bytes, and nothing of this object: a circle through a library
        # in C would never be let go.
        self._packed = _Packed(source, start, size)
        self._single = single
        self._piece: Callable[[], bytes] | None = None
        self._rest = b""
        self._charged = 0

    @property
    def read_so_far(self) -> int:
        """How many packed bytes went in."""
        return self._packed.taken

    def read(self, size: int) -> bytes:
        """So many bytes; fewer only at the end."""
        if self._piece is None:
            self._piece = _piece_reader(self._packed, self.compression, self._single)
        parts = [self._rest[:size]]
        got = len(parts[0])
        self._rest = self._rest[size:]
        while got < size:
            try:
                piece = self._piece()
            except UnpackError as error:
                raise UnpackError(
                    f"the {self.compression} stream {error} (at byte {self.read_so_far:,} of it, "
                    f"after {self.position + got:,} bytes came out)"
                ) from error
            if not piece:
                break
            parts.append(piece[: size - got])
            self._rest = piece[size - got :]
            got += len(parts[-1])
        self.position += got
        beyond = self.position - RATIO * self.read_so_far - self._charged
        if beyond > 0:
            self._charged += beyond
            _ALLOWANCE.left -= beyond
            if _ALLOWANCE.left < 0:
                raise UnpackError(
                    f"it unpacks to more than {RATIO} times its size: {self.position} bytes "
                    f"came out of {self.read_so_far}"
                )
        return b"".join(parts)


def _piece_reader(packed: _Packed, compression: str, single: bool) -> Callable[[], bytes]:
    """What gives the next piece of at most a few times PIECE; nothing at the end."""
    match compression:
        case "none":
            return packed.read
        case "zstd":
            return _zstd(packed)
        case "gzip":
            return _Frames(packed, _Deflated, single).piece
        case "deflate":
            return _Frames(packed, lambda: _Deflated(-zlib.MAX_WBITS), single).piece
        case "lz4":
            import lz4.frame

            return _Frames(packed, lz4.frame.LZ4FrameDecompressor, single).piece
        case "bzip2":
            return _Frames(packed, bz2.BZ2Decompressor, single).piece
        case _:
            form = lzma.FORMAT_XZ if compression == "xz" else lzma.FORMAT_ALONE
            return _Frames(packed, lambda: lzma.LZMADecompressor(form, MEMORY_LIMIT), single).piece


class _Deflated:
    """The decompressor of one gzip member, or of a bare stream, with the face that the others have."""

    def __init__(self, form: int = 16 + zlib.MAX_WBITS) -> None:
        self._inner = zlib.decompressobj(form)

    @property
    def eof(self) -> bool:
        return self._inner.eof

    @property
    def unused_data(self) -> bytes:
        return self._inner.unused_data

    def decompress(self, data: bytes, max_length: int) -> bytes:
        return self._inner.decompress(self._inner.unconsumed_tail + data, max_length)

    @property
    def needs_input(self) -> bool:
        return not self._inner.unconsumed_tail


class _Frames:
    """Streams of one compression, one behind the other."""

    def __init__(self, packed: _Packed, new: Callable[[], Any], single: bool) -> None:
        self._packed = packed
        self._single = single
        self._over = False
        self._new = new
        self._inner: Any = new()
        self._fed = False
        self._ahead = b""

    def piece(self) -> bytes:
        while True:
            inner = self._inner
            if inner.eof:
                if self._single:
                    if not self._over:
                        self._packed.end_before(inner.unused_data)
                        self._over = True
                    return b""
                self._ahead = inner.unused_data or self._packed.read()
                if not self._ahead.strip(b"\0"):
                    return b""
                inner = self._inner = self._new()
                self._fed = False
            data = b""
            if self._ahead:
                data, self._ahead = self._ahead, b""
            elif not self._fed or inner.needs_input:
                data = self._packed.read()
                if not data and not inner.eof:
                    raise UnpackError("is cut off")
            self._fed = True
            try:
                out: bytes = inner.decompress(data, PIECE)
            except (
                OSError,
                EOFError,
                ValueError,
                RuntimeError,
                zlib.error,
                lzma.LZMAError,
            ) as error:
                raise UnpackError(f"is damaged: {error}") from error
            if out:
                return out


def _zstd(packed: _Packed) -> Callable[[], bytes]:
    import zstandard

    unpacker = zstandard.ZstdDecompressor(max_window_size=MEMORY_LIMIT)
    source: Any = packed
    reader = unpacker.stream_reader(source, read_size=PIECE, read_across_frames=True)

    def piece() -> bytes:
        try:
            data: bytes = reader.read(PIECE)
        except zstandard.ZstdError as error:
            raise UnpackError(f"is damaged: {error}") from error
        return data

    return piece
