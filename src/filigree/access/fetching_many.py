"""Several things fetched at once, each with its digest."""

import contextlib
import queue
import threading
from collections.abc import Callable, Iterator
from typing import NamedTuple

from filigree.access.fetching import Fetched, Fetcher, FetchProgress
from filigree.access.web import (
    FetchError,
)


class FetchRequest(NamedTuple):
    """A file that is wanted, and what is promised of it."""

    address: str
    digest: str | None
    size: int | None


AT_ONCE = 4


WISH_LIMIT = 8 << 30


def fetch_all(
    folder: str,
    wishes: list[FetchRequest],
    progress: Callable[[FetchProgress], None] | None = None,
    at_once: int = AT_ONCE,
) -> Iterator[tuple[FetchRequest, Fetched | FetchError]]:
    """Fetch several files at once, each held against its digest; what fails costs itself.

    `progress` is told of all together. Closing the iterator leaves what was begun to be gone on with.
    """
    waiting: queue.SimpleQueue[FetchRequest] = queue.SimpleQueue()
    outcomes: queue.SimpleQueue[tuple[FetchRequest, Fetched | FetchError]] = queue.SimpleQueue()
    for wish in wishes:
        waiting.put(wish)
    total = sum(wish.size or 0 for wish in wishes)
    done: dict[str, int] = {}

    def told(now: FetchProgress) -> None:
        done[now.address] = now.done
        if progress is not None:
            progress(
                FetchProgress(f"{len(wishes)} files", min(sum(done.values()), total - 1), total)
            )

    def work() -> None:
        fetcher = Fetcher(folder, told)
        with contextlib.suppress(queue.Empty):
            while True:
                wish = waiting.get_nowait()
                try:
                    outcomes.put(
                        (wish, fetcher.fetch(wish.address, WISH_LIMIT, wish.digest, wish.size))
                    )
                except FetchError as error:
                    outcomes.put((wish, error))
                except Exception as error:  # whatever a server sends must not leave us waiting
                    outcomes.put((wish, FetchError(f"it failed: {error}", wish.address)))
        fetcher.close()

    for _ in range(min(at_once, len(wishes))):
        # An interrupt must not wait for a server.
        threading.Thread(target=work, daemon=True).start()
    try:
        for _ in wishes:
            yield outcomes.get()
    finally:
        if progress is not None:
            progress(FetchProgress("", total, total))
