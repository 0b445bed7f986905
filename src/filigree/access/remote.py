"""A file at an address, read in place: only those parts are fetched that are asked for."""

import tempfile
import time
from collections import OrderedDict
from typing import Any
from urllib.parse import urlsplit, urlunsplit

from filigree.access.web import DEADLINE, FetchError, Web
from filigree.model.errors import AccessError, Obstacle

BLOCK = 1 << 16
LONGEST = 1 << 22
KEPT = 256
"""Blocks that are kept; the most that is asked for at once, where one part follows the other."""
WHOLE_LIMIT = 4 << 30


def beside_address(address: str, ending: str) -> str:
    """The address of what lies beside a file and is called like it, with an ending.

    >>> beside_address("https://packages.example/a.pkg?of=1", ".sig")
    'https://packages.example/a.pkg.sig?of=1'
    """
    parts = urlsplit(address)
    return urlunsplit(parts._replace(path=parts.path + ending))


class RemoteFile:
    """A file on a server, that does not change while it is read. Raises AccessError.

    Where the server knows of no parts it is fetched whole, into a file without a name. `sent` counts
    the bytes that came.
    """

    def __init__(
        self,
        address: str,
        patience: float = 30.0,
        deadline: float = DEADLINE,
        most: int = WHOLE_LIMIT,
    ) -> None:
        self.path = address
        self._most = most
        self.sent = 0
        self._web = Web(patience)
        self._until = time.monotonic() + deadline
        self._blocks: OrderedDict[int, bytes] = OrderedDict()
        self._tag: str | None = None
        self._whole: Any = None
        self._ahead = BLOCK
        self._expected = -1
        self.size = self._first()

    def close(self) -> None:
        """Let go of the connection, and of what was fetched."""
        self._web.close()
        if self._whole is not None:
            self._whole.close()

    def at(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset`; fewer at the end."""
        end = min(offset + count, self.size)
        if offset >= end:
            return b""
        if self._whole is not None:
            self._whole.seek(offset)
            return bytes(self._whole.read(end - offset))
        parts = [self._block(number) for number in range(offset // BLOCK, (end - 1) // BLOCK + 1)]
        start = offset % BLOCK
        return b"".join(parts)[start : start + end - offset]

    def _block(self, number: int) -> bytes:
        if number not in self._blocks:
            # What is read from its start to its end is fetched in ever longer parts.
            going_on = number == self._expected
            self._ahead = min(self._ahead * 2, LONGEST) if going_on else BLOCK
            self._part(number * BLOCK, min(number * BLOCK + self._ahead, self.size))
        self._blocks.move_to_end(number)
        return self._blocks[number]

    def _part(self, start: int, end: int) -> None:
        headers = {"Range": f"bytes={start}-{end - 1}", "Accept-Encoding": "identity"}
        if self._tag is not None:
            headers["If-Range"] = self._tag
        status, found, data = self._asked(headers, end - start)
        if status != 206 or not found.get("Content-Range", "").startswith(f"bytes {start}-"):
            raise AccessError(Obstacle.CHANGED, self.path)
        if len(data) != end - start:
            raise AccessError(
                Obstacle.FAILED, self.path, "the server sent less than it was asked for"
            )
        for at in range(0, len(data), BLOCK):
            self._blocks[(start + at) // BLOCK] = data[at : at + BLOCK]
        self._expected = -(-end // BLOCK)
        while len(self._blocks) > KEPT:
            self._blocks.popitem(last=False)

    def _first(self) -> int:
        """Ask for the first part, and so for the size."""
        headers = {"Range": f"bytes=0-{BLOCK - 1}", "Accept-Encoding": "identity"}
        status, found, data = self._asked(headers, BLOCK)
        if status == 416:
            return 0
        if status == 206:
            size = found.get("Content-Range", "").rpartition("/")[2]
            if size.isascii() and size.isdigit() and len(size) < 19:
                tag = found.get("ETag") or found.get("Last-Modified")
                self._tag = tag if tag and not tag.startswith("W/") else None
                self._blocks[0] = data
                return int(size)
        if self._whole is None:
            raise AccessError(Obstacle.FAILED, self.path, "the server does not tell its size")
        return int(self._whole.tell())

    def _asked(self, headers: dict[str, str], most: int) -> tuple[int, Any, bytes]:
        """The status, the headers, and a part; the whole is put aside where no part is sent."""
        import httpx

        try:
            with self._web.asked(self.path, headers, self._until) as answer:
                status = answer.status_code
                if status in (404, 410):
                    raise AccessError(Obstacle.ABSENT, self.path)
                if status not in (200, 206, 416):
                    raise AccessError(
                        Obstacle.FAILED, self.path, f"the server says status {status}"
                    )
                if status == 200:
                    if self._blocks:
                        return status, answer.headers, b""
                    self._put_aside(answer)
                    return status, answer.headers, b""
                data = bytearray()
                for piece in answer.iter_raw():
                    data += piece
                    if len(data) > most:
                        why = "the server sent more than it was asked for"
                        raise AccessError(Obstacle.FAILED, self.path, why)
                self.sent += len(data)
                return status, answer.headers, bytes(data)
        except (httpx.HTTPError, httpx.StreamError, httpx.InvalidURL) as error:
            words = str(error) or type(error).__name__
            raise AccessError(Obstacle.FAILED, self.path, words) from error
        except FetchError as error:
            raise AccessError(Obstacle.FAILED, self.path, error.what) from error

    def _put_aside(self, answer: Any) -> None:
        self._whole = tempfile.TemporaryFile()  # noqa: SIM115 - it is closed with this object
        claimed = answer.headers.get("Content-Length", "")
        for piece in answer.iter_raw():
            self.sent += len(piece)
            if self.sent > self._most:
                raise AccessError(Obstacle.TOO_LARGE, self.path)
            self._whole.write(piece)
        if claimed.isdigit() and int(claimed) != self.sent:
            raise AccessError(
                Obstacle.FAILED, self.path, "the connection ended before all was sent"
            )
