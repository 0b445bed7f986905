"""Shared work: every job is answered for, whatever becomes of the workers."""

import multiprocessing
import os
import subprocess
import sys
import time
from pathlib import Path

import pytest

from filigree.access.workers import aside, share


def double(number: int) -> int:
    return 2 * number


def fragile(number: int) -> int:
    if number == 3:
        raise ValueError("three")
    if number == 5:
        os._exit(9)
    return number


@pytest.mark.parametrize("workers", [1, 2, 3])
def test_every_job_is_done_once(workers: int) -> None:
    done = list(share(range(100), double, workers))
    assert sorted(one.place for one in done) == list(range(100))
    assert all(one.result == 2 * one.place and one.failure is None for one in done)


def test_a_failing_job_costs_itself() -> None:
    done = {one.place: one for one in share([3, 4], fragile, 2)}
    assert done[0].result is None
    assert done[0].failure == "ValueError: three"
    assert done[1].result == 4


def test_a_worker_that_dies_costs_what_it_had_in_hand() -> None:
    done = {one.place: one for one in share([*range(5), *range(6, 20), 5], fragile, 2)}
    assert sorted(done) == list(range(20))
    assert done[19].failure == "the process that worked on it ended"
    assert sum(one.failure is not None for one in done.values()) <= 3


def test_all_workers_may_die() -> None:
    done = list(share([5] * 9, fragile, 2))
    assert sorted(one.place for one in done) == list(range(9))
    assert all(one.failure for one in done)


def test_closing_early_leaves_no_process_behind() -> None:
    before = _children()
    outcomes = share([0.01] * 50, time.sleep, 2)
    next(outcomes)
    outcomes.close()  # type: ignore[attr-defined]
    assert _children() == before


_FORK = multiprocessing.get_context("fork")
FIRST, COUNT = _FORK.Value("i", 0), _FORK.Value("i", 0)
STARTED, HELPED = _FORK.Event(), _FORK.Event()


def who(job: str) -> int:
    """Which process does a job.

    The few wait until five of the many are done; whoever did those waits then until another helps.
    """
    if job == "b":
        STARTED.wait(10)
        return os.getpid()
    with FIRST.get_lock():
        first = FIRST.value = FIRST.value or os.getpid()
        COUNT.value += 1
        done = COUNT.value
    if first != os.getpid():
        HELPED.set()
    elif done == 5:
        STARTED.set()
    elif done > 5:
        HELPED.wait(10)
    return os.getpid()


def test_kin_stay_together_and_the_idle_help_out() -> None:
    FIRST.value = COUNT.value = 0
    STARTED.clear()
    HELPED.clear()
    jobs = ["a"] * 60 + ["b"] * 5
    done = {one.place: one.result for one in share(jobs, who, 2, kin=lambda job: job)}
    assert len(done) == 65
    assert len({done[place] for place in range(5)}) == 1
    assert len({done[place] for place in range(60, 65)}) == 1
    assert HELPED.is_set()
    assert len({done[place] for place in range(60)}) == 2


def test_no_jobs() -> None:
    assert list(share([], double)) == []


def _children() -> set[str]:
    with open(f"/proc/self/task/{os.getpid()}/children") as file:
        return set(file.read().split())


@pytest.mark.parametrize("at", ["work", "rest"])
def test_no_worker_outlives_a_parent_that_was_killed(tmp_path: Path, at: str) -> None:
    """Whether a worker is in the midst of a long job, or waits for the next one."""
    code = (
        "import os, sys, time\n"
        "from pathlib import Path\n"
        "from filigree.access.workers import share\n"
        "def work(number):\n"
        "    Path(sys.argv[1], str(os.getpid())).touch()\n"
        f"    time.sleep({60 if at == 'work' else 0.01})\n"
        "for one in share(range(4), work, 2): time.sleep(60)\n"
    )
    parent = subprocess.Popen([sys.executable, "-c", code, str(tmp_path)])
    try:
        until = time.monotonic() + 20
        while len(list(tmp_path.iterdir())) < 2 and time.monotonic() < until:
            time.sleep(0.05)
        workers = [int(path.name) for path in tmp_path.iterdir()]
        assert len(workers) == 2
        assert all(map(alive, workers))
    finally:
        parent.kill()
        parent.wait()
    until = time.monotonic() + 10
    while any(map(alive, workers)) and time.monotonic() < until:
        time.sleep(0.05)
    assert not any(map(alive, workers))


def alive(pid: int) -> bool:
    """Whether a process is there, and no mere name of one that has ended."""
    try:
        state = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[0]
    except OSError:
        return False
    return state != "Z"


def test_work_that_goes_on_aside_tells_its_result_when_it_is_asked_for() -> None:
    begun = time.monotonic()

    def work() -> int:
        time.sleep(0.4)
        return os.getpid()

    result = aside(work)
    time.sleep(0.4)
    assert result() != os.getpid()
    assert time.monotonic() - begun < 0.75
    assert not multiprocessing.active_children()


def test_work_aside_that_fails_is_done_here() -> None:
    here = os.getpid()
    assert aside(lambda: 1 // int(os.getpid() == here))() == 1


def test_work_aside_that_dies_is_done_here() -> None:
    here = os.getpid()

    def work() -> str:
        if os.getpid() != here:
            os._exit(9)
        return "done"

    assert aside(work)() == "done"


def test_with_one_processor_nothing_goes_on_aside(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("filigree.access.workers.processors", lambda: 1)
    assert aside(os.getpid)() == os.getpid()
