"""Logs of a family below a root: with those that were rotated, and packed."""

from bisect import bisect_right
from collections.abc import Callable, Collection, Iterable, Iterator
from typing import NamedTuple

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Report
from filigree.families.shared.indexes import unpacked_pieces
from filigree.families.shared.looking import names_in
from filigree.formats.change_logs import Logged, LoggedRun
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, words_of
from filigree.model.events import Clock, Event, Session

LOG_LIMIT = 256 << 20
Reader = Callable[[bytes, Collection[str] | None], Iterable[Logged]]
RunReader = Callable[[bytes], Iterable[LoggedRun]]


class LogFile(NamedTuple):
    """One file of a log: where it lies, and what is in it."""

    place: str
    data: bytes


def log_files(tree: Tree, path: str, report: Report) -> Iterator[LogFile]:
    """A log and what was rotated of it. What cannot be read is a gap."""
    folder, _, called = path.rpartition("/")
    for name in names_in(tree, folder, report):
        if name != called and not name.startswith((f"{called}.", f"{called}-")):
            continue
        place = f"{folder}/{name}"
        pieces, size = [], 0
        try:
            for piece in unpacked_pieces(tree, place):
                pieces.append(piece)
                size += len(piece)
                if size > LOG_LIMIT:
                    report(Gap(place, f"what follows after {LOG_LIMIT:,} bytes was not read"))
                    break
        except (AccessError, UnpackError) as error:
            report(Gap(place, words_of(error)))
        yield LogFile(place, b"".join(pieces))


def event_of(one: Logged, place: str, session: Session | None = None) -> Event:
    """A step of a log as an event."""
    clock = Clock.LOG if one.zoned else Clock.LOCAL_LOG
    return Event(one.at, one.action, one.name, one.version, one.architecture, place, clock, session)


class Runs:
    """The transactions that one file of a log tells, to be found by where a step stands."""

    def __init__(self, place: str, runs: Iterable[LoggedRun]) -> None:
        self._sessions: list[Session] = []
        self._starts: list[int] = []
        self._ends: list[int] = []
        for run in runs:
            self._starts.append(run.start)
            self._ends.append(run.end)
            self._sessions.append(Session(
                f"{place}@{run.start}", run.began, run.ended, None, run.command, run.outcome, place,
            ))  # fmt: skip

    def at(self, offset: int) -> Session | None:
        """The transaction in which a step at that place was done."""
        number = bisect_right(self._starts, offset) - 1
        return self._sessions[number] if number >= 0 and offset < self._ends[number] else None


class LoggedHistory:
    """A history that a family writes as a log, with its transactions where `runs` reads those."""

    arrivals = True

    def __init__(
        self, tree: Tree, path: str, read: Reader, report: Report, runs: RunReader | None = None
    ) -> None:
        self._tree = tree
        self._path = path
        self._read = read
        self._runs = runs
        self._report = report

    def events(self, names: Collection[str] | None = None) -> Iterator[Event]:
        for place, data in log_files(self._tree, self._path, self._report):
            runs = Runs(place, self._runs(data) if self._runs is not None else ())
            for one in self._read(data, names):
                yield event_of(one, place, runs.at(one.offset))
