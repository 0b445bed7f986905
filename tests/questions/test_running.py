"""What runs: processes that the test makes, and does things to."""

import os
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from filigree.access.processes import Process, ProcessTable, Unseen, started_at
from filigree.model.errors import BadQuestion, NoSystem
from filigree.model.files import Evidence, Verdict
from filigree.questions.running.rows import (
    RunningKind,
    RunningRow,
    RunningState,
)
from filigree.questions.running.running import running
from filigree.system import System, open_system
from tests.conftest import Run

SLEEP = shutil.which("sleep") or "/bin/sleep"
pytestmark = pytest.mark.skipif(
    not Path("/proc/self/maps").exists(), reason="this machine tells of no processes"
)


@pytest.fixture(scope="module")
def here() -> Iterator[System]:
    try:
        system = open_system("/")
    except NoSystem:
        pytest.skip("this machine is of no known family")
    with system:
        yield system


def until(holds: Callable[[], bool]) -> None:
    """Wait for something to be so: ten seconds at most."""
    for _ in range(500):
        if holds():
            return
        time.sleep(0.02)
    pytest.fail("it did not come to be so")


@contextmanager
def started(*words: str, program: str | None = None) -> Iterator[int]:
    """A process, as long as it is looked at."""
    with subprocess.Popen(list(words), executable=program) as process:
        # What runs is known before any of it is mapped: wait for what is mapped last.
        until(lambda: "/libc" in Path(f"/proc/{process.pid}/maps").read_text())
        try:
            yield process.pid
        finally:
            process.kill()


def told(system: System, pid: int) -> RunningRow:
    answer = running(system, [pid])
    (row,) = answer.records
    return row


def _copy(folder: Path, name: str = "own-sleep") -> Path:
    return Path(shutil.copy(SLEEP, folder / name))


def test_a_program_of_a_package(here: System) -> None:
    with started(SLEEP, "60") as pid:
        row = told(here, pid)
    assert row.state is RunningState.AS_ON_DISK
    assert row.package is not None
    assert (row.verdict, row.evidence) == (Verdict.INTACT, Evidence.RECORD)
    assert not row.alarming
    assert row.program == os.path.realpath(SLEEP)
    assert row.what is RunningKind.PROCESS


def test_a_program_of_nobody(here: System, tmp_path: Path) -> None:
    with started(str(_copy(tmp_path)), "60") as pid:
        row = told(here, pid)
    assert (row.state, row.package, row.verdict) == (RunningState.OF_NOBODY, None, None)
    assert row.alarming


@pytest.mark.parametrize("how", ["another in its place", "gone", "renamed", "written over"])
def test_what_became_of_a_program_since_it_was_started(
    here: System, tmp_path: Path, how: str
) -> None:
    path = _copy(tmp_path)
    content = path.read_bytes()
    with started(str(path), "60") as pid:
        if how == "another in its place":
            path.with_name("new").write_bytes(b"another")
            path.with_name("new").replace(path)
        elif how == "gone":
            path.unlink()
        elif how == "renamed":
            path.rename(path.with_name("elsewhere"))
        else:
            with pytest.raises(OSError, match=r".*"):
                path.write_bytes(b"x")  # the kernel does not let what runs be written
        row = told(here, pid)
    states = {
        "another in its place": RunningState.REPLACED, "gone": RunningState.GONE,
        "renamed": RunningState.OF_NOBODY, "written over": RunningState.OF_NOBODY,
    }  # fmt: skip
    assert row.state is states[how]
    if how in ("another in its place", "gone"):
        import hashlib

        assert row.digest == f"sha256:{hashlib.sha256(content).hexdigest()}"
        assert row.program == str(path)


def test_a_name_that_says_that_it_is_gone_is_a_name(here: System, tmp_path: Path) -> None:
    """A file may be called so, and one that is gone may have had a name beside it."""
    path = _copy(tmp_path, "own-sleep (deleted)")
    with started(str(path), "60") as pid:
        there = told(here, pid)
        _copy(tmp_path, "own-sleep")  # what a careless reader would take for it
        path.unlink()
        gone = told(here, pid)
    assert (there.state, there.program) == (RunningState.OF_NOBODY, str(path))
    assert gone.state is not RunningState.OF_NOBODY
    assert gone.digest is not None


def test_a_program_that_was_never_on_a_disk(here: System) -> None:
    if not hasattr(os, "memfd_create"):
        pytest.skip("this kernel knows none")
    handle = os.memfd_create("nowhere", 0)
    os.write(handle, Path(SLEEP).read_bytes())
    with subprocess.Popen(
        ["own", "60"], executable=f"/proc/self/fd/{handle}", pass_fds=[handle]
    ) as one:
        time.sleep(0.2)
        try:
            row = told(here, one.pid)
        finally:
            one.kill()
            os.close(handle)
    assert row.state is RunningState.GONE
    assert row.alarming
    assert (row.program or "").startswith("/memfd:nowhere")


