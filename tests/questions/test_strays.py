"""Files of nobody, what is said of them, and where a walk does not go."""

import contextlib
import os
from pathlib import Path
from typing import Any

import pytest

from filigree.access.trees.directory import DirectoryTree
from filigree.access.trees.walking import DirectoryWalk
from filigree.demo.heron import STRAY
from filigree.formats.temporary_files import read_rules
from filigree.model.answer import Gap
from filigree.model.errors import BadQuestion
from filigree.questions.commands.strays import Stray, strays
from filigree.questions.finding.causes import Cause
from filigree.questions.finding.ranks import Rank
from filigree.system import open_system
from tests.making import INFO, DebRoot


def found(root: DebRoot, *directories: str, **options: Any) -> dict[str, Stray]:
    with open_system(root.path) as system:
        return {row.path: row for row in strays(system, directories, **options).records}


@pytest.fixture
def root(deb_root: DebRoot) -> DebRoot:
    deb_root.package(
        "a", files={"/usr/bin/a": b"x", "/usr/lib/a/mod.py": b"pass", "/usr/share/a/table": b"1"},
        config={"/etc/a.conf": b"y"},
    )  # fmt: skip
    return deb_root


def test_what_packages_own_is_no_stray(root: DebRoot) -> None:
    assert found(root) == {}


def test_a_merged_directory_is_the_same_by_both_names(root: DebRoot) -> None:
    root.link("/bin", "usr/bin")
    root.package("b", listed=["/bin", "/bin/b"])
    root.write("/usr/bin/b", b"x")
    assert found(root) == {}


def test_each_cause(root: DebRoot) -> None:
    root.write("/usr/lib/a/__pycache__/mod.cpython-311.pyc", b"x")
    root.write("/usr/lib/a/__pycache__/gone.cpython-311.pyc", b"x")
    root.write("/etc/a.conf.dpkg-dist", b"x")
    root.write("/etc/passwd", b"root:x:0:0::/:/bin/sh\n")
    root.write("/usr/lib/sysusers.d/a.conf", b"u a -\n")
    root.write(
        "/usr/lib/tmpfiles.d/a.conf", b"f /etc/a.made 0644\nL+ /etc/a.li* - - - - x\n# f /etc/no\n"
    )
    root.write("/etc/a.made", b"x")
    root.link("/etc/a.link", "nowhere")
    root.link("/etc/to-a", "/usr/bin/a")
    root.write("/etc/a.cache", b"x")
    root.write(f"{INFO}/a.postinst", b"#!/bin/sh\nmake-cache > /etc/a.cache\n", 0o755)
    root.write("/var/lib/dpkg/alternatives/ed", b"auto\n/usr/bin/ed\n\n/usr/bin/a\n10\n\n")
    root.link("/usr/bin/ed", "/etc/alternatives/ed")
    root.link("/etc/alternatives/ed", "/usr/bin/a")
    root.write("/var/log/a.log", b"x")
    root.write("/var/lib/dpkg/diversions", b"/usr/bin/a\n/usr/bin/a.real\n:\n")
    rows = found(root)
    causes = {path: row.cause for path, row in rows.items()}
    assert causes == {
        "/usr/lib/a/__pycache__/mod.cpython-311.pyc": Cause.BYTECODE,
        "/usr/lib/a/__pycache__/gone.cpython-311.pyc": None,
        "/etc/a.conf.dpkg-dist": Cause.KEPT,
        "/etc/passwd": Cause.USERS,
        "/etc/a.made": Cause.TEMPORARY,
        "/etc/a.link": Cause.TEMPORARY,
        "/etc/to-a": Cause.LINK,
        "/etc/a.cache": Cause.SCRIPT,
        "/usr/bin/ed": Cause.ALTERNATIVE,
        "/etc/alternatives/ed": Cause.ALTERNATIVE,
        "/usr/bin/a": Cause.DIVERTED,
        "/usr/lib/sysusers.d/a.conf": None,
        "/usr/lib/tmpfiles.d/a.conf": None,
    }
    assert found(root, "/var/log")["/var/log/a.log"].cause is Cause.LOG
    assert found(root, f"/{INFO}")[f"/{INFO}/a.postinst"].cause is Cause.DATABASE


def test_what_runs_with_others_rights_comes_first(root: DebRoot) -> None:
    for name, mode in (("z", 0o4755), ("y", 0o2755), ("b", 0o755), ("c", 0o644)):
        root.write(f"/usr/bin/{name}", b"x").chmod(mode)
    with open_system(root.path) as system:
        answer = strays(system)
    assert [(row.path, row.rank) for row in answer.records] == [
        ("/usr/bin/y", Rank.RIGHTS), ("/usr/bin/z", Rank.RIGHTS), ("/usr/bin/b", Rank.PROGRAM),
        ("/usr/bin/c", Rank.OTHER),
    ]  # fmt: skip
    assert [row.mode for row in answer.records[:2]] == ["2755", "4755"]
    assert answer.exit_status == 1


