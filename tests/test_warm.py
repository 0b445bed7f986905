"""The process that gives birth to others: what they do is what the installed program does."""

import os
import resource
import subprocess
import sys
from pathlib import Path

import pytest

from tests import warm

CALLS = {
    "an answer": ("verify", "foghorn"), "no such package": ("dossier", "foghron"),
    "a wrong option": ("census", "--sidewards"), "help": ("verify", "--help"), "no root": ("survey", "x"),
}  # fmt: skip


@pytest.mark.parametrize("name", CALLS)
def test_it_does_what_a_program_that_starts_does(heron: Path, name: str) -> None:
    words = [*CALLS[name], *(["--root", str(heron)] if name != "help" else [])]
    environment = {**os.environ, "NO_COLOR": "1", "COLUMNS": "100"}
    born = warm.call(words, environment)
    started = subprocess.run(
        [sys.executable, "-m", "filigree", *words], capture_output=True, text=True, check=False,
        env=environment, stdin=subprocess.DEVNULL,
    )  # fmt: skip
    assert (born.status, born.out, born.err) == (started.returncode, started.stdout, started.stderr)
    assert 8 < born.peak < 300


def test_limits_can_be_broken(heron: Path) -> None:
    little = {str(resource.RLIMIT_AS): 1 << 20}
    done = warm.call(["verify", "--root", str(heron)], dict(os.environ), limits=little)
    assert done.status != 1  # what it answers with bad news and no limit
    with pytest.raises(subprocess.TimeoutExpired):
        warm.call(["verify", "--root", str(heron)], dict(os.environ), timeout=0.001)


def test_what_is_read_at_a_start_needs_one() -> None:
    assert not warm.needs_a_start({**os.environ, "COLUMNS": "9"})
    assert warm.needs_a_start({**os.environ, "LC_ALL": "C.odd"})
    assert warm.needs_a_start({**os.environ, "PYTHONPATH": "/nowhere"})
