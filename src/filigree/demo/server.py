"""A small web server on the loopback address, that serves a made-up repository, well or badly."""

import hashlib
import re
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

_RANGE = re.compile(r"bytes=(\d+)-(\d*)")


@dataclass
class Manners:
    """How the server behaves; all may be changed while it runs.

    `replaced` are contents by path, in the place of the files; `breaks` how many answers break off at
    half their length; `fails` how many answers are an error of the server's own; `pause` seconds before
    each answer; `trickle` seconds between single bytes; `larger` bytes that it claims too many; `ranges`
    and `remembers` whether it knows of parts and of conditions; `leads` are redirections by path.
    """

    replaced: dict[str, bytes] = field(default_factory=dict)
    breaks: int = 0
    fails: int = 0
    pause: float = 0.0
    trickle: float = 0.0
    larger: int = 0
    ranges: bool = True
    remembers: bool = True
    silent_on_length: bool = False
    leads: dict[str, str] = field(default_factory=dict)
    only: Callable[[str], bool] = lambda _: True


@dataclass(frozen=True)
class ServedRequest:
    """One request: its path, the status that was answered, and how many bytes were sent."""

    path: str
    status: int
    sent: int


class Server:
    """Serves the files of a folder while it runs. `asked` are the requests so far."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.manners = Manners()
        self.asked: list[ServedRequest] = []
        outer = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                outer.answer(self)

            def log_message(self, format: str, *args: object) -> None:
                """Nothing is logged."""

        self._server = _Quiet(("127.0.0.1", 0), Handler)
        self._thread = threading.Thread(target=self._server.serve_forever, daemon=True)

    @property
    def address(self) -> str:
        """Where it answers."""
        host, port = self._server.server_address[:2]
        return f"http://{host!s}:{port}"

    def start(self) -> None:
        """Answer from now on, in a thread of its own."""
        self._thread.start()

    def stop(self) -> None:
        """Answer no more."""
        self._server.shutdown()
        self._server.server_close()

    def content(self, path: str) -> bytes | None:
        """What lies at a path; None where nothing does. No path leads out of the folder."""
        if path in self.manners.replaced:
            return self.manners.replaced[path]
        real = (self.folder / path).resolve()
        inside = real.is_relative_to(self.folder.resolve()) and real.is_file()
        return real.read_bytes() if inside and self.manners.only(path) else None

    def answer(self, request: BaseHTTPRequestHandler) -> None:
        """Answer one request, with the manners that are set."""
        manners = self.manners
        path = request.path.lstrip("/")
        time.sleep(manners.pause)
        if path in manners.leads:
            self._send(request, path, 302, b"", {"Location": manners.leads[path]})
            return
        if manners.fails > 0:
            manners.fails -= 1
            self._send(request, path, 503, b"", {"Retry-After": "0"})
            return
        content = self.content(path)
        if content is None:
            self._send(request, path, 404, b"", {})
            return
        tag = f'"{hashlib.sha256(content).hexdigest()[:16]}"'
        headers = {"ETag": tag, "Accept-Ranges": "bytes" if manners.ranges else "none"}
        if manners.remembers and request.headers.get("If-None-Match") == tag:
            self._send(request, path, 304, b"", headers)
            return
        asked = _RANGE.fullmatch(request.headers.get("Range", ""))
        same = request.headers.get("If-Range", tag) == tag
        if asked and manners.ranges and same:
            start = int(asked[1])
            end = min(int(asked[2]) + 1 if asked[2] else len(content), len(content))
            if start >= len(content):
                self._send(request, path, 416, b"", {"Content-Range": f"bytes */{len(content)}"})
                return
            headers["Content-Range"] = f"bytes {start}-{end - 1}/{len(content)}"
            self._send(request, path, 206, content[start:end], headers)
            return
        self._send(request, path, 200, content, headers)

    def _send(
        self, request: BaseHTTPRequestHandler, path: str, status: int, body: bytes,
        headers: dict[str, str],
    ) -> None:  # fmt: skip
        manners = self.manners
        request.send_response(status)
        for name, value in headers.items():
            request.send_header(name, value)
        if manners.silent_on_length and body:
            request.close_connection = True
            request.send_header("Connection", "close")
        elif status != 304:
            request.send_header("Content-Length", str(len(body) + (manners.larger if body else 0)))
        sent = body
        if body and manners.breaks > 0:
            manners.breaks -= 1
            sent = body[: len(body) // 2]
            request.close_connection = True
        if manners.larger:
            request.close_connection = True
        # Before anything is sent: whoever has the answer may look at once at what was asked.
        self.asked.append(ServedRequest(path, status, len(sent)))
        request.end_headers()
        try:
            if manners.trickle:
                for at in range(len(sent)):
                    request.wfile.write(sent[at : at + 1])
                    request.wfile.flush()
                    time.sleep(manners.trickle)
            else:
                request.wfile.write(sent)
        except OSError:
            request.close_connection = True


class _Quiet(ThreadingHTTPServer):
    """Says nothing of clients that go away."""

    daemon_threads = True

    def handle_error(self, request: object, client_address: object) -> None:
        """It is their business."""


@contextmanager
def serving(folder: Path) -> Iterator[Server]:
    """A server for as long as it is needed."""
    server = Server(folder)
    server.start()
    try:
        yield server
    finally:
        server.stop()
