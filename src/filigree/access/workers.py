"""Share a list of jobs over processes, and lose nothing when one of them fails or is interrupted.

Processes and not threads: between two digests of small files there is much Python. The parent hands
out one job at a time, with one in reserve, so that a worker never waits and a slow job never
blocks others. Workers ignore the keyboard; the parent stops them.
"""

import gc
import multiprocessing
import os
import signal
import threading
import time
from collections import deque
from collections.abc import Callable, Hashable, Iterator, Sequence
from itertools import groupby
from multiprocessing.connection import Connection, wait
from typing import Any, Generic, NamedTuple, TypeVar

J = TypeVar("J")
T = TypeVar("T")

IN_HAND = 2


class Done(NamedTuple, Generic[T]):
    """One job's outcome: the job's place in the list, and its result or why there is none."""

    place: int
    result: T | None
    failure: str | None


class _Manner:
    alone = False


def stay_alone() -> None:
    """Have no worker from now on: what is to be done is done in this process."""
    _Manner.alone = True


def is_alone() -> bool:
    """Whether this process is to have no worker."""
    return _Manner.alone


def processors() -> int:
    """How many processors this process may use."""
    return len(os.sched_getaffinity(0))


def share(
    jobs: Sequence[J],
    work: Callable[[J], T],
    workers: int | None = None,
    kin: Callable[[J], Hashable] = id,
    in_hand: int = IN_HAND,
) -> Iterator[Done[T]]:
    """Do `work` on each job, in as many processes as there are processors; outcomes as they come.

    Neighbours of one `kin` go to one worker, which may keep what they have in common, until others
    have nothing left to do. `work` and what it refers to are inherited, not copied: the job's
    index alone is sent. A worker has `in_hand` jobs at most: 1 where they are few and long. Closing the
    iterator ends the workers. With one worker, or where processes cannot be forked, it is done here.
    """
    count = min(workers or processors(), len(jobs))
    if count <= 1 or not _can_fork():
        for index, job in enumerate(jobs):
            yield Done(index, work(job), None)
        return
    crew = _Crew(jobs, work, count, kin, in_hand)
    try:
        yield from crew.outcomes()
    finally:
        crew.dismiss()


def aside(work: Callable[[], T]) -> Callable[[], T]:
    """Begin `work` in a process of its own; what is returned waits for its result.

    What it changes in memory is lost: all that matters has to be in the result. Where there is one
    processor only, where processes cannot be forked, or where that one ends early or fails, the work is
    done here, when its result is asked for.
    """
    if processors() < _TWO or not _can_fork():
        return work
    crew = _Crew((None,), lambda _: work(), 1, id)
    crew.begin()

    def result() -> T:
        done = next(crew.outcomes())
        crew.dismiss()
        return work() if done.failure is not None else done.result  # type: ignore[return-value]

    return result


def _can_fork() -> bool:
    """Nor has a worker any of its own."""
    if is_alone() or multiprocessing.current_process().daemon:
        return False
    return "fork" in multiprocessing.get_all_start_methods()


_TWO = 2
_PARENT_PACE = 0.25
"""Seconds between two looks for the parent."""


class _Crew(Generic[J, T]):
    def __init__(
        self,
        jobs: Sequence[J],
        work: Callable[[J], T],
        count: int,
        kin: Callable[[J], Hashable],
        in_hand: int = IN_HAND,
    ) -> None:
        self._in_hand = in_hand
        families = groupby(range(len(jobs)), key=lambda place: kin(jobs[place]))
        self._waiting = deque(deque(places) for _, places in families)
        self._taken: dict[Connection, deque[int]] = {}
        context = multiprocessing.get_context("fork")
        self._processes = []
        self._hands: dict[Connection, list[int]] = {}
        for _ in range(count):
            here, there = context.Pipe()
            others = [here, *self._hands]
            process = context.Process(target=_serve, args=(there, others, jobs, work), daemon=True)
            process.start()
            there.close()
            self._processes.append(process)
            self._hands[here] = []

    def begin(self) -> None:
        """Have all workers begin, before any outcome is asked for."""
        for hand in list(self._hands):
            self._fill(hand)

    def outcomes(self) -> Iterator[Done[T]]:
        self.begin()
        while any(self._hands.values()):
            for ready in wait([hand for hand, jobs in self._hands.items() if jobs]):
                assert isinstance(ready, Connection)
                yield from self._receive(ready)

    def _receive(self, hand: Connection) -> Iterator[Done[T]]:
        try:
            index, result, failure = hand.recv()
        except (EOFError, OSError):
            lost = self._hands.pop(hand)
            for index in lost:
                yield Done(index, None, "the process that worked on it ended")
            self._waiting.appendleft(self._taken.pop(hand, deque()))
            if not self._hands:
                for place in (place for places in self._waiting for place in places):
                    yield Done(place, None, "no process was left to work on it")
            return
        self._hands[hand].remove(index)
        self._fill(hand)
        yield Done(index, result, failure)

    def _fill(self, hand: Connection) -> None:
        mine = self._hands[hand]
        while len(mine) < self._in_hand and (place := self._next_for(hand)) is not None:
            mine.append(place)
            try:
                hand.send(place)
            except OSError:
                pass  # the worker is gone: receiving from it tells

    def _next_for(self, hand: Connection) -> int | None:
        """The next of the kin at hand, else the first of others, else the last of another's."""
        if not self._taken.get(hand):
            while self._waiting and not self._waiting[0]:
                self._waiting.popleft()
            if self._waiting:
                self._taken[hand] = self._waiting.popleft()
        mine = self._taken.get(hand)
        if mine:
            return mine.popleft()
        longest = max(self._taken.values(), key=len, default=None)
        return longest.pop() if longest else None

    def dismiss(self) -> None:
        for hand in self._hands:
            hand.close()
        for process in self._processes:
            process.terminate()
        for process in self._processes:
            process.join()


def _end_with(parent: int) -> None:
    """End this worker when its parent is gone, whatever it is at: nobody would take what it finds."""
    while os.getppid() == parent:
        time.sleep(_PARENT_PACE)
    os._exit(0)


def _serve(
    hand: Connection,
    others: list[Connection],
    jobs: Sequence[Any],
    work: Callable[[Any], Any],
) -> None:
    """A worker's life: take an index, do the job, send the outcome."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    threading.Thread(target=_end_with, args=(os.getppid(),), daemon=True).start()
    # What a job makes has no cycles, and what was inherited should stay shared.
    gc.disable()
    gc.freeze()
    for other in others:
        other.close()
    while True:
        try:
            index = hand.recv()
        except (EOFError, OSError):
            os._exit(0)
        outcome: tuple[int, Any, str | None]
        try:
            outcome = (index, work(jobs[index]), None)
        except Exception as error:  # a worker must outlive any one job; the parent reports it
            outcome = (index, None, f"{type(error).__name__}: {error}")
        try:
            hand.send(outcome)
        except OSError:
            os._exit(0)
