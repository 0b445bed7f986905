"""The installed program: statuses, formats, errors, streams, help, completion."""

import json
import os
import pty
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from filigree.demo import walk
from filigree.demo.plover import build_plover
from tests.conftest import Run
from tests.making import DebRoot

COMMANDS = ("survey", "census", "dossier", "contents", "owner", "needs", "needed-by", "verify")
ARGUMENTS = {
    "dossier": ["tidegauge"],
    "contents": ["tidegauge"],
    "owner": ["tidegauge"],
    "needs": ["tidegauge"],
    "needed-by": ["libbrine2"],
}


@pytest.mark.parametrize(
    ("arguments", "status"),
    [
        (["survey"], 1),
        (["census"], 0),
        (["census", "nothing-so-called"], 1),
        (["census", "--state", "configuration-left"], 0),
        (["dossier", "tidegauge"], 0),
        (["dossier", "tidegage"], 1),
        (["contents", "tidegauge"], 0),
        (["owner", "/usr/bin/tidegauge"], 0),
        (["owner", "/usr/sbin/gullcheck"], 1),
        (["needs", "tidegauge", "--deep"], 0),
        (["needs", "lockgate-firmware"], 1),
        (["needed-by", "libbrine2", "--deep"], 0),
        (["verify", "chartroom"], 0),
        (["verify", "tidegauge", "--quiet"], 1),
        (["verify"], 1),
        (["census", "--regex", "("], 2),
        (["census", "--glob", "--word", "x"], 2),
        (["census", "--chosen", "--dependency"], 2),
        (["census", "--columns", "nome"], 2),
        (["needs", "x", "--kinds", "wishes"], 2),
        (["no-such-command"], 2),
        (["census", "--no-such-option"], 2),
        (["dossier", "pkg:rpm/coast/tidegauge"], 1),
        (["dossier", "pkg:deb/coast/tidegauge@2.1-3"], 0),
        (["dossier", "pkg:"], 2),
    ],
)
def test_exit_statuses(call: Run, heron: Path, arguments: list[str], status: int) -> None:
    done = call(*arguments, "--root", str(heron))
    assert done.returncode == status, done.stderr
    if status == 2:
        assert done.stdout == ""
        assert done.stderr


@pytest.mark.parametrize("command", COMMANDS)
@pytest.mark.parametrize("form", ["table", "lines", "json", "jsonl", "csv"])
def test_every_command_in_every_format(call: Run, heron: Path, command: str, form: str) -> None:
    done = call(command, *ARGUMENTS.get(command, []), "--root", str(heron), "--format", form)
    assert done.returncode in (0, 1)
    assert done.stdout
    assert "\x1b" not in done.stdout
    if form == "json":
        assert json.loads(done.stdout)["question"] == command
    if form == "jsonl":
        assert all(json.loads(text) for text in done.stdout.splitlines())


@pytest.mark.parametrize("command", [*COMMANDS, "demo"])
def test_help_has_examples(run: Run, command: str) -> None:
    done = run(command, "--help")
    assert done.returncode == 0
    assert done.stdout.count(f"filigree {command}") >= 2


def test_the_whole_helps(run: Run) -> None:
    done = run("--help")
    for word in (*COMMANDS, "demo", "Look", "Trace", "Check"):
        assert word in done.stdout
    assert run("--version").stdout.startswith("filigree ")


def test_a_misspelt_command_is_guessed(run: Run) -> None:
    done = run("cencus")
    assert done.returncode == 2
    assert "census" in done.stderr


def test_a_misspelt_column_is_guessed(run: Run, heron: Path) -> None:
    done = run("census", "--columns", "verison", "--root", str(heron))
    assert "did you mean version?" in done.stderr


def test_a_root_that_is_none_says_what_was_looked_for(run: Run, tmp_path: Path) -> None:
    done = run("census", "--root", str(tmp_path))
    assert done.returncode == 2
    assert "/var/lib/dpkg/status" in done.stderr
    assert "what to do" in done.stderr
    done = run("census", "--root", str(tmp_path / "missing"))
    assert done.returncode == 2
    assert "No such file" in done.stderr


