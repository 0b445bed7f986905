"""Payloads of the `tar` form, read from a stream by the standard library, within bounds of ours.

The library reads names and extended heads as long as they say they are: here no single read may be
longer than READ_LIMIT. It takes a damaged or missing end for the end: here that is told.
"""

import os
import tarfile
from collections.abc import Iterator

from filigree.formats.members import (
    MEMBERS_LIMIT,
    PIECE,
    Algorithm,
    ByteStream,
    Member,
    PayloadError,
    digest_of,
)
from filigree.model.files import Kind

READ_LIMIT = 1 << 20
_BLOCK = 512
_KINDS = {
    tarfile.DIRTYPE: Kind.DIRECTORY,
    tarfile.SYMTYPE: Kind.LINK,
    tarfile.FIFOTYPE: Kind.PIPE,
    tarfile.CHRTYPE: Kind.CHARACTER_DEVICE,
    tarfile.BLKTYPE: Kind.BLOCK_DEVICE,
}


class _Forward:
    """A stream with the face of a file that is only ever sought forward."""

    def __init__(self, stream: ByteStream) -> None:
        self._stream = stream
        self.last = b""

    @property
    def position(self) -> int:
        return self._stream.position

    def tell(self) -> int:
        return self._stream.position

    def seek(self, place: int) -> None:
        left = place - self._stream.position
        if left < 0:
            raise PayloadError("a member before the one before it", self._stream.position)
        skip = getattr(self._stream, "skip", None)
        if skip is not None:
            skip(left)
            return
        while left > 0:
            data = self._stream.read(min(left, PIECE))
            if not data:
                return
            left -= len(data)

    def read(self, size: int) -> bytes:
        if size > READ_LIMIT:
            raise PayloadError(f"a name or a head of {size:,} bytes", self._stream.position)
        self.last = self._stream.read(size)
        return self.last

    def content(self, size: int) -> bytes:
        """What a member holds, as far as it is there: its size is for the caller to bound."""
        pieces = []
        while size > 0 and (data := self._stream.read(min(size, PIECE))):
            pieces.append(data)
            size -= len(data)
        return b"".join(pieces)


def read_tar(stream: ByteStream, algorithm: Algorithm) -> Iterator[Member]:
    """The members in their order. Raises PayloadError, also where the end is missing."""
    for info, file in tar_members(stream):
        size = info.size if info.isreg() else 0
        plain = info.isreg() and not info.issparse()
        digest = digest_of(file, size, algorithm(info.name)) if plain else None
        yield _member(info, size, digest)


def read_small_tar(stream: ByteStream, limit: int = READ_LIMIT) -> dict[str, bytes]:
    """The regular files of a small payload, by name, as far as each is no longer than `limit`."""
    found: dict[str, bytes] = {}
    total = 0
    for info, file in tar_members(stream):
        if not info.isreg() or info.issparse():
            continue
        total += info.size
        if info.size > limit or total > 4 * limit:
            raise PayloadError(f"{info.name[:80]} is unreasonably large", stream.position)
        found[info.name] = file.content(info.size)
        if len(found[info.name]) < info.size:
            raise PayloadError(f"{info.name[:80]} is cut off", stream.position)
    return found


def tar_members(
    stream: ByteStream, most: int = MEMBERS_LIMIT
) -> Iterator[tuple[tarfile.TarInfo, _Forward]]:
    """Every head of at most so many members, and the stream at the start of what follows it.

    What a member holds is passed over by `skip` of the stream, where it has that, and read otherwise.
    """
    file = _Forward(stream)
    try:
        tar = tarfile.TarFile(fileobj=file, errors="surrogateescape", encoding="utf-8")  # type: ignore[arg-type]
        for count in range(most + 1):
            info = tar.next()
            if info is None:
                break
            if count == most or len(tar.pax_headers) > MEMBERS_LIMIT // 100:
                raise PayloadError(f"more than {most:,} members", stream.position)
            tar.members.clear()  # type: ignore[attr-defined]
            file.seek(info.offset_data)
            yield info, file
    except tarfile.TarError as error:
        raise PayloadError(f"it is no tar, or is cut off: {error}", stream.position) from error
    except (ValueError, OverflowError, RecursionError, TypeError, KeyError) as error:
        if isinstance(error, PayloadError) or type(error).__module__.startswith("filigree"):
            raise
        raise PayloadError(f"a head that makes no sense: {error}", stream.position) from error
    # The library takes anything that is no head for the end.
    if len(file.last) < _BLOCK or file.last.strip(b"\0"):
        raise PayloadError("the payload is cut off, or damaged", stream.position)


def _member(info: tarfile.TarInfo, size: int, digest: str | None) -> Member:
    kind = _KINDS.get(info.type, Kind.FILE)
    is_device = kind in (Kind.BLOCK_DEVICE, Kind.CHARACTER_DEVICE)
    return Member(
        info.name,
        kind,
        info.mode & 0o7777,
        size,
        int(info.mtime),
        owner=info.uname or f"#{info.uid}",
        group=info.gname or f"#{info.gid}",
        link_target=info.linkname if kind is Kind.LINK else None,
        device=_device(info) if is_device else None,
        same_as=info.linkname if info.islnk() else None,
        digest=digest,
    )


def _device(info: tarfile.TarInfo) -> int:
    return os.makedev(info.devmajor & 0xFFF, info.devminor & 0xFFFFF)
