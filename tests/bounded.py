"""Runs a piece of work in a process of its own, with limits that it can break: time, processor,
memory."""

import os
import resource
import subprocess
import sys
from collections.abc import Mapping
from typing import NamedTuple

from tests.warm import call

MEBIBYTE = 1 << 20


class Ended(NamedTuple):
    """How it ended: its status, what it said, and the most memory that it had, in MiB."""

    status: int
    out: str
    err: str
    peak: int


def run_bounded(
    *words: str, seconds: int = 30, memory: int = 1024, environment: Mapping[str, str] | None = None
) -> Ended:
    """A command with so many seconds of processor time, and so many MiB of address space.

    Its peak of memory is told by itself, on the last line of what it writes as an error.
    """

    def limit() -> None:
        resource.setrlimit(resource.RLIMIT_CPU, (seconds, seconds))
        resource.setrlimit(resource.RLIMIT_AS, (memory * MEBIBYTE, memory * MEBIBYTE))

    # By the kernel's account of this very program: what was before it took its place counts elsewhere.
    code = (
        "import atexit, sys\n"
        "def peak():\n"
        "    with open('/proc/self/status') as file:\n"
        "        told = next(line for line in file if line.startswith('VmHWM'))\n"
        "    print('\\npeak', int(told.split()[1]) >> 10, file=sys.stderr)\n"
        "atexit.register(peak)\n"
    )
    done = subprocess.run(
        [sys.executable, "-c", code + words[0], *words[1:]], capture_output=True, text=True,
        check=False, timeout=6 * seconds, preexec_fn=limit,
        env={**os.environ, "NO_COLOR": "1", **(environment or {})},
    )  # fmt: skip
    err, _, peak = done.stderr.rpartition("\npeak ")
    return Ended(done.returncode, done.stdout, err or done.stderr, int(peak or 0))


def ask_bounded(*words: str, seconds: int = 30, memory: int = 1024) -> Ended:
    """The command line, asked so."""
    limits = {str(resource.RLIMIT_CPU): seconds, str(resource.RLIMIT_AS): memory * MEBIBYTE}
    done = call(words, {**os.environ, "NO_COLOR": "1"}, 6.0 * seconds, limits)
    return Ended(done.status, done.out, done.err, done.peak)
