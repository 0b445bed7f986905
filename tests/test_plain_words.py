"""Answers in odd places, and texts that a terminal could take for more than text."""

import json
import os
import re
import subprocess
import sys
import threading
from pathlib import Path

import pytest

from filigree.model.errors import BadQuestion
from filigree.model.files import Verdict
from filigree.questions.asking.searching import Search
from filigree.questions.commands import strays as strays_of
from filigree.questions.commands.census import Filter, Matching, census
from filigree.questions.commands.seek import seek
from filigree.questions.commands.strays import strays
from filigree.questions.commands.verify import verify
from filigree.questions.finding.ranks import Rank
from filigree.system import open_system
from tests.conftest import Run
from tests.making import DebRoot, F, RpmRoot

# -- the auditor's own expressions ----------------------------------------------------------

HARD = [r"(a+)\1b", r"(?=(a+)+b)a", r"(?<!x)(a|a)*b\1"]


@pytest.mark.parametrize("expression", HARD)
@pytest.mark.usefixtures("ended_in_time")
def test_an_expression_that_tries_without_end_is_stopped(expression: str) -> None:
    search = Search(insensitive=False, seconds=0.3)
    find = search.compiled(expression)
    for _ in range(50):
        assert find("a" * 30_000) is None
    assert search.gap is not None
    assert "took more than 0.3 seconds" in search.gap.why


@pytest.mark.parametrize("expression", ["(a+)+$", "(a|a)*b", "a*a*a*a*a*b", "^a.*b?$"])
@pytest.mark.usefixtures("ended_in_time")
def test_an_expression_that_others_would_try_without_end_needs_no_stop(expression: str) -> None:
    search = Search(insensitive=False, seconds=5)
    find = search.compiled(expression)
    for _ in range(20):
        find("a" * 30_000 + "c")
    assert search.gap is None


@pytest.mark.parametrize(
    ("expression", "text", "place"),
    [("gull", "a gull", (2, 6)), ("^b", "a\nb", (2, 3)), (r"(?<=a)b", "ab", (1, 2)),
     ("ü+", "grün über", (2, 3)), (r"(.)\1", "loon", (1, 3)), ("GULL", "gull", (0, 4)),
     ("x", "a\udcff x", (3, 4)), ("y", "a", None)],
)  # fmt: skip
@pytest.mark.usefixtures("ended_in_time")
def test_both_engines_find_the_same(
    expression: str, text: str, place: tuple[int, int] | None
) -> None:
    found = Search(insensitive=True).compiled(expression)(text)
    assert (None if found is None else (found.start(), found.end())) == place


@pytest.mark.parametrize("question", ["seek", "census"])
@pytest.mark.usefixtures("ended_in_time")
def test_what_was_not_searched_any_more_is_a_gap(
    question: str, deb_root: DebRoot, monkeypatch: pytest.MonkeyPatch
) -> None:
    for number in range(20):
        deb_root.package("a" * 200 + str(number))
    monkeypatch.setattr("filigree.questions.asking.searching.SECONDS", 0.05)
    with open_system(deb_root.path) as system:
        expression = r"(a+)+\1(a+)+b"
        if question == "seek":
            answer = seek(system, [expression], regex=True, installed=True)
        else:
            answer = census(system, Filter(patterns=(expression,), match=Matching.REGEX))  # type: ignore[assignment]
    assert any("texts that were not searched" in gap.what for gap in answer.gaps)


@pytest.mark.usefixtures("ended_in_time")
def test_where_nothing_could_stop_it_such_an_expression_is_refused() -> None:
    told: list[str] = []

    def ask() -> None:
        try:
            Search(insensitive=False).compiled(HARD[0])
        except BadQuestion as error:
            told.append(error.what)

    thread = threading.Thread(target=ask)
    thread.start()
    thread.join()
    assert told == ["an expression that could take without end"]


# -- texts ----------------------------------------------------------------------------------

ODD = "".join(map(chr, (*range(1, 32), *range(0x7F, 0xA0), 0xAD, 0x61C, 0x200E, 0x200F, 0x2028, 0x2029,
                        *range(0x202A, 0x202F), *range(0x2066, 0x206A), 0xFEFF, 0xE0001)))  # fmt: skip
SEEN = re.compile(f"[{re.escape(ODD.replace(chr(10), ''))}]")


