"""Two roots held against each other: what is told of each change, and what explains it."""

import json
import os
import shutil
import stat
from collections.abc import Callable
from itertools import permutations
from pathlib import Path
from typing import NamedTuple

import pytest

from filigree.demo.heron import build_heron
from filigree.demo.repository import STRANGER, public_key
from filigree.demo.stages import SETTLED
from filigree.model.answer import Answer
from filigree.model.files import Aspect
from filigree.questions.comparing.comparing import CompareSummary, Wish, compare
from filigree.questions.comparing.differences import ChangeKind, Compared, What, mirrored
from filigree.questions.keeping.taking import Taking, snapshot
from filigree.system import open_system
from tests.conftest import Run
from tests.making import INFO, STATUS, DebRoot, md5
from tests.trees.images import entries_of, layer_of, layout

LOG = "var/log/dpkg.log"


def built(folder: Path) -> DebRoot:
    """The root as it was."""
    root = DebRoot(folder)
    root.package(
        "chart", files={"/usr/bin/plot": b"chart", "/usr/share/chart/data": b"data"},
        config={"/etc/chart.conf": b"a = 1\n"},
    )  # fmt: skip
    root.package("rope", files={"/usr/lib/rope/mod.py": b"code"}, config={"/etc/cron.d/rope": b"x"})
    root.package("bell", "2.0-1", files={"/usr/bin/bell": b"bell"})
    for path in ("usr/bin/plot", "usr/bin/bell"):
        (folder / path).chmod(0o755)
    root.link("usr/bin/viewer", "plot")
    root.write("etc/passwd", "root:x:0:0::/root:/bin/dsh\n")
    root.write("etc/group", "root:x:0:\n")
    root.write("etc/apt/sources.list", "deb https://packages.example/coast saltmarsh main\n")
    root.write(LOG, "2026-01-01 10:00:00 install chart:amd64 <none> 1.0-1\n")
    root.write("srv/letters.txt", "private\n")
    root.write("usr/local/bin/ours", b"ours", 0o755)
    return root


