"""The program's own words about findings: waivers by way of files, settings, and bad questions."""

import json
from pathlib import Path

import pytest

from tests.conftest import Run


def test_what_is_proposed_can_be_kept_and_accepts_just_that(
    call: Run, plover: Path, tmp_path: Path
) -> None:
    words = ("findings", "--root", str(plover))
    open_ones = call(*words, "--format", "jsonl").stdout.splitlines()
    proposed = call(*words, "--propose-waivers", "--format", "table")
    assert proposed.returncode == 1
    path = tmp_path / "waivers.toml"
    path.write_text(proposed.stdout)
    assert proposed.stdout == call(*words, "--propose-waivers", "--format", "lines").stdout
    done = call(*words, "--waivers", str(path), "--format", "table")
    assert done.returncode in (0, 3), done.stderr
    assert "Nothing is open" in done.stdout
    assert "nobody judged who accepted" in done.stderr
    also = call(*words, "--waivers", str(path), "--waived", "--format", "json")
    rows = json.loads(also.stdout)["records"]
    assert len(rows) == len(open_ones) > 4
    assert all(row["waived_by"] for row in rows)


def test_settings_out_of_a_file(call: Run, plover: Path, tmp_path: Path) -> None:
    path = tmp_path / "office.toml"
    path.write_text(
        "[severity]\noutsider = 'critical'\n[leave-out]\nrules = ['code-altered']\nparts = ['strays']\n"
    )
    words = ("findings", "--root", str(plover), "--settings", str(path), "--format", "json")
    answer = json.loads(call(*words).stdout)
    severities = {row["rule"]: row["severity"] for row in answer["records"]}
    assert severities["outsider"] == "critical"
    assert "code-altered" not in severities
    assert "program-of-nobody" not in severities
    assert answer["summary"]["left_out"] == ["code-altered"]
    assert "strays" in [gap["what"] for gap in answer["gaps"]]


@pytest.mark.parametrize(
    ("least", "fail_at", "status"),
    [("critical", "critical", 1), ("high", "low", 1), ("low", "critical", 1)],
)
def test_what_is_bad_news_is_told_apart_from_what_is_told(
    call: Run, plover: Path, least: str, fail_at: str, status: int
) -> None:
    done = call("findings", "--root", str(plover), "--least", least, "--fail-at", fail_at,
                "--format", "json")  # fmt: skip
    assert done.returncode == status
    severities = {row["severity"] for row in json.loads(done.stdout)["records"]}
    assert severities <= {"critical", "high", "medium", "low"}
    assert "low" not in severities or least == "low"


def test_a_rule_is_explained_without_a_look(call: Run, plover: Path) -> None:
    done = call("findings", "--root", str(plover), "--explain", "code-altered", "--format", "table")
    assert done.returncode == 0
    assert "what runs is not what its maker shipped" in done.stdout
    every = call("findings", "--root", str(plover), "--explain", "all", "--format", "lines")
    assert len(every.stdout.splitlines()) >= 41


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (("--explain", "code-altred"), "did you mean code-altered?"),
        (("--rule", "nothing"), "no rule is called nothing"),
        (("--only", "weather"), "there is no part 'weather'"),
        (("--without", "weather"), "there is no part 'weather'"),
        (("--waivers", "/nowhere/at/all"), "it cannot be read"),
        (("--settings", "/dev/null/x"), "it cannot be read"),
        (("--waivers", "{bad}"), "waiver 1: `what` is to be a text"),
        (("--settings", "{bad}"), "nothing is called 'waiver'"),
    ],
)  # fmt: skip
def test_questions_that_make_no_sense(
    call: Run, plover: Path, tmp_path: Path, words: tuple[str, ...], why: str
) -> None:
    bad = tmp_path / "bad.toml"
    bad.write_text('[[waiver]]\nrule = "x"\n')
    done = call("findings", "--root", str(plover), *(word.format(bad=bad) for word in words))
    assert done.returncode == 2
    assert why in done.stderr
    assert not done.stdout


def test_only_some_parts_are_looked_at(call: Run, plover: Path) -> None:
    done = call("findings", "--root", str(plover), "--only", "strays", "--format", "json")
    answer = json.loads(done.stdout)
    assert {row["rule"] for row in answer["records"]} == {"program-of-nobody"}
    assert {"files", "keys", "history"} <= {gap["what"] for gap in answer["gaps"]}