@pytest.mark.parametrize(
    ("words", "runs"),
    [
        (["{script}"], True), (["-u", "{script}", "more"], True),
        (["-c", "import time; time.sleep(60)"], False), (["-m", "this"], False),
    ],
)  # fmt: skip
def test_what_an_interpreter_runs(
    here: System, tmp_path: Path, words: list[str], runs: bool
) -> None:
    script = tmp_path / "script.py"
    script.write_text("import time\ntime.sleep(60)\n")
    if words[-1] == "this":
        words = ["-c", "import time; time.sleep(60)", "-m", "this"]
    told_words = [word.format(script=script) for word in words]
    with subprocess.Popen([sys.executable, *told_words]) as one:
        time.sleep(0.3)
        try:
            row = told(here, one.pid)
        finally:
            one.kill()
    if runs:
        assert row.script is not None
        assert (row.script.path, row.script.state) == (str(script), RunningState.OF_NOBODY)
    else:
        assert row.script is None


def test_a_library_that_was_replaced(here: System, tmp_path: Path) -> None:
    """A copy of a module of the interpreter's is mapped, and then another one put in its place."""
    import _ctypes as module

    path = getattr(module, "__file__", None)
    if path is None:
        pytest.skip("this interpreter has no module of its own")
    copy = Path(shutil.copy(path, tmp_path / Path(path).name))
    words = (
        f"import sys; sys.path.insert(0, {str(tmp_path)!r}); import _ctypes, time; time.sleep(60)"
    )
    with subprocess.Popen([sys.executable, "-c", words]) as one:
        try:
            until(lambda: str(copy) in Path(f"/proc/{one.pid}/maps").read_text())
            copy.unlink()
            row = told(here, one.pid)
            copy.write_bytes(b"another")
            later = told(here, one.pid)
        finally:
            one.kill()
    states = {held.path: held.state for held in row.libraries}
    assert states[str(copy)] is RunningState.GONE
    assert {held.path: held.state for held in later.libraries}[str(copy)] is RunningState.REPLACED


def test_a_place_that_anybody_may_write_to(here: System, tmp_path: Path) -> None:
    folder = tmp_path / "open"
    folder.mkdir()
    folder.chmod(0o777)
    with started(str(_copy(folder)), "60") as pid:
        row = told(here, pid)
    assert f"anybody may write to {folder}" in row.remarks


def test_a_process_that_is_not_there_is_a_gap(here: System) -> None:
    with subprocess.Popen([SLEEP, "0"]) as one:
        one.wait()
    answer = running(here, [one.pid])
    assert not answer.records
    assert f"process {one.pid}" in [gap.what for gap in answer.gaps]


def test_one_that_ended_and_that_nobody_asked_for() -> None:
    one = subprocess.Popen([SLEEP, "0"])
    try:
        until(lambda: ") Z " in Path(f"/proc/{one.pid}/stat").read_text())
        found = next(p for p in ProcessTable().each() if p.pid == one.pid)
        assert isinstance(found, Unseen)
        assert found.why == "it has ended, and nobody asked how"
    finally:
        one.wait()


def test_threads_of_the_kernel_are_counted_and_no_gaps(here: System) -> None:
    answer = running(here, every=True)
    assert answer.summary.processes == len(answer.records) - answer.summary.modules > 0
    assert not [gap for gap in answer.gaps if "kthread" in gap.what]


@pytest.mark.skipif(os.geteuid() != 0, reason="another root takes root's rights")
def test_a_process_of_another_root(here: System, tmp_path: Path) -> None:
    """By its own records, or none: what its paths are on ours does not count."""
    with started(SLEEP, "60") as pid:
        maps = Path(f"/proc/{pid}/maps").read_text().splitlines()
    needed = {line.split()[-1] for line in maps if line.split()[-1].startswith("/")}
    root = tmp_path / "root"
    for path in needed:
        target = root / path.lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(path, target)
    (root / "lib64").mkdir(parents=True, exist_ok=True)
    for loader in Path("/lib64").glob("ld-*"):
        shutil.copy(loader, root / "lib64")
    program = os.path.realpath(SLEEP)
    one = subprocess.Popen([program, "60"], preexec_fn=lambda: os.chroot(root))  # noqa: PLW1509
    try:
        time.sleep(0.3)
        row = told(here, one.pid)
    finally:
        one.kill()
        one.wait()
    assert row.program == program  # the same path as ours has, and another file
    assert row.state is RunningState.OF_NOBODY
    assert row.root == f"/proc/{one.pid}/root"
    assert row.remarks == ["it has another root, which is of no known family"]