def test_quiet_says_nothing(run: Run, heron: Path) -> None:
    done = run("verify", "--quiet", "--root", str(heron))
    assert (done.returncode, done.stdout, done.stderr) == (1, "", "")


def test_lines_are_made_for_other_programs(run: Run, heron: Path) -> None:
    done = run("census", "--columns", "name,version", "--exact", "tidegauge", "--root", str(heron))
    assert done.stdout == "tidegauge\t1:2.1-3\n"
    done = run("census", "--count", "--root", str(heron))
    raw = (heron / "var/lib/dpkg/status").read_text()
    assert done.stdout == f"{raw.count('Package: ') - raw.count('config-files')}\n"
    done = run("owner", "/usr/bin/plot-chart", "--root", str(heron))
    assert (
        done.stdout
        == "/usr/bin/plot-chart\t/usr/bin/plot-chart\tchartroom\t5.4.1-2\tamd64\tlisted\t\n"
    )


def test_what_matched_nothing_goes_to_standard_error(run: Run, heron: Path) -> None:
    done = run("needs", "tidegage", "foghorn", "--root", str(heron))
    assert "did you mean tidegauge?" in done.stderr
    assert "libmussel5" in done.stdout


def test_verbose_says_what_is_being_done(run: Run, heron: Path) -> None:
    done = run("census", "-v", "--root", str(heron))
    raw = (heron / "var/lib/dpkg/status").read_text()
    assert f"a deb system with {raw.count('Package: ')} packages on record" in done.stderr


def test_only_and_aspect_choose_verdicts(ask: Any, heron: Path) -> None:
    found = ask("verify", "--only", "missing", "--root", str(heron))
    assert {row["verdict"] for row in found["records"]} == {"missing"}
    found = ask("verify", "--aspect", "kind", "--root", str(heron))
    assert [row["path"] for row in found["records"]] == ["/usr/bin/foghorn-test"]
    assert found["records"][0]["differences"] == [
        {"aspect": "kind", "expected": "file", "found": "link to /var/tmp/.fog/horn"}
    ]


def test_a_reader_who_goes_away_is_no_error(heron: Path) -> None:
    command = f"{sys.executable} -m filigree contents '*' --root {heron} | head -n 1"
    done = subprocess.run(["bash", "-c", command], capture_output=True, text=True, check=False)
    assert done.stderr == ""
    assert done.stdout.count("\n") == 1


@pytest.mark.parametrize(
    ("redirection", "status"), [("> /dev/full", 2), (">&-", 0), ("2>&- > /dev/null", 0)]
)
def test_streams_that_take_nothing(heron: Path, redirection: str, status: int) -> None:
    command = f"{sys.executable} -m filigree census --root {heron} {redirection}"
    done = subprocess.run(["bash", "-c", command], capture_output=True, text=True, check=False)
    assert done.returncode == status
    if status:
        assert done.stderr == "filigree: the answer cannot be written: No space left on device\n"


