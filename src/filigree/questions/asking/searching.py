"""The auditor's own regular expressions, searched for within a time.

An engine whose time grows with the text alone takes most of them. What it cannot express (a look
around, a reference to an earlier part) is left to the other one, which may try without end: it is
stopped. Once the time is over nothing more is searched, and how much that was is told.
"""

import re
import signal
import threading
from collections.abc import Callable
from time import perf_counter
from types import FrameType
from typing import Any, Protocol

from filigree.model.answer import Gap
from filigree.model.errors import BadQuestion
from filigree.model.hints import Hint

SECONDS = 10.0
"""So long all searches for the expressions of one question may take."""


class Match(Protocol):
    """Where an expression was found."""

    def start(self) -> int:
        """Where a match begins, in signs."""
        ...

    def end(self) -> int:
        """Where a match ends, in signs."""
        ...


class _TooLong(Exception):
    """The time is over in the midst of a search."""


class Search:
    """Expressions that share a time. Raises BadQuestion where one is none."""

    def __init__(self, insensitive: bool, seconds: float | None = None) -> None:
        self._insensitive = insensitive
        self._seconds = self._left = SECONDS if seconds is None else seconds
        self._skipped = 0

    def compiled(self, text: str) -> Callable[[str], Match | None]:
        """What searches for an expression in a text."""
        flags = (re.IGNORECASE if self._insensitive else 0) | re.MULTILINE
        try:
            careful = re.compile(text, flags).search
        except (re.error, OverflowError, RecursionError) as error:
            raise BadQuestion(
                f"it is no regular expression: {error}", None, Hint.NO_EXPRESSION
            ) from error
        quick = _quick(text, self._insensitive)
        if quick is None and threading.current_thread() is not threading.main_thread():
            raise BadQuestion(
                "an expression that could take without end", None, "write a simpler one"
            )

        def search(subject: str) -> Match | None:
            if self._left <= 0:
                self._skipped += 1
                return None
            started = perf_counter()
            try:
                return quick(subject) if quick is not None else self._stopped(careful, subject)
            except UnicodeEncodeError:  # bytes that are no text
                return self._stopped(careful, subject)
            except _TooLong:
                self._skipped += 1
                return None
            finally:
                self._left -= perf_counter() - started

        return search

    @property
    def gap(self) -> Gap | None:
        """What was not searched any more; None where all was."""
        if not self._skipped:
            return None
        why = f"the expression took more than {self._seconds:g} seconds"
        return Gap(f"{self._skipped:,} texts that were not searched", why)

    def _stopped(self, search: Callable[[str], Any], subject: str) -> Match | None:
        """A search that is stopped when the time is over."""

        def stop(_: int, __: FrameType | None) -> None:
            raise _TooLong

        before = signal.signal(signal.SIGALRM, stop)
        try:
            signal.setitimer(signal.ITIMER_REAL, max(self._left, 0.001))
            found: Match | None = search(subject)
            return found
        finally:
            signal.setitimer(signal.ITIMER_REAL, 0)
            signal.signal(signal.SIGALRM, before)


def _quick(text: str, insensitive: bool) -> Callable[[str], Any] | None:
    """A search by the engine that looks once; None where that cannot express it."""
    import re2

    options = re2.Options()
    options.log_errors = False
    options.case_sensitive = not insensitive
    try:
        search: Callable[[str], Any] = re2.compile(f"(?m){text}", options).search
        return search
    except (re2.error, UnicodeEncodeError):
        return None
