"""Shared work: every job is answered for, whatever becomes of the workers."""

import os
import time

import pytest

from filigree.access.workers import share


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


def who(_: object) -> int:
    time.sleep(0.002)
    return os.getpid()


def test_kin_stay_together_and_the_idle_help_out() -> None:
    jobs = ["a"] * 60 + ["b"] * 5
    done = {one.place: one.result for one in share(jobs, who, 2, kin=lambda job: job)}
    assert len(done) == 65
    assert len({done[place] for place in range(5)}) == 1
    assert len({done[place] for place in range(60, 65)}) == 1
    assert len({done[place] for place in range(60)}) == 2


def test_no_jobs() -> None:
    assert list(share([], double)) == []


def _children() -> set[str]:
    with open(f"/proc/self/task/{os.getpid()}/children") as file:
        return set(file.read().split())