def test_a_working_directory_that_is_gone(tmp_path: Path) -> None:
    asks = f"{sys.executable} -m filigree owner /usr"
    done = subprocess.run(
        ["bash", "-c", f"cd {tmp_path} && mkdir x && cd x && rmdir ../x && {asks}"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert "cannot be written" not in done.stderr


def test_an_error_of_our_own_is_said_as_such(call_with_faults: Run, heron: Path) -> None:
    def broken(*_: Any) -> None:
        raise ZeroDivisionError("oh \x1b[31m")

    import filigree.questions.commands.survey as module

    real = module.survey
    module.survey = broken  # type: ignore[assignment]
    done = call_with_faults("survey", "--root", str(heron))
    module.survey = real
    assert done.returncode == 2
    assert "an error of our own" in done.stderr
    assert "\x1b" not in done.stderr


def on_terminal(arguments: list[str], **environment: str) -> str:
    """What the program writes where both streams are a terminal."""
    main, other = pty.openpty()
    process = subprocess.Popen(
        [sys.executable, "-m", "filigree", *arguments],
        stdin=other, stdout=other, stderr=other,
        env={**os.environ, "TERM": "xterm", "COLUMNS": "100", "LINES": "20", **environment},
    )  # fmt: skip
    os.close(other)
    out = b""
    while True:
        try:
            piece = os.read(main, 65536)
        except OSError:
            break
        if not piece:
            break
        out += piece
    process.wait(30)
    os.close(main)
    return out.decode()


def test_colour_only_on_a_terminal_that_wants_it(heron: Path) -> None:
    arguments = ["verify", "--root", str(heron), "--no-pager"]
    assert "\x1b[1;31maltered\x1b[0m" in on_terminal(arguments)
    assert "\x1b[" not in on_terminal(arguments, NO_COLOR="1")
    assert "\x1b[" not in on_terminal([*arguments, "--color", "never"])
    assert "\x1b[1;31m" in on_terminal([*arguments, "--color", "always"], NO_COLOR="1")


def test_a_long_answer_goes_through_the_pager(heron: Path, tmp_path: Path) -> None:
    pager = tmp_path / "pager"
    pager.write_text("#!/bin/sh\necho PAGED\ncat\n")
    pager.chmod(0o755)
    arguments = ["census", "--root", str(heron)]
    assert "PAGED" in on_terminal(arguments, PAGER=str(pager))
    assert "PAGED" not in on_terminal([*arguments, "--no-pager"], PAGER=str(pager))
    assert "PAGED" not in on_terminal([*arguments, "--limit", "2"], PAGER=str(pager))


@pytest.mark.parametrize("jobs", ["1", "2"])
def test_interrupted_it_ends_with_130_and_what_it_found(deb_root: DebRoot, jobs: str) -> None:
    """Files of gigabytes keep it busy long enough for the key to be pressed in the middle."""
    deb_root.package("first", files={"/opt/first": b"x"}, Installed_Size="90000000")
    deb_root.write("/opt/first", b"y")
    for number in range(80):
        deb_root.package(f"p{number}", files={f"/opt/{number}": b"x"})
        with (deb_root.folder / f"opt/{number}").open("wb") as file:
            file.truncate(200_000_000)
    process = subprocess.Popen(
        [sys.executable, "-m", "filigree", "verify", "--jobs", jobs, "--root", deb_root.path],
        stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, start_new_session=True,
        # What runs in the background of a shell has the key ignored, and so has what it starts.
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.SIG_DFL),  # noqa: PLW1509
    )  # fmt: skip
    time.sleep(2.5)
    process.send_signal(signal.SIGINT)
    out, err = process.communicate(timeout=60)
    assert process.returncode == 130, err
    assert "Traceback" not in err
    assert "what was found so far" in err
    assert "interrupted before they were reached" in err
    assert out.startswith("first\t")
    with pytest.raises(ProcessLookupError):
        os.killpg(process.pid, 0)


@pytest.mark.parametrize(
    ("words", "found"),
    [
        ("filigree dossier tideg", "tidegauge"),
        ("filigree cen", "census"),
        ("filigree verify --roo", "--root"),
    ],
)
def test_the_shell_completes(heron: Path, words: str, found: str) -> None:
    words = words.replace("dossier", f"dossier --root {heron}")
    done = subprocess.run(
        [sys.executable, "-m", "filigree"],
        capture_output=True, text=True, check=False,
        env={**os.environ, "_FILIGREE_COMPLETE": "complete_bash", "COMP_WORDS": words,
             "COMP_CWORD": str(len(words.split()) - 1)},
    )  # fmt: skip
    assert found in done.stdout


def test_the_demo_builds_and_tells(run: Run, tmp_path: Path) -> None:
    done = run("demo", "--into", str(tmp_path / "stations"))
    assert done.returncode == 0, done.stderr
    for words in ("$ filigree verify --root heron", "altered", "(exit status 1)", "chosen among"):
        assert words in done.stdout


def test_the_demo_builds_over_what_it_built(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(walk, "STATIONS", {"plover": build_plover})
    for _ in range(2):
        assert walk.build_stations(tmp_path) == {"plover": tmp_path / "plover"}
    assert (tmp_path / "before/plover.snapshot").is_file()


def test_the_demo_empties_nobodys_folder(run: Run, tmp_path: Path) -> None:
    (tmp_path / "heron").mkdir()
    (tmp_path / "heron/mine").write_text("mine")
    done = run("demo", "--into", str(tmp_path), "--build-only")
    assert done.returncode == 2
    assert (tmp_path / "heron/mine").exists()
