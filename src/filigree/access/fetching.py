"""Fetches files over HTTP and HTTPS, or from folders of the auditor's own, into the auditor's own cache.

What was fetched stays in the cache under its address, with what the server said of it, so that the next
time only what has changed is sent; what broke off is gone on with. Nothing that comes is believed here:
whoever asks compares digests and judges signatures. Sizes are bounded by what is promised, and by a
limit.
"""

import contextlib
import hashlib
import json
import os
import random
import re
import time
from collections.abc import Callable
from typing import IO, Any, NamedTuple
from urllib.parse import unquote, urlsplit

from filigree.access.private_folder import copy_private, is_private, make_private, open_private
from filigree.access.web import (
    DEADLINE,
    GRACE,
    LATE,
    PATIENCE,
    SLOWEST,
    Again,
    FetchError,
    Web,
    seconds_to_wait,
)

TRIES = 4
_HOST = re.compile(r"[A-Za-z][A-Za-z0-9+.-]*://[^/]*")
_UNPLAIN = re.compile(r"[^A-Za-z0-9._+~-]")
_NAME_LIMIT = 120


class Fetched(NamedTuple):
    """Where a file lies in the cache, whether it was sent anew, and how many bytes were sent for it."""

    path: str
    fresh: bool
    sent: int


class FetchProgress(NamedTuple):
    """How far a fetch has come. `total` is None where nobody says."""

    address: str
    done: int
    total: int | None