@pytest.fixture(scope="module")
def before(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The root as it was, and its snapshot beside it. Shared: no test may change it."""
    top = tmp_path_factory.mktemp("before")
    built(top / "root")
    snapshot(open_system(str(top / "root")), str(top / "kept"), Taking("a test", "0"))
    return top


def held(
    one: Path | str, other: Path | str, wish: Wish | None = None
) -> Answer[Compared, CompareSummary]:
    with open_system(str(one)) as system, open_system(str(other)) as against:
        return compare(system, against, wish or Wish())


def replaced(
    root: DebRoot, name: str, version: str, files: dict[str, bytes], log: bool = True
) -> None:
    """Another version of a package takes the place of the one that is there."""
    status = (root.folder / STATUS).read_text()
    stanzas = [
        one for one in status.split("\n\n") if one and f"Package: {name}\n" not in f"{one}\n"
    ]
    root.write(STATUS, "".join(f"{one}\n\n" for one in stanzas))
    listed = (root.folder / f"{INFO}/{name}.list").read_text().splitlines()
    for path in listed:
        place = root.folder / path.lstrip("/")
        if path not in files and place.is_file() and not path.startswith("/etc"):
            place.unlink()
    root.package(name, version, files=files, config={"/etc/chart.conf": b"a = 1\n"})
    for path in files:
        if path.startswith("/usr/bin/"):
            (root.folder / path[1:]).chmod(0o755)
    if log:
        root.append(LOG, f"2026-02-01 10:00:00 upgrade {name}:amd64 1.0-1 {version}\n")


def _status(root: DebRoot, was: str, is_: str) -> None:
    text = (root.folder / STATUS).read_text()
    assert was in text
    root.write(STATUS, text.replace(was, is_, 1))


def _sum(root: DebRoot, name: str, was: bytes, is_: bytes) -> None:
    path = f"{INFO}/{name}.md5sums"
    root.write(path, (root.folder / path).read_text().replace(md5(was), md5(is_)))


def _swapped_and_recorded(root: DebRoot) -> None:
    root.write("usr/bin/plot", b"other", 0o755)
    _sum(root, "chart", b"chart", b"other")


def _upgraded_to_something_else(root: DebRoot) -> None:
    replaced(root, "chart", "1.1-1", {"/usr/bin/plot": b"newer", "/usr/share/chart/data": b"data"})
    root.write("usr/bin/plot", b"swapped", 0o755)


def _removed(root: DebRoot) -> None:
    for path in ("usr/bin/bell", f"{INFO}/bell.list", f"{INFO}/bell.md5sums"):
        (root.folder / path).unlink()
    text = (root.folder / STATUS).read_text().split("\n\n")
    root.write(STATUS, "\n\n".join(one for one in text if "Package: bell\n" not in f"{one}\n"))
    root.append(LOG, "2026-02-01 10:00:00 remove bell:amd64 2.0-1 <none>\n")


def _removed_and_left_behind(root: DebRoot) -> None:
    _removed(root)
    root.write("usr/bin/bell", b"bell", 0o755)


def _times(root: DebRoot) -> None:
    for path in ("usr/bin/plot", "usr/share/chart/data", "etc/chart.conf"):
        os.utime(root.folder / path, (10**9, 10**9))


def _rights(root: DebRoot) -> None:
    (root.folder / "usr/bin/bell").chmod(0o4755)


def _upgrade(log: bool = True, version: str = "1.1-1") -> Callable[[DebRoot], None]:
    files = {"/usr/bin/plot": b"newer", "/usr/share/chart/data": b"more"}
    return lambda root: replaced(root, "chart", version, files, log)


def steps(*told: Callable[[DebRoot], object]) -> Callable[[DebRoot], object]:
    """Several changes, one after the other."""

    def each(root: DebRoot) -> None:
        for one in told:
            one(root)

    return each


class Case(NamedTuple):
    """What is done to a root; what is told that nothing explains, and what is told that something does:
    each `change subject`."""

    do: Callable[[DebRoot], object]
    unexplained: tuple[str, ...] = ()
    explained: tuple[str, ...] = ()


_KEYS = "etc/apt/trusted.gpg.d/quay.asc"
_RECORDS = (
    "altered /var/lib/dpkg/info/chart.list", "altered /var/lib/dpkg/info/chart.md5sums",
    "altered /var/lib/dpkg/status",
)  # fmt: skip
_UPGRADED = ("altered /usr/bin/plot", "altered /usr/share/chart/data", *_RECORDS[1:])
CASES: dict[str, Case] = {
    "nothing": Case(lambda _: None),
    "times of change alone": Case(_times),
    "a program is swapped": Case(
        lambda r: r.write("usr/bin/plot", b"other", 0o755), ("altered /usr/bin/plot",)
    ),
    "one of the same size and time": Case(
        lambda r: os.utime(r.write("usr/bin/plot", b"CHART", 0o755), (10**9, 10**9)),
        ("altered /usr/bin/plot",),
    ),
    "its record is changed with it": Case(
        _swapped_and_recorded, ("altered /usr/bin/plot", "record chart:amd64"),
        ("altered /var/lib/dpkg/info/chart.md5sums",),
    ),
    "only the record is changed": Case(
        lambda r: _sum(r, "chart", b"chart", b"other"), ("record chart:amd64",),
        ("altered /var/lib/dpkg/info/chart.md5sums",),
    ),
    "a field of the record is changed": Case(
        lambda r: _status(r, "The package chart", "The other"), ("record chart:amd64",),
        ("altered /var/lib/dpkg/status",),
    ),
    "a program runs with others' rights": Case(_rights, ("altered /usr/bin/bell",)),
    "a data file of a package": Case(
        lambda r: r.write("usr/share/chart/data", b"date"), ("altered /usr/share/chart/data",)
    ),
    "a file of a package is gone": Case(
        lambda r: (r.folder / "usr/share/chart/data").unlink(), ("gone /usr/share/chart/data",)
    ),
    "a link leads elsewhere": Case(
        steps(
            lambda r: (r.folder / "usr/bin/viewer").unlink(),
            lambda r: r.link("usr/bin/viewer", "/tmp/x"),
        ),
        ("altered /usr/bin/viewer",),
    ),
    "a file becomes a link": Case(
        steps(lambda r: (r.folder / "usr/bin/plot").unlink(), lambda r: r.link("usr/bin/plot", "bell")),
        ("altered /usr/bin/plot",),
    ),
    "a program of nobody's came": Case(
        lambda r: r.write("usr/bin/new", b"x", 0o755), ("came /usr/bin/new",)
    ),
    "one in a place of data": Case(
        lambda r: r.write("srv/new", b"x", 0o755), ("came /srv/new",)
    ),
    "one that runs with others' rights": Case(
        lambda r: r.write("srv/new", b"x", 0o4755), ("came /srv/new",)
    ),
    "a program of nobody's is another": Case(
        lambda r: r.write("usr/local/bin/ours", b"more", 0o755), ("altered /usr/local/bin/ours",)
    ),
    "a program of nobody's went": Case(
        lambda r: (r.folder / "usr/local/bin/ours").unlink(), ("gone /usr/local/bin/ours",)
    ),
    "a library of nobody's came": Case(
        lambda r: r.write("usr/lib/libquay.so", b"x"), ("came /usr/lib/libquay.so",)
    ),
    "what starts something came": Case(
        lambda r: r.write("etc/cron.d/quay", b"x"), ("came /etc/cron.d/quay",)
    ),
    "data of nobody's came": Case(
        lambda r: r.write("srv/more.txt", b"x"), (), ("came /srv/more.txt",)
    ),
    "data of nobody's is another": Case(
        lambda r: r.write("srv/letters.txt", b"other words"), (), ("altered /srv/letters.txt",)
    ),
    "data of nobody's may be run now": Case(
        lambda r: (r.folder / "srv/letters.txt").chmod(0o755), ("altered /srv/letters.txt",)
    ),
    "byte-compiled": Case(
        lambda r: r.write("usr/lib/rope/__pycache__/mod.cpython-311.pyc", b"x"),
        ("came /usr/lib/rope/__pycache__",),
        ("came /usr/lib/rope/__pycache__/mod.cpython-311.pyc",),
    ),
    "byte-compiled from nothing": Case(
        lambda r: r.write("usr/lib/rope/quay.cpython-311.pyc", b"x"),
        ("came /usr/lib/rope/quay.cpython-311.pyc",),
    ),
    "an edited setting": Case(
        lambda r: r.write("etc/chart.conf", b"a = 2\n"), (), ("altered /etc/chart.conf",)
    ),
    "a setting that is gone": Case(
        lambda r: (r.folder / "etc/chart.conf").unlink(), (), ("gone /etc/chart.conf",)
    ),
    "a setting that may be run now": Case(
        lambda r: r.write("etc/chart.conf", b"a = 2\n", 0o755), ("altered /etc/chart.conf",)
    ),
    "a setting that others may write": Case(
        lambda r: (r.folder / "etc/chart.conf").chmod(0o666), ("altered /etc/chart.conf",)
    ),
    "an upgrade": Case(_upgrade(), (), ("newer chart:amd64", f"altered /{LOG}", *_UPGRADED)),
    "an upgrade that no history tells": Case(
        _upgrade(log=False), ("newer chart:amd64",), _UPGRADED
    ),
    "an older version": Case(
        _upgrade(version="0.9-1"), (), ("older chart:amd64", f"altered /{LOG}", *_UPGRADED)
    ),
    "an upgrade, and a program that is none of it": Case(
        _upgraded_to_something_else, ("altered /usr/bin/plot",),
        ("newer chart:amd64", f"altered /{LOG}", *_UPGRADED[2:]),
    ),
    "a new package": Case(
        steps(
            lambda r: r.package("quay", files={"/usr/share/quay": b"x"}),
            lambda r: r.append(LOG, "2026-02-01 10:00:00 install quay:amd64 <none> 1.0-1\n"),
        ),
        (),
        (
            "came quay:amd64", "came /usr/share/quay", "came /var/lib/dpkg/info/quay.list",
            "came /var/lib/dpkg/info/quay.md5sums", "altered /var/lib/dpkg/status", f"altered /{LOG}",
        ),
    ),
    "a new package that no history tells": Case(
        lambda r: r.package("quay", files={"/usr/share/quay": b"x"}), ("came quay:amd64",),
        (
            "came /usr/share/quay", "came /var/lib/dpkg/info/quay.list",
            "came /var/lib/dpkg/info/quay.md5sums", "altered /var/lib/dpkg/status",
        ),
    ),
    "a new package whose removal the history tells": Case(
        steps(
            lambda r: r.package("quay", files={"/usr/share/quay": b"x"}),
            lambda r: r.append(LOG, "2026-02-01 10:00:00 remove quay:amd64 1.0-1 <none>\n"),
        ),
        ("came quay:amd64",),
        (
            "came /usr/share/quay", "came /var/lib/dpkg/info/quay.list",
            "came /var/lib/dpkg/info/quay.md5sums", "altered /var/lib/dpkg/status", f"altered /{LOG}",
        ),
    ),
    "an upgrade, where the history tells another one": Case(
        steps(
            _upgrade(log=False),
            lambda r: r.append(LOG, "2026-02-01 10:00:00 upgrade chart:amd64 1.0-1 1.2-1\n"),
        ),
        ("newer chart:amd64",), (f"altered /{LOG}", *_UPGRADED),
    ),
    "a package went": Case(
        _removed, (),
        (
            "gone bell:amd64", "gone /usr/bin/bell", "gone /var/lib/dpkg/info/bell.list",
            "gone /var/lib/dpkg/info/bell.md5sums", "altered /var/lib/dpkg/status", f"altered /{LOG}",
        ),
    ),
    "a package went, and its program came back": Case(
        steps(_removed, lambda r: r.write("usr/bin/bell", b"other", 0o755)),
        ("altered /usr/bin/bell",),
        (
            "gone bell:amd64", "gone /var/lib/dpkg/info/bell.list",
            "gone /var/lib/dpkg/info/bell.md5sums", "altered /var/lib/dpkg/status", f"altered /{LOG}",
        ),
    ),
    "a package is held": Case(
        lambda r: _status(r, "Package: bell\nStatus: install", "Package: bell\nStatus: hold"),
        ("held bell:amd64",), ("altered /var/lib/dpkg/status",),
    ),
    "a package breaks": Case(
        lambda r: _status(r, "Package: bell\nStatus: install ok installed",
                          "Package: bell\nStatus: install ok half-configured"),
        ("state bell:amd64",), ("altered /var/lib/dpkg/status",),
    ),
    "a key came": Case(
        lambda r: r.write(_KEYS, public_key(STRANGER)),
        (f"came /{_KEYS}", "came /etc/apt/trusted.gpg.d", "came KEY"),
    ),
    "a repository came": Case(
        lambda r: r.append("etc/apt/sources.list", "deb https://quay.example/x sand main\n"),
        ("altered /etc/apt/sources.list", "came quay.example/x sand main (amd64)"),
    ),
    "a repository need not be signed": Case(
        lambda r: r.write(
            "etc/apt/sources.list",
            "deb [trusted=yes] https://packages.example/coast saltmarsh main\n",
        ),
        (
            "altered /etc/apt/sources.list",
            "altered packages.example/coast saltmarsh main (amd64)",
        ),
    ),
    "a user came": Case(
        lambda r: r.append("etc/passwd", "quay:x:0:0::/:/bin/dsh\n"),
        ("altered /etc/passwd", "came user quay"),
    ),
    "a user has another number": Case(
        lambda r: r.write("etc/group", "root:x:7:\n"),
        ("altered /etc/group", "altered group root"),
    ),
    "a diversion came": Case(
        lambda r: r.write("var/lib/dpkg/diversions", "/usr/bin/plot\n/usr/bin/plot.x\nrope\n"),
        ("came diversion of /usr/bin/plot",), ("came /var/lib/dpkg/diversions",),
    ),
    "an override excuses what was done": Case(
        steps(
            lambda r: r.write("var/lib/dpkg/statoverride", "root root 4755 /usr/bin/bell\n"),
            lambda r: (r.folder / "usr/bin/bell").chmod(0o4755),
        ),
        ("altered /usr/bin/bell", "came override of /usr/bin/bell"),
        ("came /var/lib/dpkg/statoverride",),
    ),
    "files are left out": Case(
        lambda r: r.write("etc/dpkg/dpkg.cfg.d/less", "path-exclude=/usr/share/chart/*\n"),
        (
            "came /etc/dpkg", "came /etc/dpkg/dpkg.cfg.d", "came /etc/dpkg/dpkg.cfg.d/less",
            "came exclusion of /usr/share/chart/data",
        ),
    ),
    "a script of a package": Case(
        lambda r: r.write(f"{INFO}/bell.prerm", "#!/bin/dsh\ngone\n", 0o755),
        (f"came /{INFO}/bell.prerm", "record bell:amd64"),
    ),
    "a script that nothing runs as it is": Case(
        lambda r: r.write(f"{INFO}/bell.prerm", "#!/bin/dsh\ngone\n"),
        ("record bell:amd64",), (f"came /{INFO}/bell.prerm",),
    ),
    "a new package with a script": Case(
        steps(
            lambda r: r.package("quay", files={"/usr/share/quay": b"x"}),
            lambda r: r.write(f"{INFO}/quay.prerm", "#!/bin/dsh\n", 0o755),
            lambda r: r.append(LOG, "2026-02-01 10:00:00 install quay:amd64 <none> 1.0-1\n"),
        ),
        (),
        (
            "came quay:amd64", "came /usr/share/quay", f"came /{INFO}/quay.list",
            f"came /{INFO}/quay.md5sums", f"came /{INFO}/quay.prerm", f"altered /{STATUS}",
            f"altered /{LOG}",
        ),
    ),
    "what the history told is gone": Case(
        lambda r: r.write(LOG, "2025-12-01 10:00:00 install bell:amd64 <none> 2.0-1\n"),
        ("gone chart",), (f"altered /{LOG}",),
    ),
    "the history was rotated": Case(
        lambda r: r.write(LOG, "2026-03-01 10:00:00 install bell:amd64 <none> 2.0-1\n"),
        (), (f"altered /{LOG}", "gone chart"),
    ),
    "a directory that others may write": Case(
        lambda r: (r.folder / "usr/share/chart").chmod(0o777), ("altered /usr/share/chart",)
    ),
    "a pipe in the place of a file": Case(
        steps(
            lambda r: (r.folder / "usr/share/chart/data").unlink(),
            lambda r: os.mkfifo(r.folder / "usr/share/chart/data"),
        ),
        ("altered /usr/share/chart/data",),
    ),
}  # fmt: skip


def named(row: Compared) -> str:
    subject = "KEY" if row.what.value == "key" else row.subject
    return f"{row.change.value} {subject}"


@pytest.mark.parametrize("name", CASES)
def test_each_change_is_told_with_what_explains_it(before: Path, tmp_path: Path, name: str) -> None:
    case = CASES[name]
    shutil.copytree(before / "root", tmp_path / "root", symlinks=True)
    case.do(_again(tmp_path / "root"))
    with open_system(str(tmp_path / "root")) as system:
        snapshot(system, str(tmp_path / "kept"), Taking("a test", "0"))
    answer = held(before / "kept", tmp_path / "kept")
    unexplained = [named(row) for row in answer.records if row.explained_by is None]
    explained = [named(row) for row in answer.records if row.explained_by is not None]
    assert sorted(unexplained) == sorted(case.unexplained)
    assert sorted(explained) == sorted(case.explained)
    assert answer.exit_status == (1 if unexplained else 0)
    assert all(bool(row.why) is (row.explained_by is None) for row in answer.records)
    assert answer.summary.unexplained == len(unexplained)
    back = held(tmp_path / "kept", before / "kept")
    here = [row for row in answer.records if row.what is not What.HISTORY]
    there = [row for row in back.records if row.what is not What.HISTORY]
    assert sorted(map(_turned, here)) == sorted(map(_as_it_is, there)), "and so the other way round"


def _again(folder: Path) -> DebRoot:
    """A root that is there already, to go on with."""
    root = DebRoot.__new__(DebRoot)
    root.folder = folder
    return root


def _as_it_is(row: Compared) -> tuple[str, ...]:
    return row.what.value, row.change.value, row.subject, str(row.before), str(row.after)


def _turned(row: Compared) -> tuple[str, ...]:
    return row.what.value, mirrored(row.change).value, row.subject, str(row.after), str(row.before)


@pytest.mark.parametrize(
    "kinds", list(permutations(("directory", "snapshot", "image"), 2)), ids="-".join
)
def test_roots_of_every_kind_tell_the_same(
    before: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, kinds: tuple[str, str]
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    after = tmp_path / "after"
    shutil.copytree(before / "root", after, symlinks=True)
    case = CASES["its record is changed with it"]
    case.do(_again(after))
    made = {}
    for number, (kind, root) in enumerate(zip(kinds, (before / "root", after), strict=True)):
        place = tmp_path / str(number)
        if kind == "snapshot":
            snapshot(open_system(str(root)), str(place), Taking("a test", "0"))
        elif kind == "image":
            layout(place, [layer_of(list(entries_of(root)))])
        made[number] = root if kind == "directory" else place
    answer = held(made[0], made[1])
    assert sorted(map(named, answer.records)) == sorted(case.unexplained + case.explained)


def test_a_pair_of_images_tells_by_layer(
    before: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    below = layer_of(list(entries_of(before / "root")))
    one = layout(tmp_path / "one", [below])
    from tests.trees.images import file

    other = layout(tmp_path / "other", [below, layer_of([file("usr/bin/plot", b"x", 0o755)])])
    (row,) = held(one, other).records
    assert (row.subject, row.layer) == ("/usr/bin/plot", 1)


def test_only_what_is_wished_for_is_told(before: Path, tmp_path: Path) -> None:
    root = tmp_path / "root"
    shutil.copytree(before / "root", root, symlinks=True)
    _upgraded_to_something_else(_again(root))

    def told(**wish: object) -> set[str]:
        return {named(row) for row in held(before / "kept", root, Wish(**wish)).records}  # type: ignore[arg-type]

    every = told()
    assert told(unexplained=True) == {"altered /usr/bin/plot"}
    assert told(packages=True) == {"newer chart:amd64"}
    assert told(files=True) == every - {"newer chart:amd64"}
    assert told(globs=("/usr/bin/*",)) == {"altered /usr/bin/plot"}
    assert told(globs=("/nowhere/**",)) == set()


def test_what_nobody_looked_at_is_no_difference(before: Path, tmp_path: Path) -> None:
    import sqlite3

    shutil.copy(before / "kept", tmp_path / "kept")
    with sqlite3.connect(tmp_path / "kept") as made:
        made.execute("INSERT INTO unlisted VALUES (CAST('/srv' AS BLOB), 'the door was shut')")
        made.execute("DELETE FROM entries WHERE name = CAST('letters.txt' AS BLOB)")
    for one, other in permutations((before / "kept", tmp_path / "kept")):
        answer = held(one, other)
        assert answer.records == []
        assert answer.exit_status == 3, "it is not clean either"
        assert ("/srv", "the door was shut") in answer.gaps
    both = held(tmp_path / "kept", tmp_path / "kept")
    assert both.exit_status == 3


def test_what_the_kernel_put_over_a_directory_is_a_gap(before: Path, tmp_path: Path) -> None:
    import sqlite3

    shutil.copy(before / "kept", tmp_path / "kept")
    with sqlite3.connect(tmp_path / "kept") as made:
        why = "the kernel makes it up (tracefs)"
        made.execute("INSERT INTO unlisted VALUES (CAST('/usr/bin' AS BLOB), ?)", (why,))
        made.execute("DELETE FROM entries WHERE name = CAST('plot' AS BLOB)")
    answer = held(before / "kept", tmp_path / "kept")
    assert answer.exit_status == 3
    assert any(gap.why == why for gap in answer.gaps)


def test_a_file_that_nobody_could_read_is_a_gap(before: Path, tmp_path: Path) -> None:
    import sqlite3

    shutil.copy(before / "kept", tmp_path / "kept")
    with sqlite3.connect(tmp_path / "kept") as made:
        made.execute(
            "UPDATE entries SET sha256 = NULL, md5 = NULL WHERE name = CAST('plot' AS BLOB)"
        )
        made.execute("INSERT INTO unread VALUES (CAST('/usr/bin/plot' AS BLOB), 'DENIED', NULL)")
    answer = held(tmp_path / "kept", tmp_path / "kept")
    assert answer.exit_status == 3
    assert ("/usr/bin/plot", "permission denied") in answer.gaps


def test_a_digest_that_only_one_has_is_a_gap(before: Path, tmp_path: Path) -> None:
    import sqlite3

    shutil.copy(before / "kept", tmp_path / "kept")
    with sqlite3.connect(tmp_path / "kept") as made:
        told = "UPDATE entries SET sha256 = NULL, md5 = NULL WHERE name = CAST('ours' AS BLOB)"
        made.execute(told)
    answer = held(before / "kept", tmp_path / "kept")
    assert answer.exit_status == 3
    assert any("nobody can tell" in gap.why for gap in answer.gaps)


def test_two_families_are_compared_by_paths(heron: Path, plover: Path) -> None:
    answer = held(heron, plover, Wish(packages=True))
    assert any("within one family" in gap.why for gap in answer.gaps)


def test_a_station_before_the_night_and_after_it(heron: Path, tmp_path: Path) -> None:
    settled = build_heron(tmp_path / "heron", SETTLED)
    answer = held(settled, heron)
    told = {row.subject: row for row in answer.records if row.explained_by is None}
    assert told["/usr/bin/tidegauge"].aspects == [Aspect.CONTENT]
    assert told["/usr/sbin/lockgate"].aspects == [Aspect.MODE]
    assert told["/usr/sbin/gullcheck"].change is ChangeKind.CAME
    assert told["siltmeter:amd64"].change is ChangeKind.RECORD
    assert all(path in told for path in ("/usr/bin/siltmeter", "/usr/bin/foghorn-test"))
    seen = (heron / "usr/sbin/lockgate").stat().st_mode
    assert told["/usr/sbin/lockgate"].after == f"{stat.S_IMODE(seen):04o}"
    assert any(row.what is What.KEY for row in told.values())


def test_the_command_line(call: Run, before: Path, tmp_path: Path) -> None:
    kept, root = str(before / "kept"), str(before / "root")
    done = call("compare", kept, root, "--format", "json")
    answer = json.loads(done.stdout)
    assert (done.returncode, answer["records"]) == (0, [])
    assert answer["summary"]["before_seen_at"] == answer["system"]["seen_at"]
    assert answer["summary"]["after_seen_at"] is None
    assert "Nothing differs" in call("compare", kept, root, "--format", "table").stdout
    for wrong in (
        ("--only", "all"), ("--packages", "--files"), ("--root", root),
    ):  # fmt: skip
        assert call("compare", kept, root, *wrong).returncode == 2
    assert call("compare", kept, str(tmp_path / "nowhere")).returncode == 2
    assert call("compare", kept).returncode == 2
