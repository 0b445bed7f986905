"""A layer's bytes, unpacked and digested by a thread of their own while what came out is looked at.

Unpacking and digesting are done without the interpreter's lock, so that both go on at once on two
processors. Never more than a few pieces wait.
"""

import contextlib
import hashlib
import queue
import threading

from filigree.formats.members import ByteStream

_PIECE = 1 << 20
_WAITING = 4


class ReadAhead:
    """A stream, read ahead. What its bytes cannot be read for is raised where they would have come."""

    def __init__(self, stream: ByteStream, algorithm: str) -> None:
        self._stream = stream
        self._digest = hashlib.new(algorithm)
        self._pieces: queue.Queue[bytes | Exception] = queue.Queue(_WAITING)
        self._stopped = False
        self._piece = b""
        self._at = 0
        self._over = False
        self.position = 0
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        try:
            while not self._stopped:
                piece = self._stream.read(_PIECE)
                self._digest.update(piece)
                self._pieces.put(piece)
                if not piece:
                    return
        except Exception as error:
            self._pieces.put(error)

    def read(self, size: int) -> bytes:
        """So many bytes; fewer only at the end."""
        end = self._at + size
        if end <= len(self._piece):
            data = self._piece[self._at : end]
            self._at = end
            self.position += size
            return data
        parts = [self._piece[self._at :]]
        got = len(parts[0])
        self._piece, self._at = b"", 0
        while got < size and not self._over:
            piece = self._pieces.get()
            if isinstance(piece, Exception):
                self._over = True
                raise piece
            if not piece:
                self._over = True
                break
            self._at = min(len(piece), size - got)
            parts.append(piece[: self._at])
            got += self._at
            self._piece = piece
        self.position += got
        return b"".join(parts)

    def finished(self) -> str:
        """The digest of all that comes out."""
        while self.read(_PIECE):
            pass
        return f"{self._digest.name}:{self._digest.hexdigest()}"

    def close(self) -> None:
        """Stop reading, and wait until that is so."""
        self._stopped = True
        while self._thread.is_alive():
            with contextlib.suppress(queue.Empty):
                self._pieces.get(timeout=0.01)