@pytest.mark.skipif(os.geteuid() != 0, reason="a namespace of mounts takes root's rights")
def test_a_process_that_has_other_things_mounted(here: System, tmp_path: Path) -> None:
    """What is at a path for it alone is not what is there for us: its own look at the disk counts."""
    unshare, compiler = shutil.which("unshare"), shutil.which("cc")
    if unshare is None or compiler is None:
        pytest.skip("there is no unshare, or no compiler, here")
    place = tmp_path / "seen"
    place.mkdir()
    program = _static(tmp_path, compiler)
    shutil.copy(SLEEP, place / "one")
    line = f"mount --bind {tmp_path}/over {place} && exec {place}/one"
    (tmp_path / "over").mkdir()
    shutil.copy(program, tmp_path / "over/one")
    one = subprocess.Popen([unshare, "-m", "sh", "-c", line], stderr=subprocess.DEVNULL)
    try:
        until(
            lambda: os.readlink(f"/proc/{one.pid}/exe").endswith("/one") or one.poll() is not None
        )
        if one.poll() is not None:
            pytest.skip("nothing can be mounted here")
        row = told(here, one.pid)
    finally:
        one.kill()
        one.wait()
    assert row.state is not RunningState.AS_ON_DISK
    assert row.package is None


def _static(folder: Path, compiler: str) -> Path:
    """A program that has no libraries, and waits."""
    source, program = folder / "waits.c", folder / "waits"
    source.write_text("#include <unistd.h>\nint main(void) { for (;;) pause(); }\n")
    done = subprocess.run(
        [compiler, "-static", "-o", program, source], check=False, capture_output=True
    )
    if done.returncode:
        pytest.skip("nothing static can be made here")
    return program


def test_a_program_without_libraries(here: System, tmp_path: Path) -> None:
    compiler = shutil.which("cc")
    if compiler is None:
        pytest.skip("there is no compiler here")
    program = _static(tmp_path, compiler)
    with subprocess.Popen([program]) as process:
        try:
            until(lambda: os.readlink(f"/proc/{process.pid}/exe") == str(program))
            row = told(here, process.pid)
            program.unlink()
            gone = told(here, process.pid)
        finally:
            process.kill()
    assert (row.state, row.program, row.libraries) == (RunningState.OF_NOBODY, str(program), [])
    assert gone.state is RunningState.GONE
    assert gone.digest is not None


def test_better_evidence_takes_the_verdict_away_where_there_is_none(here: System) -> None:
    with started(SLEEP, "60") as pid:
        answer = running(here, [pid], least=Evidence.SIGNED)
    (row,) = answer.records
    assert row.package is not None
    assert row.verdict is None or row.evidence is Evidence.SIGNED
    if row.verdict is None:
        assert answer.gaps


@pytest.mark.parametrize("root", ["heron", "image"])
def test_nothing_runs_at_another_root(root: str, heron: Path, images: dict[str, Path]) -> None:
    place = str(heron if root == "heron" else images["heron"])
    with open_system(place) as system, pytest.raises(BadQuestion):
        running(system)


def test_the_command_tells_what_is_not_well_and_all_when_asked(call: Run, tmp_path: Path) -> None:
    with started(str(_copy(tmp_path)), "60") as pid:
        done = call("running", str(pid), "--format", "table")
        assert done.returncode == 1, done.stderr
        assert "of nobody's" in done.stdout
    assert call("running", "--root", str(tmp_path)).returncode == 2


# -- what the kernel says, as hostile input -------------------------------------------------


def _proc(folder: Path, **files: bytes) -> ProcessTable:
    place = folder / "77"
    place.mkdir()
    for name, content in files.items():
        (place / name).write_bytes(content)
    return ProcessTable(str(folder))


_STAT = b"77 (a) b ((deleted)) S " + b"1 " * 18 + b"4242 0\n"


@pytest.mark.parametrize(
    "files",
    [
        {}, {"stat": b""}, {"stat": b"77 (x"}, {"stat": b"77 (x) S 1 2"}, {"stat": _STAT},
        {"stat": _STAT, "status": b"Name:\tx\nState:\tZ (zombie)\n"}, {"stat": b"\xff" * 4096},
        {"stat": _STAT, "status": b"Name:\tx\nVmSize:\t1\n"},
    ],
)  # fmt: skip
def test_whatever_is_told_of_a_process_costs_only_that(
    tmp_path: Path, files: dict[str, bytes]
) -> None:
    found = list(_proc(tmp_path, **files).each())
    assert all(isinstance(one, Unseen) for one in found)
    assert len(found) <= 1


def test_a_name_that_holds_anything(tmp_path: Path) -> None:
    table = _proc(tmp_path, stat=_STAT, cmdline=b"a\0\xff\0", maps=(
        b"00400000-00452000 r-xp 00000000 08:02 12 /usr/lib/a\\012b (deleted)\n"
        b"00400000-00452000 rw-p 00000000 08:02 13 /usr/lib/data\n"
        b"7fff-8fff r-xp 00000000 00:00 0 [vdso]\nnot a line\n"
    ))  # fmt: skip
    place = tmp_path / "77"
    (place / "exe").symlink_to(SLEEP)
    (place / "root").symlink_to("/")
    (found,) = table.each()
    assert isinstance(found, Process)
    assert found.name == "a) b ((deleted)"
    assert found.arguments == ("a", "\udcff")
    assert [(held.path, held.links) for held in found.libraries] == [("/usr/lib/a\nb", None)]
    assert started_at(100, str(tmp_path)) is None
