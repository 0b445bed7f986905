"""Findings where a record tells every form of a file: modes, owners, links, capabilities."""

import os
import stat
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

import pytest

from filigree.questions.rules.findings import FindingsWish, findings
from filigree.system import open_system
from tests.making import F, RpmRoot

NOW = datetime(2026, 3, 1, 12, tzinfo=UTC)
REGULAR, LINK = stat.S_IFREG, stat.S_IFLNK
CONFIG = 1
FILES = (
    F("/usr/bin/plot", b"program", REGULAR | 0o755), F("/usr/bin/raise", b"r", REGULAR | 0o4755),
    F("/usr/lib64/libchart.so.1", b"code", REGULAR | 0o755), F("/usr/share/chart/data", b"data"),
    F("/etc/chart.conf", b"a = 1\n", flags=CONFIG), F("/usr/bin/view", b"", LINK | 0o777, "plot"),
    F("/usr/lib/systemd/system/chart.service", b"[S]"), F("/etc/cron.d/chart", b"x", flags=CONFIG),
)  # fmt: skip


def built(folder: Path) -> RpmRoot:
    """A sound root: nothing is to be found in it."""
    root = RpmRoot(folder)
    root.package("chart", "1.0", "1", *FILES)
    return root


def fires(root: RpmRoot) -> set[str]:
    with open_system(str(root.folder)) as system:
        return {row.rule for row in findings(system, FindingsWish(now=NOW)).records}


def _mode(path: str, mode: int) -> Callable[[RpmRoot], object]:
    return lambda root: (root.folder / path).chmod(mode)


def _write(path: str, content: bytes, mode: int) -> Callable[[RpmRoot], object]:
    return lambda root: root.write(path, content, mode)


def _link(path: str, target: str) -> Callable[[RpmRoot], object]:
    def do(root: RpmRoot) -> None:
        (root.folder / path).unlink()
        root.link(path, target)

    return do


def _program(path: str) -> Callable[[RpmRoot], object]:
    def do(root: RpmRoot) -> None:
        (root.folder / path).unlink()
        root.write(path, b"x", 0o755)

    return do


def _owner(path: str) -> Callable[[RpmRoot], object]:
    return lambda root: os.chown(root.folder / path, 950, 950)


