"""What belongs together is told as one, with its likely cause; what can be run never is."""

import os
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.model.answer import Answer
from filigree.model.files import Aspect, Difference, Evidence, Role, Verdict
from filigree.questions.commands.verify import verify
from filigree.questions.finding.folding import LEAST, folders
from filigree.questions.verifying.folds import SCREEN, folded
from filigree.questions.verifying.tally import VerifySummary
from filigree.questions.verifying.verdicts import FileVerdict
from filigree.system import open_system
from tests.conftest import Run
from tests.making import INFO, STATUS, DebRoot

TREE = "/usr/lib/chart/modules"
CAME = datetime(2026, 1, 12, 8, tzinfo=UTC)
LATER = CAME + timedelta(days=40)


def built(folder: Path, tree: str = TREE, ending: str = "js", count: int = 40) -> DebRoot:
    root = DebRoot(folder)
    files = {
        f"{tree}/{number // 10}/part-{number}.{ending}": b"x" * 9000 for number in range(count)
    }
    root.package("chart", files={**files, "/usr/bin/chart": b"program"})
    (folder / "usr/bin/chart").chmod(0o755)
    os.utime(folder / f"{INFO}/chart.list", (CAME.timestamp(), CAME.timestamp()))
    return root


def parts(root: DebRoot, tree: str = TREE) -> list[Path]:
    return sorted(path for path in (root.folder / tree[1:]).rglob("*") if path.is_file())


def at(path: Path, when: datetime) -> None:
    os.utime(path, (when.timestamp(), when.timestamp()))


def told(root: DebRoot) -> Answer[FileVerdict, VerifySummary]:
    with open_system(root.path) as system:
        return verify(system)


def _updated(root: DebRoot) -> None:
    for number, path in enumerate(parts(root)):
        path.write_bytes(b"newer")
        at(path, LATER + timedelta(seconds=number))
    for number in range(7):
        at(root.write(f"{TREE[1:]}/more-{number}.js", b"new"), LATER)


def _replaced(root: DebRoot) -> None:
    for path in parts(root):
        path.write_bytes(b"newer")
        at(path, LATER)


def _scattered(root: DebRoot) -> None:
    for number, path in enumerate(parts(root)):
        path.write_bytes(b"newer")
        at(path, LATER + timedelta(days=number))


def _damaged(root: DebRoot) -> None:
    for path in parts(root):
        path.write_bytes(path.read_bytes()[:4096] + bytes(4096) + b"x" * 808)
        at(path, CAME - timedelta(days=9))


def _unfinished(root: DebRoot) -> None:
    text = (root.folder / STATUS).read_text()
    root.write(STATUS, text.replace("install ok installed", "install ok half-installed"))
    for path in parts(root):
        path.unlink()


def _gone(root: DebRoot) -> None:
    for path in parts(root):
        path.unlink()