@pytest.mark.parametrize("form", ["json", "jsonl"])
def test_json_carries_nothing_that_a_terminal_obeys(form: str, deb_root: DebRoot, run: Run) -> None:
    text = ODD.replace("\n", "").replace("\r", "")
    deb_root.package("gull", Description=f"A {text} gull", Homepage=f"https://x{text}.example")
    deb_root.package("loon", files={f"/usr/{text.replace('/', '')}": b"x"})
    for words in (
        ("dossier", "gull"),
        ("contents", "loon"),
        ("seek", "gull", "--installed"),
        ("verify",),
    ):
        done = run(*words, "--root", deb_root.path, "--format", form)
        assert not SEEN.search(done.stdout), words
        for line in done.stdout.splitlines() if form == "jsonl" else [done.stdout]:
            if line:
                json.loads(line)
    # Nothing of it is lost.
    told = json.loads(run("dossier", "gull", "--root", deb_root.path, "--format", "json").stdout)
    assert told["records"][0]["summary"] == f"A {text} gull"


# -- odd places -----------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("words", "status", "says"),
    [
        (("census", "--root", "{root}"), 0, ""),
        (("census", "--root", "root"), 2, "the working directory is gone"),
        (("dossier", "./gull.deb", "--root", "{root}"), 2, "the working directory is gone"),
        (("owner", "gull", "--root", "{root}"), 0, ""),
        (
            ("verify", "--root", "{root}", "--keyring", "keys.asc"),
            2,
            "the working directory is gone",
        ),
        (("survey", "--root", "."), 2, "the working directory is gone"),
    ],
)
def test_a_working_directory_that_is_gone_is_said_in_plain_words(
    words: tuple[str, ...], status: int, says: str, tmp_path: Path
) -> None:
    root = DebRoot(tmp_path / "root")
    root.package("gull", files={"/usr/bin/gull": b"x"})
    gone = tmp_path / "gone"
    gone.mkdir()
    code = f"import os, sys; os.chdir({str(gone)!r}); os.rmdir({str(gone)!r}); "
    code += "sys.argv[0] = 'filigree'; from filigree.__main__ import run; run()"
    done = subprocess.run(
        [sys.executable, "-c", code, *(word.format(root=root.path) for word in words)],
        capture_output=True, text=True, check=False, timeout=60,
    )  # fmt: skip
    assert done.returncode == status, done.stderr
    assert says in done.stderr
    assert "an error of our own" not in done.stderr


@pytest.mark.parametrize("lists", ["gone", "empty", "no users", "no groups", "a folder"])
def test_a_root_without_a_user_list_is_said_in_plain_words(lists: str, tmp_path: Path) -> None:
    root = RpmRoot(tmp_path / "root")
    root.package("gull", "1", "1", F("/usr/bin/gull"))
    users, groups = tmp_path / "root/etc/passwd", tmp_path / "root/etc/group"
    for file in (users, groups):
        if lists == "gone" or (lists == "no users" and file is users) or (
            lists == "no groups" and file is groups
        ):  # fmt: skip
            file.unlink()
        elif lists == "empty":
            file.write_text("")
        elif lists == "a folder":
            file.unlink()
            file.mkdir()
    with open_system(root.path) as system:
        answer = verify(system, None, frozenset(Verdict), workers=1)
    assert {row.verdict for row in answer.records} == {Verdict.INTACT}
    told = {gap.what for gap in answer.gaps}
    assert told & {"/etc/passwd", "/etc/group"}
    assert answer.exit_status == 3


def test_more_strays_than_are_listed_are_counted(
    deb_root: DebRoot, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(strays_of, "LISTED", 50)
    for number in range(200):
        deb_root.write(f"usr/lib/many/{number:03}", b"x", 0o755 if number % 20 == 7 else 0o644)
    with open_system(deb_root.path) as system:
        answer = strays(system)
    assert len(answer.records) == 50
    assert sum(row.rank is Rank.PROGRAM for row in answer.records) == 10
    assert answer.summary.strays == 200
    assert answer.summary.ranks == {"set-id": 0, "executable": 10, "other": 190}
    assert any(gap.what == "150 paths (150 other)" for gap in answer.gaps)
    assert answer.exit_status == 1


@pytest.mark.skipif(os.geteuid() == 0 and not Path("/proc").exists(), reason="there is no /proc")
def test_more_gaps_than_are_named_are_counted(deb_root: DebRoot) -> None:
    lines = "".join(f"no stanza {number}\n\n" for number in range(10_500))
    deb_root.append("var/lib/dpkg/status", lines)
    deb_root.package("gull")
    with open_system(deb_root.path) as system:
        gaps = system.gaps
    assert len(gaps) == 10_001
    assert gaps[-1].what == "500 more things"