CASES: dict[str, tuple[Callable[[RpmRoot], object], set[str]]] = {
    "nothing": (lambda _: None, set()),
    "a program of the same size": (_write("usr/bin/plot", b"PROGRAM", 0o755), {"code-altered"}),
    "a program of another size": (_write("usr/bin/plot", b"x", 0o755), {"code-altered"}),
    "a library": (_write("usr/lib64/libchart.so.1", b"CODE", 0o755), {"code-altered"}),
    "data": (_write("usr/share/chart/data", b"DATA", 0o644), {"data-altered"}),
    "a unit": (_write("usr/lib/systemd/system/chart.service", b"[X]", 0o644), {"start-altered"}),
    "a setting": (_write("etc/chart.conf", b"b = 1\n", 0o644), set()),
    "a job": (_write("etc/cron.d/chart", b"y", 0o644), {"start-edited"}),
    "a program with others' rights": (_mode("usr/bin/plot", 0o4755), {"rights-came"}),
    "one with its group's rights": (_mode("usr/bin/plot", 0o2755), {"rights-came"}),
    "one that had them, for more": (_mode("usr/bin/raise", 0o6755), {"rights-came"}),
    "one that had them, and has none": (_mode("usr/bin/raise", 0o755), {"form-altered"}),
    "a program that nobody may run": (_mode("usr/bin/plot", 0o644), {"form-altered"}),
    "data that may be run": (_mode("usr/share/chart/data", 0o755), {"form-altered"}),
    "data that anybody may write": (_mode("usr/share/chart/data", 0o666), {"form-altered"}),
    "a program that anybody may write": (
        _mode("usr/bin/plot", 0o757), {"form-altered", "writable-by-anybody"}
    ),
    "a setting that anybody may write": (
        _mode("etc/chart.conf", 0o666), {"form-altered", "writable-by-anybody"}
    ),
    "a link to elsewhere": (_link("usr/bin/view", "/tmp/plot"), {"leads-elsewhere"}),
    "a link to a neighbour": (_link("usr/bin/view", "raise"), {"leads-elsewhere"}),
    "a program that is a link": (_link("usr/bin/plot", "raise"), {"leads-elsewhere"}),
    "data that are a link": (_link("usr/share/chart/data", "/srv/data"), {"leads-elsewhere"}),
    "a link that is a program": (_program("usr/bin/view"), {"leads-elsewhere"}),
    "a link that is gone": (lambda root: os.unlink(root.folder / "usr/bin/view"), {"code-missing"}),
    "data that are gone": (
        lambda root: os.unlink(root.folder / "usr/share/chart/data"), {"data-missing"}
    ),
    "a setting that is gone": (lambda root: os.unlink(root.folder / "etc/chart.conf"), {"data-missing"}),
    "a package beside it that needs more": (
        lambda root: root.package("quay", "1", "1", requires=[("chart", 12, "2.0")]), {"need-unmet"}
    ),
    "one that needs what is there": (
        lambda root: root.package("quay", "1", "1", requires=[("chart", 12, "1.0")]), set()
    ),
    "one that needs a path that is there": (
        lambda root: root.package("quay", "1", "1", requires=[("/usr/bin/plot", 0, "")]), set()
    ),
    "one that needs a path that is not": (
        lambda root: root.package("quay", "1", "1", requires=[("/usr/bin/none", 0, "")]), {"need-unmet"}
    ),
    "a repository that is not checked": (
        lambda root: root.write("etc/yum.repos.d/quay.repo",
                                "[quay]\nname=q\nbaseurl=https://quay.example/\ngpgcheck=0\n"),
        {"unsigned-allowed"},
    ),
    "one in the clear": (
        lambda root: root.write("etc/yum.repos.d/quay.repo",
                                "[quay]\nname=q\nbaseurl=http://quay.example/\ngpgcheck=1\n"),
        {"fetched-in-the-clear"},
    ),
    "one that is switched off": (
        lambda root: root.write("etc/yum.repos.d/quay.repo",
                                "[quay]\nname=q\nbaseurl=http://quay.example/\nenabled=0\ngpgcheck=0\n"),
        set(),
    ),
    "one of another release": (
        lambda root: (
            root.write("etc/os-release", "ID=coast\nVERSION_ID=42\n"),
            root.write("etc/yum.repos.d/quay.repo",
                       "[quay]\nname=q\nbaseurl=https://quay.example/coast/41/$basearch/\n"),
        ),
        {"other-release"},
    ),
    "one of whatever release this is": (
        lambda root: (
            root.write("etc/os-release", "ID=coast\nVERSION_ID=42\n"),
            root.write("etc/yum.repos.d/quay.repo",
                       "[quay]\nname=q\nbaseurl=https://42.example/coast/$releasever/$basearch/\n"),
        ),
        set(),
    ),
    "what the package system is told besides": (
        _write("etc/dnf/plugins/quay.py", b"x", 0o644), {"hook-of-nobody"}
    ),
    "what builds are told": (_write("usr/lib/rpm/macros.d/macros.quay", b"x", 0o644), {"hook-of-nobody"}),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_each_rule_fires_where_it_is_to_and_nowhere_else(tmp_path: Path, name: str) -> None:
    root = built(tmp_path)
    do, expected = CASES[name]
    do(root)
    assert fires(root) == expected


ROOT = pytest.mark.skipif(os.geteuid() != 0, reason="that takes root's rights")


@ROOT
@pytest.mark.parametrize(
    ("path", "expected"),
    [("usr/bin/plot", {"form-altered"}), ("usr/share/chart/data", {"form-altered"})],
)
def test_owners(tmp_path: Path, path: str, expected: set[str]) -> None:
    root = built(tmp_path)
    _owner(path)(root)
    assert fires(root) == expected


@ROOT
def test_an_owner_that_no_list_has(tmp_path: Path) -> None:
    root = built(tmp_path)
    root.write("usr/lib/own", b"x")
    os.chown(root.folder / "usr/lib/own", 4711, 0)
    assert fires(root) == {"owner-unknown"}


@ROOT
def test_capabilities(tmp_path: Path) -> None:
    root = built(tmp_path)
    path = root.folder / "usr/bin/plot"
    try:
        os.setxattr(
            path, "security.capability", bytes.fromhex("0100000280000000000000000000000000000000")
        )
    except OSError:
        pytest.skip("this file system keeps none")
    assert fires(root) == {"rights-came"}