CASES: dict[str, tuple[Callable[[DebRoot], None], str | None]] = {
    "it updated itself": (_updated, "updated-itself"),
    "replaced at once": (_replaced, "replaced-together"),
    "changed on many days": (_scattered, None), "blocks of nothing": (_damaged, "damaged-blocks"),
    "half installed": (_unfinished, "unfinished-installation"), "taken away": (_gone, None),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_a_directory_is_told_as_one_with_its_likely_cause(tmp_path: Path, name: str) -> None:
    root = built(tmp_path)
    do, cause = CASES[name]
    do(root)
    answer = told(root)
    (fold,) = answer.summary.folds
    assert (fold.folder, fold.count, fold.package, fold.cause) == (TREE, 40, "chart", cause)
    assert (
        len([row for row in answer.records if row.path.startswith(f"{TREE}/")]) >= 40
    )  # none is lost
    if name == "it updated itself":
        assert "7 files of nobody's" in (fold.grounds or "")
        assert fold.first == LATER
    assert (fold.cause is None) is (fold.grounds is None)


def test_one_unfinished_package_explains_nothing_of_anothers_files(tmp_path: Path) -> None:
    """Whoever owns the machine can mark any package as half installed."""
    root = built(tmp_path)
    root.package("other", files={f"{TREE}/0/other.js": b"y"}, status="install ok half-installed")
    for path in parts(root):
        path.unlink()
    assert [(fold.count, fold.cause) for fold in told(root).summary.folds] == [(41, None)]


def test_what_is_excused_explains_nothing_of_what_is_gone(tmp_path: Path) -> None:
    root = built(tmp_path)
    for path in parts(root):
        path.unlink()
    root.write(
        "etc/dpkg/dpkg.cfg.d/small",
        f"path-exclude={TREE}/*\npath-include={TREE}/0/part-1.js\n",
    )
    with open_system(root.path) as system:
        answer = verify(system, None, frozenset(Verdict))
    (fold,) = answer.summary.folds
    assert (fold.verdicts[Verdict.EXCUSED], fold.verdicts[Verdict.MISSING]) == (39, 1)
    assert (fold.cause, fold.grounds) == (None, None)


@pytest.mark.parametrize(
    ("tree", "ending", "cause"),
    [
        ("/usr/share/locale/cy/LC_MESSAGES", "mo", "translations-taken-away"),
        ("/usr/share/man/fy/man1", "1.gz", "translations-taken-away"),
        ("/usr/share/manual/fy", "1.gz", None),
    ],
)
def test_translations_that_were_taken_away(
    tmp_path: Path, tree: str, ending: str, cause: str | None
) -> None:
    root = built(tmp_path, tree, ending)
    for path in parts(root, tree):
        path.unlink()
    (fold,) = told(root).summary.folds
    assert fold.cause == cause


@pytest.mark.parametrize(
    ("tree", "ending", "cause"),
    [
        ("/usr/lib/chart/all", "pyc", "byte-compiled"),
        ("/etc/ssl/certs/own", "pem", "certificate-store"),
    ],
)
def test_what_is_written_by_others(tmp_path: Path, tree: str, ending: str, cause: str) -> None:
    root = built(tmp_path, tree, ending)
    for number, path in enumerate(parts(root, tree)):
        path.write_bytes(b"made anew")
        at(path, LATER + timedelta(days=number))
    (fold,) = told(root).summary.folds
    assert fold.cause == cause


def test_a_program_is_never_hidden_in_a_fold(tmp_path: Path, call: Run) -> None:
    """Whoever swaps one among many that were updated is told by name."""
    root = built(tmp_path)
    _updated(root)
    (root.folder / "usr/lib/chart/modules/0/part-3.js").chmod(0o755)
    root.write("usr/bin/chart", b"swapped", 0o755)
    (fold,) = told(root).summary.folds
    assert (
        f"{TREE}/0/part-3.js" in fold.paths
    )  # by its record it is no program: nothing tells its mode
    shown = call("verify", "--root", root.path, "--format", "table", "--no-pager").stdout
    assert "/usr/bin/chart " in shown
    assert "part-4.js" not in shown
    assert f"{TREE}/  40 files of chart: 40 altered" in shown
    every = call(
        "verify", "--root", root.path, "--format", "table", "--no-pager", "--unfold"
    ).stdout
    assert "part-4.js" in every
    lines = call("verify", "--root", root.path, "--format", "lines").stdout
    assert lines.count("part-") == 40


def _row(number: int, *differences: Difference) -> FileVerdict:
    return FileVerdict(
        package="chart", architecture="all", path=f"{TREE}/part-{number}.js", role=Role.DATA,
        verdict=Verdict.ALTERED, evidence=Evidence.RECORD, differences=list(differences),
        reason=None, version="1", seen=None,
    )  # fmt: skip


def test_what_came_to_run_with_others_rights_is_never_in_a_fold(tmp_path: Path) -> None:
    """Capabilities that came are named; those that went are told as one with why."""
    root = built(tmp_path)
    gone = [
        _row(number, Difference(Aspect.CAPABILITIES, "cap_chown=ep", None)) for number in range(40)
    ]
    came = _row(40, Difference(Aspect.CAPABILITIES, None, "cap_setuid=ep"))
    with open_system(root.path) as system:
        (fold,) = folded(system, [*gone, came])
    assert came.path not in fold.paths
    assert (fold.count, fold.cause) == (40, "copied-without-attributes")


def test_no_cause_rests_on_files_of_which_no_difference_is_known(tmp_path: Path) -> None:
    root = built(tmp_path)
    for number, path in enumerate(parts(root)):
        at(path, LATER + timedelta(days=number))
    known = _row(0, Difference(Aspect.OWNER, "0", "1000"))
    with open_system(root.path) as system:
        (fold,) = folded(system, [_row(number) for number in range(40)])
        (mixed,) = folded(system, [known, *(_row(number) for number in range(1, 40))])
    assert (fold.cause, mixed.cause) == (None, None)


def test_a_few_are_told_one_by_one(tmp_path: Path) -> None:
    root = built(tmp_path, count=SCREEN - 4)
    _gone(root)
    answer = told(root)
    assert len(answer.records) <= SCREEN + 4
    if len(answer.records) <= SCREEN:
        assert answer.summary.folds == []


def test_compare_tells_a_directory_as_one(tmp_path: Path, call: Run) -> None:
    before = built(tmp_path / "before")
    after = built(tmp_path / "after")
    _scattered(after)
    after.write("usr/bin/chart", b"swapped", 0o755)
    words = ("compare", before.path, after.path, "--format", "table", "--no-pager")
    shown = call(*words).stdout
    assert f"{TREE}/  40 files: 40 altered" in shown
    assert "/usr/bin/chart" in shown
    assert "part-4.js" not in shown
    assert "part-4.js" in call(*words, "--unfold").stdout


_NAMES = st.sampled_from(["usr", "lib", "share", "a", "b", "c", "d"])
_PATHS = st.lists(_NAMES, min_size=1, max_size=6).map(lambda parts: "/" + "/".join(parts))


@given(st.sets(_PATHS, max_size=80), st.integers(min_value=2, max_value=20))
def test_each_path_is_in_one_fold_at_most_and_below_its_directory(
    paths: set[str], least: int
) -> None:
    found = folders(paths, least)
    held = [path for group in found.values() for path in group]
    assert len(held) == len(set(held))
    assert set(held) <= paths
    for folder, group in found.items():
        assert len(group) >= least
        assert all(path.startswith(f"{folder.rstrip('/')}/") for path in group)
    tops = list(found)
    assert not [
        one for one in tops for other in tops if one != other and one.startswith(f"{other}/")
    ]


def test_so_many_are_told_as_one() -> None:
    paths = [f"/usr/share/tide/{number}" for number in range(LEAST)]
    assert folders(paths) == {"/usr/share/tide": sorted(paths)}
    assert folders(paths[1:]) == {}


def test_strays_name_every_program_and_fold_the_rest(tmp_path: Path, call: Run) -> None:
    root = built(tmp_path)
    for number in range(5):
        root.write(f"usr/lib/own/tool-{number}", b"x", 0o755)
        root.write(f"usr/lib/own/data-{number}", b"x")
    words = ("strays", "--root", root.path, "--format", "table", "--no-pager")
    shown = call(*words).stdout
    assert all(f"/usr/lib/own/tool-{number}" in shown for number in range(5))
    assert "/usr/lib/own/data-3" not in shown
    assert "5 in it" in shown
    assert "/usr/lib/own/data-3" in call(*words, "--unfold").stdout
