"""Progress on standard error: only on a terminal, only for what takes longer than a second."""

import sys
import time
from typing import TYPE_CHECKING

from filigree.views.text import escaped, size_words

if TYPE_CHECKING:
    from collections.abc import Iterator

    from filigree.access.fetching import FetchProgress
    from filigree.questions.keeping.taking import TakingProgress
    from filigree.questions.offers.options import Working
    from filigree.questions.verifying.verdicts import VerifyProgress

PATIENCE = 1.0
PACE = 0.2


class Line:
    """One line that is written over, after a while of waiting; gone when it is closed."""

    def __init__(self) -> None:
        self.started = time.monotonic()
        self._shown = 0.0
        self._terminal = sys.stderr.isatty()

    def due(self) -> bool:
        """Whether it is time to say how far it has come."""
        moment = time.monotonic()
        if not self._terminal or moment - self.started < PATIENCE or moment - self._shown < PACE:
            return False
        self._shown = moment
        return True

    def write(self, words: str) -> None:
        """Show a text in the place of what was shown; nothing where nobody watches."""
        sys.stderr.write(f"\r\x1b[K{words}")
        sys.stderr.flush()

    def close(self) -> None:
        """Take the line away."""
        if self._shown:
            self._shown = 0.0
            sys.stderr.write("\r\x1b[K")
            sys.stderr.flush()


class FetchLine(Line):
    """What is fetched, and how far that has come."""

    def __call__(self, now: "FetchProgress") -> None:
        if now.done == now.total:
            self.close()
        elif self.due():
            name = escaped(now.address.rpartition("/")[2])[:40]
            share = f"{now.done / now.total:5.0%}  " if now.total else ""
            self.write(f"{share}{size_words(now.done)} of {name}")


class WorkLine(Line):
    """What is made of an index for the first time, and how far that has come."""

    def __call__(self, now: "Working") -> None:
        if now.done == now.total:
            self.close()
        elif self.due():
            share = f"{now.done / now.total:5.0%}  " if now.total else ""
            self.write(f"{share}{escaped(now.what)[:60]}: {now.done:,}")


class LayerLine(Line):
    """How much of an image's layers was read; several processes write it."""

    def __call__(self, done: int, total: int) -> None:
        if self.due():
            share = f"{done / total:5.0%}  " if total else ""
            self.write(f"{share}{size_words(done)} of the image's layers")

    def close(self) -> None:
        """Take the line away, whoever wrote it."""
        if self._terminal and time.monotonic() - self.started > PATIENCE:
            self.write("")


class TakingPage(Line):
    """What was done for a snapshot so far, a line a step: how far each has come, and the time left of the
    last."""

    def __init__(self) -> None:
        super().__init__()
        self._steps: dict[str, TakingProgress] = {}
        self._began: dict[str, float] = {}
        self._lines = 0

    def __call__(self, now: "TakingProgress") -> None:
        self._began.setdefault(now.what, time.monotonic())
        self._steps[now.what] = now
        if self.due():
            self._clear()
            for told in self._told():
                sys.stderr.write(f"{told}\n")
            self._lines = len(self._steps)
            sys.stderr.flush()

    def _told(self) -> "Iterator[str]":
        last = next(reversed(self._steps))
        for what, step in self._steps.items():
            of = f" of {step.total:,}" if step.total else ""
            share = step.done / step.total if step.total else 0.0
            mark = " done" if what != last else f"{share:5.0%}" if step.total else "  …  "
            passed = time.monotonic() - self._began[what]
            left = f", {passed / share - passed:,.0f} s left" if what == last and share else ""
            yield f"{mark}  {step.done:,}{of} {what}{left}"

    def _clear(self) -> None:
        if self._lines:
            sys.stderr.write(f"\x1b[{self._lines}F\x1b[J")
        self._lines = 0

    def close(self) -> None:
        """Take the page away."""
        self._clear()
        sys.stderr.flush()


class CountLine(Line):
    """How many of something were looked at so far, where nobody knows of how many."""

    def __init__(self, what: str) -> None:
        super().__init__()
        self._what = what

    def __call__(self, count: int) -> None:
        if self.due():
            self.write(f"{count:,} {self._what}")


class ProgressLine(Line):
    """How far a check has come, with rate and time left."""

    def __call__(self, now: "VerifyProgress") -> None:
        if not self.due():
            return
        passed = time.monotonic() - self.started
        share = now.done / now.total if now.total else 1.0
        left = f"{passed / share - passed:,.0f} s left" if share else ""
        rate = f"{size_words(int(now.bytes_read / passed))}/s"
        self.write(f"{share:5.0%}  {now.done:,} of {now.total:,} paths, {rate}, {left}")


class GatherLine(Line):
    """What is taken into a store, and how many of how many there were before it."""

    def __call__(self, what: str, done: int, total: int) -> None:
        if self.due():
            self.write(f"{done:,} of {total:,}  {escaped(what.rpartition('/')[2])[:50]}")
