"""Progress on standard error: only on a terminal, only for what takes longer than a second."""

import sys
import time
from typing import TYPE_CHECKING

from filigree.views.text import escaped, size_words

if TYPE_CHECKING:
    from filigree.access.fetching import Progress as Fetching
    from filigree.questions.verify import Progress

PATIENCE = 1.0
PACE = 0.2


class FetchLine:
    """One line that is written over: what is fetched, and how far that has come."""

    def __init__(self) -> None:
        self._started = time.monotonic()
        self._shown = 0.0
        self._terminal = sys.stderr.isatty()

    def __call__(self, now: "Fetching") -> None:
        moment = time.monotonic()
        if now.done == now.total:
            self.close()
            return
        waited = moment - self._started >= PATIENCE and moment - self._shown >= PACE
        if not self._terminal or not waited:
            return
        self._shown = moment
        name = escaped(now.address.rpartition("/")[2])[:40]
        share = f"{now.done / now.total:5.0%}  " if now.total else ""
        sys.stderr.write(f"\r\x1b[K{share}{size_words(now.done)} of {name}")
        sys.stderr.flush()

    def close(self) -> None:
        """Take the line away."""
        if self._shown:
            self._shown = 0.0
            sys.stderr.write("\r\x1b[K")
            sys.stderr.flush()


class ProgressLine:
    """One line that is written over, with rate and time left; gone when it is closed."""

    def __init__(self) -> None:
        self._started = time.monotonic()
        self._shown = 0.0
        self._terminal = sys.stderr.isatty()

    def __call__(self, now: "Progress") -> None:
        moment = time.monotonic()
        passed = moment - self._started
        if not self._terminal or passed < PATIENCE or moment - self._shown < PACE:
            return
        self._shown = moment
        share = now.done / now.total if now.total else 1.0
        left = f"{passed / share - passed:,.0f} s left" if share else ""
        rate = f"{size_words(int(now.bytes_read / passed))}/s"
        sys.stderr.write(
            f"\r\x1b[K{share:5.0%}  {now.done:,} of {now.total:,} paths, {rate}, {left}"
        )
        sys.stderr.flush()

    def close(self) -> None:
        if self._shown:
            sys.stderr.write("\r\x1b[K")
            sys.stderr.flush()
