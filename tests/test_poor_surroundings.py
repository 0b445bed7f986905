"""Asked by a user who may not read everything, without `/proc`, with no room for the cache."""

import json
import os
import resource
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from tests import warm

STATIONS = ("heron", "curlew", "plover", "dunlin", "sanderling")
NOBODY = 950
FINE = ("intact", "excused", "unrecorded")
AS = """
import os, sys
from filigree.__main__ import run
words, user = sys.argv[2:], int(sys.argv[1])
sys.argv = ["filigree", *words]
def ask():
    try:
        run()
    except SystemExit as ended:
        return ended.code or 0
    return 0
if user:
    # All that the program loads must be loaded by one who may read it; the answers are thrown away.
    kept, nowhere = os.dup(1), os.open(os.devnull, os.O_WRONLY)
    os.dup2(nowhere, 1)
    ask()
    sys.stdout.flush()
    os.dup2(kept, 1)
    os.setgroups([])
    os.setresgid(user, user, user)
    os.setresuid(user, user, user)
status = ask()
sys.stdout.flush()
os._exit(status)
"""


def asked(
    *words: str, user: int = 0, before: tuple[str, ...] = (), most: int | None = None,
    cache: Path | None = None,
) -> tuple[int, Any, str]:  # fmt: skip
    """What the program answers: its status, its answer, what it says beside that."""

    def limit() -> None:
        if most is not None:
            resource.setrlimit(resource.RLIMIT_FSIZE, (most, most))

    environment = {**os.environ, "NO_COLOR": "1"}
    if cache is not None:
        environment["XDG_CACHE_HOME"] = str(cache)
    whole = [*words, "--format", "json"]
    if not before and not user and most is None:
        plain = warm.call(whole, environment)
        return _plainly(plain.status, plain.out, plain.err)
    done = subprocess.run(
        [*before, sys.executable, "-c", AS, str(user), *whole],
        capture_output=True, text=True, check=False, timeout=120, preexec_fn=limit,
        env={**environment, "PYTHONDONTWRITEBYTECODE": "1"},
    )  # fmt: skip
    return _plainly(done.returncode, done.stdout, done.stderr)


def _plainly(status: int, out: str, err: str) -> tuple[int, Any, str]:
    """An answer without what is another one at each run."""
    told = json.loads(out)
    for moment in ("seconds", "asked_at"):
        told.get("summary", {}).pop(moment, None)
    for one in told["records"] if told["question"] == "survey" else ():
        del one["room"]  # others take and leave some meanwhile
    return status, told, err


@pytest.fixture(params=STATIONS)
def station(request: pytest.FixtureRequest) -> Path:
    """Each station in turn. Shared: no test may change it."""
    found: Path = request.getfixturevalue(request.param)
    return found


@pytest.fixture
def open_folder() -> Iterator[Path]:
    """A folder that every user may look into."""
    folder = Path(tempfile.mkdtemp())
    folder.chmod(0o755)
    yield folder
    shutil.rmtree(folder)


def _user() -> int:
    return NOBODY if os.geteuid() == 0 else 0


def _intact(root: Path) -> tuple[str, str]:
    """A package whose files are all intact, and a program of it."""
    _, told, _ = asked("verify", "--root", str(root), "--all")
    bad = {one["package"] for one in told["records"] if one["verdict"] not in FINE}
    for one in told["records"]:
        if one["package"] not in bad and one["role"] == "program" and one["seen"]:
            return str(one["package"]), str(one["path"])
    raise AssertionError("nothing is intact")


@pytest.mark.parametrize("hidden", ["file", "directory"])
def test_what_may_not_be_read_is_never_called_intact(
    station: Path, open_folder: Path, hidden: str
) -> None:
    if station.name == "dunlin":
        pytest.skip("its records do not tell what files hold: nothing there is called intact")
    root = open_folder / "root"
    shutil.copytree(station, root, symlinks=True)
    package, path = _intact(root)
    place = root / path[1:]
    (place if hidden == "file" else place.parent).chmod(0)
    try:
        status, told, _ = asked("verify", package, "--root", str(root), "--all", user=_user())
    finally:
        (place if hidden == "file" else place.parent).chmod(0o755)
    (one,) = [one for one in told["records"] if one["path"] == path]
    assert one["verdict"] == "unreadable"
    assert status == 3 or (status == 1 and hidden == "directory")  # whose mode is on record
    assert any("permission denied" in gap["why"] for gap in told["gaps"])


RECORDS = {
    "heron": "var/lib/dpkg/status", "curlew": "usr/lib/sysimage/rpm", "plover": "var/lib/pacman/local",
    "dunlin": "var/lib/pkgtools", "sanderling": "usr/lib/apk/db",
}  # fmt: skip


@pytest.mark.parametrize("question", ["census", "verify", "strays", "survey"])
def test_records_that_may_not_be_read_are_no_empty_system(
    station: Path, open_folder: Path, question: str
) -> None:
    root = open_folder / "root"
    shutil.copytree(station, root, symlinks=True)
    place = next(
        one for one in (root / RECORDS[station.name], root / "var/lib/rpm") if one.exists()
    )
    place.chmod(0)
    try:
        command = [sys.executable, "-c", AS, str(_user()), question, "--root", str(root)]
        done = subprocess.run(command, capture_output=True, text=True, check=False, timeout=120)
    finally:
        place.chmod(0o755)
    assert done.returncode in (2, 3)
    assert "permission denied" in done.stderr


QUESTIONS = (
    ("verify", "--jobs", "2"), ("verify", "--evidence", "signed", "--jobs", "2"),
    ("census", "--available"), ("repos",), ("keys",), ("strays",), ("survey",),
)  # fmt: skip


def test_without_proc_the_answers_are_the_same(station: Path, tmp_path: Path) -> None:
    hiding = ("unshare", "-m", "sh", "-c", 'mount -t tmpfs none /proc && exec "$@"', "sh")
    able = shutil.which("unshare") is not None and os.geteuid() == 0
    if not able or subprocess.run([*hiding, "true"], check=False, capture_output=True).returncode:
        pytest.skip("/proc cannot be hidden: that takes being root, and a namespace of one's own")
    for words in QUESTIONS:
        known = [*words, "--root", str(station)]
        assert asked(*known, before=hiding, cache=tmp_path) == asked(*known, cache=tmp_path), words


@pytest.mark.parametrize(
    "words", [("census", "--available"), ("verify", "--evidence", "signed"), ("behind",)]
)
def test_without_room_for_the_cache_the_answer_is_the_same(
    station: Path, tmp_path: Path, words: tuple[str, ...]
) -> None:
    known = [*words, "--root", str(station)]
    status, told, said = asked(*known, cache=tmp_path / "roomy")
    full, beside, beside_said = asked(*known, cache=tmp_path / "full", most=8192)
    assert beside["records"] == told["records"]
    more = [gap for gap in beside["gaps"] if gap not in told["gaps"]]
    assert full == status
    assert "nothing could be kept" not in said
    assert "nothing could be kept" in f"{more}{beside_said}"
