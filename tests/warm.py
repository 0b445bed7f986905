"""A process that has loaded the program, and gives birth to one for each call: a start costs some ten
milliseconds in the place of three hundred, and each call still has a process, limits and streams of its
own."""

import atexit
import contextlib
import functools
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from typing import IO, Any, NamedTuple

_OURS = ("LANG", "LC_", "PYTHON")
"""What a process reads when it starts: who sets it needs a process that starts."""


_AT_START = {name: value for name, value in os.environ.items() if name.startswith(_OURS)}


class Done(NamedTuple):
    """How a call ended: its status (negative: the signal), what it said, and the peak of its memory, in
    MiB."""

    status: int
    out: str
    err: str
    peak: int


def needs_a_start(environment: Mapping[str, str]) -> bool:
    """Whether an environment says something else than the first one of what is read at a start."""
    told = {name: value for name, value in environment.items() if name.startswith(_OURS)}
    return told != _AT_START


def call(
    words: Sequence[str], environment: Mapping[str, str], timeout: float = 120.0,
    limits: Mapping[str, int] | None = None,
) -> Done:  # fmt: skip
    """Call the program with words, in an environment; `limits` are numbers of resources with what may be
    had of each. Raises subprocess.TimeoutExpired."""
    told = {
        "words": list(words), "environment": dict(environment), "folder": os.getcwd(),
        "limits": dict(limits or {}),
    }  # fmt: skip
    with tempfile.TemporaryFile() as out, tempfile.TemporaryFile() as err:
        here, there = socket.socketpair()
        with here, there:
            streams = [there.fileno(), out.fileno(), err.fileno()]
            socket.send_fds(_mother(), [b"!"], streams)
            there.close()
            data = json.dumps(told).encode()
            here.sendall(len(data).to_bytes(4, "big") + data)
            child = int.from_bytes(_exactly(here, 4), "big")
            here.settimeout(timeout)
            try:
                status, peak = json.loads(_exactly(here, int.from_bytes(_exactly(here, 4), "big")))
            except TimeoutError as error:
                os.kill(child, signal.SIGKILL)
                raise subprocess.TimeoutExpired(list(words), timeout) from error
        return Done(status, _whole(out), _whole(err), peak)


def _whole(stream: IO[bytes]) -> str:
    stream.seek(0)
    return stream.read().decode("utf-8", "replace")


def _exactly(stream: socket.socket, size: int) -> bytes:
    found = b""
    while len(found) < size:
        more = stream.recv(size - len(found))
        if not more:
            raise RuntimeError("the process that gives birth to others is gone")
        found += more
    return found


@functools.cache
def _mother() -> socket.socket:
    here, there = socket.socketpair(socket.AF_UNIX, socket.SOCK_DGRAM)
    process = subprocess.Popen(
        [sys.executable, __file__, str(there.fileno())], pass_fds=[there.fileno()],
        stdin=subprocess.DEVNULL,
    )  # fmt: skip
    there.close()
    atexit.register(process.wait)
    atexit.register(here.close)  # at its end the mother ends, too
    atexit.register(process.terminate)
    return here


# -- the mother -------------------------------------------------------------------------------------


def _serve(calls: socket.socket) -> None:
    import importlib
    import pkgutil

    import filigree

    for one in pkgutil.walk_packages(filigree.__path__, "filigree."):
        if not one.name.startswith(("filigree.demo", "filigree.fleet", "filigree.views.pictures")):
            importlib.import_module(one.name)
    signal.signal(signal.SIGCHLD, signal.SIG_IGN)  # nobody waits for those who wait
    while True:
        _, streams, _, _ = socket.recv_fds(calls, 1, 3)
        if not streams:
            return
        if os.fork() == 0:
            _wait_for_one(socket.socket(fileno=streams[0]), streams[1:])
        for stream in streams:
            os.close(stream)


def _wait_for_one(line: socket.socket, streams: Sequence[int]) -> None:
    """Give birth to the program, and tell how it ended; never returns."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    told: dict[str, Any] = json.loads(_exactly(line, int.from_bytes(_exactly(line, 4), "big")))
    child = os.fork()
    if child == 0:
        line.close()
        _become(told, streams)
    line.sendall(child.to_bytes(4, "big"))
    _, status, used = os.wait4(child, 0)
    data = json.dumps([os.waitstatus_to_exitcode(status), used.ru_maxrss >> 10]).encode()
    with contextlib.suppress(BrokenPipeError):  # nobody waited so long
        line.sendall(len(data).to_bytes(4, "big") + data)
    os._exit(0)


def _become(told: dict[str, Any], streams: Sequence[int]) -> None:
    """Be the program; never returns."""
    import io
    import resource

    status = 99
    try:
        for number, stream in enumerate([os.open(os.devnull, os.O_RDONLY), *streams]):
            os.dup2(stream, number)
            os.close(stream)
        os.environ.clear()
        os.environ.update(told["environment"])
        os.chdir(told["folder"])
        signal.signal(signal.SIGINT, signal.default_int_handler)
        for name, most in told["limits"].items():
            resource.setrlimit(int(name), (most, most))
        sys.argv = ["filigree", *told["words"]]
        sys.stdin = open(0, closefd=False)  # noqa: SIM115
        out, err = (os.fdopen(number, "wb", closefd=False) for number in (1, 2))
        sys.stdout = io.TextIOWrapper(out, "utf-8", "surrogateescape")
        sys.stderr = io.TextIOWrapper(err, "utf-8", "backslashreplace", line_buffering=True)
        from filigree.__main__ import run

        try:
            run()
            status = 0
        except SystemExit as ended:
            status = ended.code if isinstance(ended.code, int) else bool(ended.code)
        atexit._run_exitfuncs()
        sys.stdout.flush()
        sys.stderr.flush()
    except BaseException:
        import traceback

        traceback.print_exc()
        sys.stderr.flush()
    finally:
        os._exit(status)


if __name__ == "__main__":
    _serve(socket.socket(fileno=int(sys.argv[1])))
