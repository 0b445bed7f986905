"""`filigree`, and `python -m filigree`: the rim, where every error ends as words and a status."""

import os
import sys


def run() -> None:
    """Run the command line, and end the process."""
    for stream in (sys.stdout, sys.stderr):
        stream.reconfigure(encoding="utf-8", errors="backslashreplace")  # type: ignore[union-attr]
    sys.exit(_status())


def _status() -> int:
    from filigree.model.errors import FiligreeError

    try:
        from filigree.cli.app import app

        app(prog_name="filigree")
    except SystemExit as end:
        return _flushed(end.code if isinstance(end.code, int) else int(bool(end.code)))
    except FiligreeError as error:
        _tell(error)
        return 2
    except KeyboardInterrupt:
        sys.stderr.write("\nfiligree: interrupted\n")
        return 130
    except BrokenPipeError:
        return _silenced()
    return _flushed(0)


def _flushed(status: int) -> int:
    """Write out what is left; a reader who has gone away is no error."""
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        return _silenced()
    return status


def _silenced() -> int:
    """Nobody reads any more: leave nothing to be flushed at the end."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
    return 0


def _tell(error: Exception) -> None:
    from filigree.model.errors import FiligreeError
    from filigree.views.text import escaped

    assert isinstance(error, FiligreeError)
    sys.stderr.write(f"filigree: {escaped(error.what)}\n")
    if error.where:
        sys.stderr.write(f"  where: {escaped(error.where)}\n")
    if error.advice:
        sys.stderr.write(f"  what to do: {escaped(error.advice)}\n")


if __name__ == "__main__":
    run()
