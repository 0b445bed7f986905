"""The network: one connection at a time, redirections followed within bounds, never to an open way."""

import contextlib
import functools
import threading
import time
from collections.abc import Iterator
from typing import Any

from filigree.model.errors import FiligreeError

PATIENCE = 30.0
"""Seconds without a byte, or for a connection, after which a server is given up for this time."""


SLOWEST = 200


GRACE = 20.0
"""Fewer bytes a second than this, after so many seconds, are too few to wait for."""


DEADLINE = 3600.0
"""Seconds after which a fetch is given up, however much comes; as many for each GiB that is promised."""


REDIRECTS = 5


LATE = "it took longer in all than it may: it is given up"


_LOCAL = ("127.0.0.1", "localhost", "[::1]")


class FetchError(FiligreeError):
    """Something could not be fetched.

    `absent` is whether the server says that it is not there, `wrong` whether something came that is
    not what was promised.
    """

    def __init__(self, what: str, address: str, absent: bool = False, wrong: bool = False) -> None:
        super().__init__(what, address, "check the address, and that it can be reached from here")
        self.absent = absent
        self.wrong = wrong


class Again(Exception):
    """It may work at another try, unless it is `hopeless`; `unreached` is whether there was no answer."""

    def __init__(
        self, why: str, after: float = 0.0, unreached: bool = False, hopeless: bool = False
    ) -> None:
        super().__init__(why)
        self.after = after
        self.unreached = unreached
        self.hopeless = hopeless


class Web:
    """A connection to servers. What cannot be reached at all is not tried again."""

    def __init__(self, patience: float = PATIENCE) -> None:
        self._patience = patience
        self._clients: dict[str, Any] = {}
        self.late = False
        """Whether a deadline has cut it off."""

    def close(self) -> None:
        for client in [*self._clients.values()]:
            client.close()

    def _cut(self) -> None:
        """End what is under way: a server that sends a byte now and then is never late by itself."""
        self.late = True
        self.close()

    @contextlib.contextmanager
    def asked(self, address: str, headers: dict[str, str], until: float) -> Iterator[Any]:
        """The answer, redirections followed; none of them from an encrypted way to an open one.

        Whatever comes, at the moment `until` (of the monotonic clock) it is over: raises FetchError.
        """
        if until <= time.monotonic():
            raise FetchError(LATE, address)
        watch = threading.Timer(until - time.monotonic(), self._cut)
        watch.daemon = True
        watch.start()
        try:
            with self._followed(address, headers, until - time.monotonic()) as answer:
                yield answer
        except Exception as error:
            if not self.late and time.monotonic() < until:
                raise
            if self.late:
                self._clients, self.late = {}, False
            raise FetchError(LATE, address) from error
        finally:
            watch.cancel()

    @contextlib.contextmanager
    def _followed(self, address: str, headers: dict[str, str], left: float) -> Iterator[Any]:
        import httpx

        patience = httpx.Timeout(max(0.01, min(self._patience, left)))

        now = httpx.URL(address)
        for _ in range(REDIRECTS + 1):
            client = self._connected(now.scheme)
            if self.late:
                # The time was over before there was anything to cut off: to load what fetches takes a
                # while.
                raise FetchError(LATE, address)
            with client.stream("GET", now, headers=headers, timeout=patience) as answer:
                if answer.next_request is None:
                    yield answer
                    return
                following = answer.next_request.url
            if following.scheme not in ("http", "https"):
                raise FetchError("it leads to what is no web address", address)
            if now.scheme == "https" and following.scheme == "http":
                raise FetchError("it leads from https to http, which anybody could change", address)
            now = following
        raise FetchError(f"it leads on more than {REDIRECTS} times", address)

    def _connected(self, scheme: str) -> Any:
        """What asks servers over one scheme. To be ready to verify certificates takes longer than most
        answers: whoever asks over an open way alone does not pay for it, and cannot be led to another by
        what is not ready."""
        client = self._clients.get(scheme)
        if client is None:
            from urllib.request import getproxies

            import httpx

            sure = scheme != "http" or bool(getproxies())
            verify = _certificates() if sure else False
            # What runs on this machine is asked without any proxy between.
            mounts: dict[str, Any] = {
                f"{scheme}://{host}": httpx.HTTPTransport(verify=verify) for host in _LOCAL
            }
            if not sure:
                mounts["https://"] = httpx.MockTransport(_refused)
            client = self._clients[scheme] = httpx.Client(
                timeout=httpx.Timeout(self._patience), follow_redirects=False, mounts=mounts,
                headers={"User-Agent": "filigree"}, verify=verify,
            )  # fmt: skip
        return client


def _refused(request: Any) -> Any:
    raise FetchError("its certificate would not be looked at", str(request.url))


@functools.cache
def _certificates() -> Any:
    import httpx

    return httpx.create_ssl_context()


def seconds_to_wait(headers: Any) -> float:
    """The seconds for which a server asks to be left alone."""
    text = headers.get("Retry-After", "")
    return float(text) if text.isascii() and text.isdigit() and len(text) < 5 else 0.0
