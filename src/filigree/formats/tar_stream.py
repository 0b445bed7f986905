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
from filigree.formats.tar_heads import BLOCK, extend, extension_of, plain_head, read_extension
from filigree.model.files import Kind

READ_LIMIT = 1 << 20
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
        self._returned = b""
        self.last = b""

    @property
    def position(self) -> int:
        return self._stream.position - len(self._returned)

    def tell(self) -> int:
        return self.position

    def seek(self, place: int) -> None:
        left = place - self.position
        if left < 0:
            raise PayloadError("a member before the one before it", self.position)
        if self._returned:
            gone, self._returned = self._returned[:left], self._returned[left:]
            left -= len(gone)
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
            raise PayloadError(f"a name or a head of {size:,} bytes", self.position)
        if self._returned:
            data, self._returned = self._returned[:size], self._returned[size:]
            self.last = data + self._stream.read(size - len(data)) if len(data) < size else data
        else:
            self.last = self._stream.read(size)
        return self.last

    def give_back(self, data: bytes) -> None:
        """What was read last is to be read again."""
        self._returned = data + self._returned

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
    stream: ByteStream, most: int = MEMBERS_LIMIT, open_end: bool = False
) -> Iterator[tuple[tarfile.TarInfo, _Forward]]:
    """Every head of at most so many members, and the stream at the start of what follows it.

    What a member holds is passed over by `skip` of the stream, where it has that, and read otherwise.
    With an `open_end` it may end behind the content of a member, without the mark of its end: so do some
    writers of layers, and a digest tells whether that is all.
    """
    file = _Forward(stream)
    ends = 0
    try:
        tar = tarfile.TarFile(fileobj=file, errors="surrogateescape", encoding="utf-8")  # type: ignore[arg-type]
        for count in range(most + 1):
            info = _quickly(tar, file)
            if info is None and open_end and count and 0 < ends <= file.position < tar.offset:
                return  # within what only fills up its last block
            info = info or tar.next()
            if info is None:
                break
            ends = info.offset_data + (info.size if info.isreg() and not info.issparse() else 0)
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
    if open_end and not file.last:
        return
    if len(file.last) < BLOCK or file.last.strip(b"\0"):
        raise PayloadError("the payload is cut off, or damaged", stream.position)


def _quickly(tar: tarfile.TarFile, file: _Forward) -> tarfile.TarInfo | None:
    """The next member, where its heads are plain. Where not, all is as if nobody had looked."""
    if tar.firstmember is not None or tar.pax_headers:  # type: ignore[attr-defined]
        return None
    start = tar.offset
    if file.position > start:
        return None
    file.seek(start)
    if file.position != start:
        return None
    taken = block = file.read(BLOCK)
    told = None
    if len(block) == BLOCK and (size := extension_of(block)) is not None:
        body = file.read(-(-size // BLOCK) * BLOCK)
        block = file.read(BLOCK)
        taken += body + block
        told = read_extension(body[:size])
        if told is None:
            block = b""
    info = plain_head(block, start + len(taken) - BLOCK) if len(block) == BLOCK else None
    if info is None:
        file.give_back(taken)
        return None
    if told is not None:
        extend(info, told)
        info.offset = start
    follows = -(-info.size // BLOCK) * BLOCK if info.isreg() else 0
    tar.offset = info.offset_data + follows
    return info


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
