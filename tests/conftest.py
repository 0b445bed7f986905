"""What the tests share: the station, small roots, and the installed program."""

import faulthandler
import io
import json
import os
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from filigree.__main__ import status
from filigree.demo.archives import write_archives
from filigree.demo.curlew import build_curlew
from filigree.demo.dunlin import build_dunlin
from filigree.demo.heron import build_heron
from filigree.demo.images import NAMES, write_images
from filigree.demo.plover import build_plover
from filigree.demo.sanderling import build_sanderling
from filigree.demo.stages import SETTLED
from filigree.demo.walk import STATIONS
from filigree.formats.unpacking import renew_allowance
from filigree.model.events import Event
from filigree.system import System
from tests import warm
from tests.making import DebRoot

settings.register_profile("bounded", max_examples=40, deadline=None, derandomize=True)
settings.register_profile("long", max_examples=2000, deadline=None)
PROFILE = os.environ.get("HYPOTHESIS_PROFILE", "bounded")
LONG = PROFILE == "long"
settings.load_profile(PROFILE)

OWN_FAULT = "an error of our own"
Run = Callable[..., "subprocess.CompletedProcess[str]"]


def beside(site: Path) -> str:
    """A folder of another distribution package, before what is already looked through for modules."""
    return os.pathsep.join(filter(None, (str(site), os.environ.get("PYTHONPATH"))))


@pytest.fixture(scope="session")
def heron(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The station heron. Shared: no test may change it."""
    return build_heron(tmp_path_factory.mktemp("stations") / "heron")


@pytest.fixture(scope="session")
def curlew(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The station curlew. Shared: no test may change it."""
    return build_curlew(tmp_path_factory.mktemp("stations") / "curlew")


@pytest.fixture(scope="session")
def plover(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The station plover. Shared: no test may change it."""
    return build_plover(tmp_path_factory.mktemp("stations") / "plover")


@pytest.fixture(scope="session")
def dunlin(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The station dunlin. Shared: no test may change it."""
    return build_dunlin(tmp_path_factory.mktemp("stations") / "dunlin")


@pytest.fixture(scope="session")
def sanderling(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The station sanderling. Shared: no test may change it."""
    return build_sanderling(tmp_path_factory.mktemp("stations") / "sanderling")


@pytest.fixture(scope="session")
def settled(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The station heron before somebody came by night. Shared: no test may change it."""
    return build_heron(tmp_path_factory.mktemp("settled") / "heron", SETTLED)


@pytest.fixture(scope="session")
def images(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """The stations as images, by name. Shared: no test may change them."""
    folder = tmp_path_factory.mktemp("as-images")
    write_images(folder, STATIONS)
    return {name: folder / path for name, path in NAMES.items()}


@pytest.fixture(scope="session")
def archives(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """The archives of the keeper's folder, by name. Shared: no test may change them."""
    return write_archives(tmp_path_factory.mktemp("archives"))


@pytest.fixture
def own_heron(tmp_path: Path) -> Path:
    """A heron of one's own, to be changed at will."""
    return build_heron(tmp_path / "heron")


@pytest.fixture
def deb_root(tmp_path: Path) -> DebRoot:
    """An empty `deb` root."""
    return DebRoot(tmp_path / "root")


@pytest.fixture(scope="session")
def run() -> Run:
    """Runs the program in a process of its own, as a pipe would. A fault of its own fails the test."""

    def run_it(*arguments: str, **environment: str) -> "subprocess.CompletedProcess[str]":
        whole = {**os.environ, "NO_COLOR": "", "COLUMNS": "100", **environment}
        done: subprocess.CompletedProcess[str]
        if warm.needs_a_start(whole):
            done = subprocess.run(
                [sys.executable, "-m", "filigree", *arguments],
                capture_output=True, text=True, timeout=120, check=False, env=whole,
            )  # fmt: skip
        else:
            told = warm.call(arguments, whole)
            done = subprocess.CompletedProcess(arguments, told.status, told.out, told.err)
        assert OWN_FAULT not in done.stderr, done.stderr
        assert "Traceback" not in done.stderr, done.stderr
        return done

    return run_it


@pytest.fixture
def call(monkeypatch: pytest.MonkeyPatch) -> Run:
    """Runs the command line in this process: for tables of many calls, where a start costs too much.

    The rim tells a fault of our own in words, and goes on: here it fails the test.
    """
    return _caller(monkeypatch, faults=False)


@pytest.fixture
def call_with_faults(monkeypatch: pytest.MonkeyPatch) -> Run:
    """The same, as the rim has it."""
    return _caller(monkeypatch, faults=True)


def _caller(monkeypatch: pytest.MonkeyPatch, faults: bool) -> Run:
    def fault(error: Exception) -> int:
        raise error

    def call_it(*arguments: str) -> "subprocess.CompletedProcess[str]":
        out, err = (io.TextIOWrapper(io.BytesIO(), "utf-8", "backslashreplace") for _ in range(2))
        monkeypatch.setenv("COLUMNS", "100")
        if not faults:
            monkeypatch.setattr("filigree.__main__._own_error", fault)
        monkeypatch.setattr(sys, "argv", ["filigree", *arguments])
        monkeypatch.setattr(sys, "stdout", out)
        monkeypatch.setattr(sys, "stderr", err)
        try:
            code = status()
        finally:
            monkeypatch.undo()
        texts = []
        for stream in (out, err):
            stream.seek(0)
            texts.append(stream.read())
        return subprocess.CompletedProcess(arguments, code, *texts)

    return call_it


@pytest.fixture
def ask(call: Run) -> Callable[..., Any]:
    """Asks a question as the command line does, and gives back its JSON."""

    def ask_it(*arguments: str) -> Any:
        return json.loads(call(*arguments, "--format", "json").stdout)

    return ask_it


@pytest.fixture
def ended_in_time() -> Iterator[None]:
    """For what others would try without end: the whole run ends, with the place, after a minute of it."""
    faulthandler.dump_traceback_later(60, exit=True, file=sys.__stderr__)  # type: ignore[arg-type]
    yield
    faulthandler.cancel_dump_traceback_later()


@pytest.fixture(autouse=True)
def anew() -> None:
    """What streams may give beyond their share is counted a question: here a test."""
    renew_allowance()


def events_of(system: System) -> list[Event]:
    """All that a system's own history tells."""
    history = system.database.history
    assert history is not None, "this family keeps a history"
    return list(history.events())