def test_a_whole_directory_of_nobodys(root: DebRoot) -> None:
    root.write("/usr/lib/kit/one/a", b"x")
    root.write("/usr/lib/kit/two/b", b"x")
    (root.folder / "usr/lib/kit/empty").mkdir()
    rows = found(root)
    assert {row.below for row in rows.values()} == {"/usr/lib/kit"}
    assert set(rows) == {"/usr/lib/kit/one/a", "/usr/lib/kit/two/b", "/usr/lib/kit/empty"}


def test_links_are_told_and_not_followed(root: DebRoot, tmp_path: Path) -> None:
    (tmp_path / "outside").mkdir()
    (tmp_path / "outside/secret").write_text("x")
    root.link("/usr/lib/out", str(tmp_path / "outside"))
    root.link("/usr/lib/round", "/usr/lib")
    rows = found(root)
    assert set(rows) == {"/usr/lib/out", "/usr/lib/round"}
    assert rows["/usr/lib/out"].link_target == str(tmp_path / "outside")


def test_odd_things_are_listed_by_what_they_are(root: DebRoot) -> None:
    os.mkfifo(root.folder / "usr/bin/pipe")
    name = os.fsdecode(b"/usr/bin/\xff\x1b[31m")
    root.write(name.encode("utf-8", "surrogateescape").decode("utf-8", "surrogateescape"), b"x")
    rows = found(root)
    assert rows["/usr/bin/pipe"].kind == "pipe"
    assert len(rows) == 2


@pytest.mark.skipif(os.geteuid() == 0, reason="root may enter every directory")
def test_what_cannot_be_entered_is_a_gap(root: DebRoot) -> None:
    (root.folder / "usr/lib/a").chmod(0)
    with open_system(root.path) as system:
        answer = strays(system)
    (root.folder / "usr/lib/a").chmod(0o755)
    assert [gap.what for gap in answer.gaps] == ["/usr/lib/a"]


def test_what_the_kernel_makes_up_is_passed_over_and_other_file_systems_are_gaps() -> None:
    with contextlib.closing(DirectoryTree("/")) as tree:
        device = os.stat("/").st_dev
        if os.stat("/proc").st_dev == device:
            pytest.skip("no file system of the kernel's is mounted here")
        kinds = {os.stat("/proc").st_dev: "proc"}
        assert list(DirectoryWalk(tree._listable, "/proc", False, kinds)) == []
        # The same, taken for another disk: it is named, and not entered, until that is asked for.
        walk = DirectoryWalk(tree._listable, "/", False, {os.stat("/proc").st_dev: "ext4"})
        gaps = []
        for entry in walk:
            if isinstance(entry, Gap):
                gaps.append(entry)
                if entry.what == "/proc":
                    break
        assert gaps[-1].why == "it is another file system (ext4), and those were not asked for"


def test_a_directory_that_is_none_is_no_question(root: DebRoot) -> None:
    for path in ("/nowhere", "/usr/bin/a"):
        with pytest.raises(BadQuestion):
            found(root, path)


def test_a_directory_that_goes_deeper_than_anybody_needs(root: DebRoot) -> None:
    place = root.folder / "usr/lib"
    here = os.open(place, os.O_RDONLY)
    for _ in range(400):
        os.mkdir("d", dir_fd=here)
        below = os.open("d", os.O_RDONLY, dir_fd=here)
        os.close(here)
        here = below
    os.close(here)
    with open_system(root.path) as system:
        answer = strays(system)
    assert any("directories deep" in gap.why for gap in answer.gaps)


def test_heron(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = strays(system)
    assert [row.path for row in answer.records if row.rank is Rank.PROGRAM] == [STRAY]


@pytest.mark.parametrize(
    ("line", "paths"),
    [
        ("d /run/a 0755 root root -", ["/run/a"]),
        ("C! /etc/a - - - - /usr/share/a", ["/etc/a"]),
        ('f "/etc/with quotes" 0644', ["/etc/with"]),
        ("r /etc/a", []),
        ("f /home/%u/x", []),
        ("f /etc/100%%", ["/etc/100%"]),
        ("# f /etc/a", []),
        ("f", []),
        ("f relative", []),
        ("\xff\x00", []),
    ],
)
def test_declared_files(line: str, paths: list[str]) -> None:
    assert [rule.path for rule in read_rules(line.encode("utf-8", "surrogateescape"))] == paths