class Fetcher:
    """Fetches into one folder. Used by one run at a time; several runs do each other no harm."""

    def __init__(
        self,
        folder: str,
        progress: Callable[[FetchProgress], None] | None = None,
        patience: float = PATIENCE,
        pause: float = 0.5,
        deadline: float = DEADLINE,
    ) -> None:
        self.folder = folder
        self._progress = progress
        self._patience = patience
        self._pause = pause
        self._deadline = deadline
        self._until = 0.0
        self._web = Web(patience)
        self._dead: dict[str, str] = {}

    def close(self) -> None:
        self._web.close()

    def fetch(
        self, address: str, limit: int, digest: str | None = None, size: int | None = None
    ) -> Fetched:
        """A file at an address. With a digest, what lies in the cache and has it is not asked for again.

        Raises FetchError: where it cannot be reached, is larger than promised or than the limit, or does
        not have its digest.
        """
        try:
            scheme, local = urlsplit(address).scheme, _local_path(address)
        except ValueError as error:
            raise FetchError(f"it is no address: {error}", address) from error
        self._until = time.monotonic() + self._deadline * (1 + (size or 0) // (1 << 30))
        try:
            make_private(self.folder)
            path = kept_at(self.folder, address)
            self._drop_what_is_not_ours(path)
            if digest is not None and _has_digest(path, digest):
                return Fetched(path, False, 0)
            if local is not None:
                found = self._copied(local, path, address, limit, size)
            elif scheme in ("http", "https"):
                found = self._patiently(address, path, limit, size)
            else:
                raise FetchError(
                    f"addresses of the kind {scheme or 'none'} are not fetched", address
                )
        except OSError as error:
            raise FetchError(f"it could not be kept: {error.strerror}", address) from error
        if digest is not None and not _has_digest(found.path, digest):
            self.forget(address)
            why = "what came is not what was promised: its digest is another"
            raise FetchError(why, address, wrong=True)
        return found

    @staticmethod
    def _drop_what_is_not_ours(path: str) -> None:
        """Take away what somebody else could have put in the place of what was fetched."""
        for kept in (path, f"{path}.json", f"{path}.part"):
            if os.path.lexists(kept) and not is_private(kept):
                os.unlink(kept)

    def forget(self, address: str) -> None:
        """Let go of what is kept of an address."""
        for ending in ("", ".json", ".part"):
            with contextlib.suppress(OSError):
                os.unlink(kept_at(self.folder, address) + ending)

    # -- from a folder ---------------------------------------------------------------------

    def _copied(self, local: str, path: str, address: str, limit: int, size: int | None) -> Fetched:
        if not os.path.isfile(local):
            raise FetchError("there is no such file", address, absent=True)
        found = os.stat(local).st_size
        if found > min(limit, limit if size is None else size):
            raise FetchError(
                f"it is larger than {'promised' if size else 'is reasonable'}", address
            )
        new = f"{path}.{os.getpid()}.new"
        copy_private(local, new)
        os.replace(new, path)
        return Fetched(path, True, found)

    # -- over the network ------------------------------------------------------------------

    def _patiently(self, address: str, path: str, limit: int, size: int | None) -> Fetched:
        """Try until it works, or it is clear that it will not."""
        host = urlsplit(address).netloc
        if host in self._dead:
            raise FetchError(self._dead[host], address)
        wait = self._pause
        for left in range(TRIES - 1, -1, -1):
            try:
                return self._once(address, path, limit, size)
            except Again as error:
                if time.monotonic() > self._until:
                    raise FetchError(LATE, address) from error
                if error.hopeless or not left:
                    why = str(error) if error.hopeless else f"{error}, {TRIES} times"
                    if error.unreached:
                        self._dead[host] = why
                    raise FetchError(why, address) from error
                time.sleep(min(max(wait, error.after), 60.0) * random.uniform(0.8, 1.2))
                wait *= 2
        raise AssertionError("unreachable")

    def _once(self, address: str, path: str, limit: int, size: int | None) -> Fetched:
        import httpx

        part, told = f"{path}.part", _told(f"{path}.json")
        headers = {"Accept-Encoding": "identity"}
        begun = _size(part)
        tag = told.get("part_tag")
        if begun and tag:
            headers["Range"] = f"bytes={begun}-"
            headers["If-Range"] = tag
        elif os.path.isfile(path):
            begun = 0
            if told.get("tag"):
                headers["If-None-Match"] = told["tag"]
            if told.get("changed"):
                headers["If-Modified-Since"] = told["changed"]
        try:
            with self._web.asked(address, headers, self._until) as answer:
                return self._taken(answer, address, path, begun, limit, size)
        except httpx.TimeoutException as error:
            raise Again("the server does not answer in time") from error
        except (httpx.TransportError, httpx.StreamError) as error:
            words = str(error) or type(error).__name__
            unreached = isinstance(error, httpx.ConnectError)
            # A name that nobody knows will not be known in a second.
            hopeless = unreached and "[Errno -" in words
            why = f"the connection fails: {words}"
            raise Again(why, unreached=unreached, hopeless=hopeless) from error
        except httpx.InvalidURL as error:
            raise FetchError(f"it is no address: {error}", address) from error

    def _taken(
        self, answer: Any, address: str, path: str, begun: int, limit: int, size: int | None
    ) -> Fetched:
        status = answer.status_code
        part, record = f"{path}.part", f"{path}.json"
        if status == 304 and os.path.isfile(path):
            return Fetched(path, False, 0)
        if status in (404, 410):
            raise FetchError(f"it is not there (status {status})", address, absent=True)
        if status in (408, 425, 429) or status >= 500:
            raise Again(f"the server says status {status}", seconds_to_wait(answer.headers))
        if status == 416:
            with contextlib.suppress(OSError):
                os.unlink(part)
            raise Again("the server does not know that part of it")
        if status not in (200, 206):
            raise FetchError(f"the server says status {status}", address)
        going_on = status == 206
        if going_on and not answer.headers.get("Content-Range", "").startswith(f"bytes {begun}-"):
            with contextlib.suppress(OSError):
                os.unlink(part)
            raise Again("the server sends another part than was asked for")
        start = begun if going_on else 0
        bound = limit if size is None else min(limit, size)
        claimed = _number(answer.headers.get("Content-Length"))
        if claimed is not None and start + claimed > bound:
            raise FetchError(
                f"it would be {start + claimed:,} bytes, and {bound:,} are "
                f"{'promised' if size is not None else 'reasonable'}", address, wrong=True,
            )  # fmt: skip
        tag = answer.headers.get("ETag") or answer.headers.get("Last-Modified")
        strong = tag if tag and not tag.startswith("W/") else None
        _tell(record, {**_told(record), "part_tag": strong})
        with open_private(part, "ab" if going_on else "wb") as out:
            sent = self._written(answer, out, address, start, bound, claimed)
        if claimed is not None and sent != claimed:
            raise Again("the connection ended before all was sent")
        if size is not None and start + sent != size:
            os.unlink(part)
            why = f"it is {start + sent:,} bytes, and {size:,} were promised"
            raise FetchError(why, address, wrong=True)
        os.replace(part, path)
        _tell(record, {
            "tag": answer.headers.get("ETag"),
            "changed": answer.headers.get("Last-Modified"),
        })  # fmt: skip
        return Fetched(path, True, sent)

    def _written(
        self, answer: Any, out: IO[Any], address: str, start: int, bound: int, claimed: int | None
    ) -> int:
        began = time.monotonic()
        sent = 0
        total = None if claimed is None else start + claimed
        for piece in answer.iter_raw():
            sent += len(piece)
            if start + sent > bound:
                raise FetchError(f"more than {bound:,} bytes are sent", address, wrong=True)
            out.write(piece)
            if time.monotonic() > self._until:
                raise FetchError(LATE, address)
            passed = time.monotonic() - began
            if passed > min(GRACE, self._patience) and sent < SLOWEST * passed:
                raise Again("the server sends next to nothing")
            if self._progress is not None:
                self._progress(FetchProgress(address, start + sent, total))
        return sent


def _local_path(address: str) -> str | None:
    """The path of an address on this machine; None where it is of another kind."""
    if address.startswith("file:"):
        return unquote(urlsplit(address).path)
    return address if address.startswith("/") else None


def _number(text: str | None) -> int | None:
    return int(text) if text and text.isascii() and text.isdigit() and len(text) < 19 else None


def _size(path: str) -> int:
    try:
        return os.path.getsize(path)
    except OSError:
        return 0


def _has_digest(path: str, expected: str) -> bool:
    algorithm, _, value = expected.partition(":")
    try:
        digest = hashlib.new(algorithm, usedforsecurity=False)
        with open(path, "rb") as file:
            while piece := file.read(1 << 20):
                digest.update(piece)
    except (OSError, ValueError):
        return False
    return digest.hexdigest() == value.lower()


def _told(path: str) -> dict[str, str]:
    """What a server said of a file the last time."""
    try:
        with open(path, encoding="utf-8") as file:
            found = json.load(file)
    except (OSError, ValueError):
        return {}
    rows = found.items() if isinstance(found, dict) else ()
    return {name: value for name, value in rows if isinstance(value, str)}


def _tell(path: str, facts: dict[str, Any]) -> None:
    new = f"{path}.{os.getpid()}.new"
    with open_private(new, "w") as file:
        json.dump(facts, file)
    os.replace(new, path)


# -- many at once ---------------------------------------------------------------------------


def kept_at(folder: str, address: str) -> str:
    """Where a file of an address is kept in a folder."""
    digest = hashlib.sha256(address.encode("utf-8", "surrogateescape")).hexdigest()
    # Of which version some archives are nothing but their names tell.
    # Who asks, and with which password, stands before the host, and is left out with it.
    name = _HOST.sub("", address.partition("?")[0]).rpartition("/")[2]
    return os.path.join(folder, f"{digest}.{_UNPLAIN.sub('_', name)[:_NAME_LIMIT]}")
