"""`filigree`, and `python -m filigree`: the rim, where every error ends as words and a status."""

import gc
import os
import signal
import sys
from io import TextIOWrapper

UNANSWERED = 2
INTERRUPTED = 130


def run() -> None:
    """Run the command line, and end the process."""
    # What answers are made of has no cycles: to look for some after every 700 new things takes a tenth of
    # the time of a large answer. They are still looked for, and found.
    gc.set_threshold(200_000, 5, 5)
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:  # closed by the caller: what is said there is for nobody
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115
        elif isinstance(stream, TextIOWrapper):
            stream.reconfigure(encoding="utf-8", errors="backslashreplace")
    code = status()
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # it is over: the status stands
    sys.exit(code)


def status() -> int:
    """Run the command line; the exit status comes back, whatever happens."""
    try:
        return _flushed(_run())
    except KeyboardInterrupt:
        _say("interrupted")
        return INTERRUPTED
    except BrokenPipeError:
        _silence()
        return 0
    except OSError as error:
        _silence()
        _say(f"the answer cannot be written: {error.strerror or error}")
        return UNANSWERED
    except Exception as error:
        return _own_error(error)


def _run() -> int:
    from filigree.model.errors import FiligreeError

    try:
        from filigree.cli.app import app

        app(prog_name="filigree")
    except SystemExit as end:
        return end.code if isinstance(end.code, int) else int(bool(end.code))
    except FiligreeError as error:
        _say(error.what)
        if error.where:
            _say(error.where, "  where: ")
        if error.advice:
            from filigree.cli.hints import worded

            _say(worded(error.advice), "  what to do: ")
        return UNANSWERED
    return 0


def _flushed(code: int) -> int:
    sys.stdout.flush()
    return code


def _silence() -> None:
    """Nobody takes what is written any more: leave nothing to be flushed at the end."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _own_error(error: Exception) -> int:
    """What must not happen: said as what it is, with the place for whoever mends it."""
    import traceback

    place = traceback.extract_tb(error.__traceback__)[-1]
    where = f"{os.path.basename(place.filename)}, line {place.lineno}"
    _say(f"an error of our own, not of the system: {type(error).__name__}: {error}")
    _say(where, "  where: ")
    _say("report it, together with the command", "  what to do: ")
    return UNANSWERED


def _say(text: str, lead: str = "filigree: ") -> None:
    from filigree.views.text import escaped

    sys.stderr.write(f"{lead}{escaped(text)}\n")


if __name__ == "__main__":
    run()
