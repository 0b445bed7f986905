"""The installed program: statuses, formats, errors, streams, help, completion."""

import ast
import inspect
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

from filigree.cli.commands import COMMANDS as TABLE
from filigree.cli.commands import FLEET, CommandEntry
from filigree.cli.groups import named
from filigree.demo import walk
from filigree.demo.plover import build_plover
from tests import warm
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


@pytest.mark.parametrize("words", [(), ("fleet",)])
def test_the_whole_helps_on_one_screen(run: Run, words: tuple[str, ...]) -> None:
    """Of a window of forty lines, a hundred wide: every command, and what it is for."""
    done = run(*words, "--help")
    table = FLEET if words else TABLE
    for entry in table:
        assert f"{entry.name:11} {entry.summary[:30]}" in done.stdout
        assert entry.group in done.stdout
    lines = done.stdout.splitlines()
    assert len(lines) <= 40
    assert max(map(len, lines)) <= 100
    bare = run(*words)
    assert (bare.returncode, bare.stdout) == (2, done.stdout)
    assert run("--version").stdout.startswith("filigree ")


@pytest.mark.parametrize("entry", [*TABLE, *FLEET], ids=lambda entry: entry.made_by)
def test_the_table_says_what_the_command_says(entry: CommandEntry) -> None:
    """What help tells without loading a command is what the command tells itself."""
    if entry.name == "fleet":
        return
    words = inspect.getdoc(named(entry.made_by)) or ""
    assert " ".join(words.split("\n\n")[0].split()) == entry.summary
    assert len(entry.examples) >= 1


def test_a_command_is_loaded_when_it_is_named() -> None:
    """A question pays for nothing that another one takes."""
    asked = (
        "import sys; sys.argv = ['filigree', '--help']; from filigree.__main__ import status; status();"
        "print([one for one in sys.modules if one.startswith('filigree.')])"
    )
    done = subprocess.run([sys.executable, "-c", asked], capture_output=True, text=True, check=True)
    loaded = ast.literal_eval(done.stdout.splitlines()[-1])
    assert {one for one in loaded if "question" in one or "families" in one} == set()
    assert "filigree.cli.look" not in loaded


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
        ("cen", ["census"]), ("verify --roo", ["--root"]), ("dossier {root} tideg", ["tidegauge"]),
        ("findings --rule code-", ["code-altered", "code-missing"]),
        ("findings --without str", ["strays"]), ("owner {root} /usr/sb", ["/usr/sbin/"]),
        ("strays {root} /usr/sbin/gullch", ["/usr/sbin/gullcheck"]),
        ("repos {root} saltmarsh-u", ["saltmarsh-urgent"]),
        ("behind {root} --repo fl", ["flotsam"]), ("census {root} --section sci", ["science"]),
        ("census --columns name,ver", ["name,version"]), ("needs --kinds sug", ["suggests"]),
        ("timeline --by m", ["month"]), ("timeline --action upgraded,rem", ["upgraded,removed"]),
        ("report x --as cy", ["cyclonedx"]), ("report x --part f", ["findings", "files"]),
        ("whatif {root} --add weir", ["weirgate"]), ("dossier --available {root} weir", ["weirgate"]),
        ("dossier {root} weir", []), ("manual find", ["findings"]), ("fleet rare x --only fi", ["file"]),
        ("census --root /nowhere tide", []), ("fleet census /nowhere --host a", []),
    ],
)  # fmt: skip
def test_the_shell_completes(heron: Path, words: str, found: list[str]) -> None:
    whole = f"filigree {words}".replace("{root}", f"--root {heron}")
    told = {**os.environ, "_FILIGREE_COMPLETE": "complete_bash", "COMP_WORDS": whole,
            "COMP_CWORD": str(len(whole.split()) - 1)}  # fmt: skip
    done = warm.call([], told)
    assert done.out.split() == found
    assert done.err == ""


def test_groups_are_completed(curlew: Path) -> None:
    whole = f"filigree census --root {curlew} --group gauge-h"
    told = {
        **os.environ,
        "_FILIGREE_COMPLETE": "complete_bash",
        "COMP_WORDS": whole,
        "COMP_CWORD": "5",
    }
    assert warm.call([], told).out.split() == ["gauge-house"]


def test_gently_the_answer_is_the_same(run: Run, heron: Path) -> None:
    for words in (("verify",), ("findings", "--without", "strays,archives")):
        asked = (*words, "--root", str(heron))
        usual, gently = run(*asked), run(*asked, "--gentle")
        assert (gently.stdout, gently.returncode) == (usual.stdout, usual.returncode)
        assert "not gentle in all" not in gently.stderr


def test_who_is_gentle_is_in_nobodys_way() -> None:
    asked = (
        "import os; from filigree.access.gentleness import be_gentle; told = be_gentle();"
        "from filigree.access import workers; from filigree.access.trees import trial;"
        "me = [one.result for one in workers.share(range(4), lambda _: os.getpid(), 4)];"
        "me += [workers.aside(os.getpid)()]; trial._sample = None;"
        "print([told, len(os.sched_getaffinity(0)), os.nice(0), {*me} == {os.getpid()}, "
        "trial.useful_workers('/', [], 8)])"
    )
    done = subprocess.run([sys.executable, "-c", asked], capture_output=True, text=True, check=True)
    # One processor, the lowest priority, no process beside, and nothing tried.
    assert ast.literal_eval(done.stdout) == [[], 1, 19, True, 1]


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
