"""Verdicts: each aspect, each excuse, and what an intruder left on the station."""

import os
from collections import Counter
from pathlib import Path
from typing import Any

import pytest

from filigree.access.trees import directory
from filigree.model.files import Aspect, FileRecord, Kind, Sort, Verdict
from filigree.questions.commands.verify import verify
from filigree.questions.verifying.judging import judge
from filigree.questions.verifying.verdicts import FileVerdict, VerifyProgress
from filigree.system import open_system
from tests.making import INFO, DebRoot, md5

EVERY = frozenset(Verdict)


def verdicts(root: DebRoot, **options: Any) -> dict[str, FileVerdict]:
    answer = verify(open_system(root.path), verdicts=EVERY, **options)
    return {row.path: row for row in answer.records}


def test_a_clean_system_says_nothing_but_its_summary(deb_root: DebRoot) -> None:
    deb_root.package("a", files={"/usr/bin/a": b"x"}, config={"/etc/a": b"y"})
    answer = verify(open_system(deb_root.path))
    assert answer.records == []
    assert answer.exit_status == 0
    assert answer.summary.verdicts == {"intact": 6}
    assert answer.summary.bytes_read == 2


def change(root: DebRoot, path: str) -> None:
    root.write(path, b"another")


def remove(root: DebRoot, path: str) -> None:
    (root.folder / path[1:]).unlink()


def to_link(root: DebRoot, path: str) -> None:
    remove(root, path)
    root.link(path, "/etc/passwd")


def to_directory(root: DebRoot, path: str) -> None:
    remove(root, path)
    (root.folder / path[1:]).mkdir()


def to_pipe(root: DebRoot, path: str) -> None:
    remove(root, path)
    os.mkfifo(root.folder / path[1:])


@pytest.mark.parametrize(
    ("path", "deed", "verdict", "aspect"),
    [
        ("/usr/bin/a", change, Verdict.ALTERED, Aspect.CONTENT),
        ("/usr/bin/a", remove, Verdict.MISSING, Aspect.PRESENCE),
        ("/usr/bin/a", to_link, Verdict.ALTERED, Aspect.KIND),
        ("/usr/bin/a", to_directory, Verdict.ALTERED, Aspect.KIND),
        ("/usr/bin/a", to_pipe, Verdict.ALTERED, Aspect.KIND),
        ("/etc/a", change, Verdict.EDITED, Aspect.CONTENT),
        ("/etc/a", remove, Verdict.MISSING, Aspect.PRESENCE),
        ("/etc/a", to_link, Verdict.ALTERED, Aspect.KIND),
    ],
)
@pytest.mark.parametrize("workers", [1, 2])
def test_each_deed_is_found(
    deb_root: DebRoot, path: str, deed: Any, verdict: Verdict, aspect: Aspect, workers: int
) -> None:
    deb_root.package("a", files={"/usr/bin/a": b"x", "/usr/bin/b": b"x"}, config={"/etc/a": b"y"})
    deb_root.package("c", files={"/usr/bin/c": b"x"})
    deed(deb_root, path)
    answer = verify(open_system(deb_root.path), workers=workers)
    (row,) = answer.records
    assert (row.path, row.verdict) == (path, verdict)
    assert [difference.aspect for difference in row.differences] == [aspect]
    assert answer.exit_status == (0 if verdict is Verdict.EDITED else 1)


def test_a_swapped_program_of_the_same_size_and_time(deb_root: DebRoot) -> None:
    deb_root.package("a", files={"/usr/bin/a": b"honest"})
    path = deb_root.folder / "usr/bin/a"
    before = path.stat()
    path.write_bytes(b"tricky")
    os.utime(path, ns=(before.st_atime_ns, before.st_mtime_ns))
    (difference,) = verdicts(deb_root)["/usr/bin/a"].differences
    assert difference.expected == f"md5:{md5(b'honest')}"
    assert difference.found == f"md5:{md5(b'tricky')}"


def test_a_diverted_file_is_checked_where_it_went(deb_root: DebRoot) -> None:
    deb_root.package("keeper", files={"/bin/a": b"keeper"})
    deb_root.package("other", files={"/bin/a": b"other"})
    deb_root.write("bin/a", b"keeper")
    deb_root.write("var/lib/dpkg/diversions", "/bin/a\n/bin/a.other\nkeeper\n")
    found = verdicts(deb_root)
    assert found["/bin/a"].verdict is Verdict.INTACT
    assert (found["/bin/a.other"].package, found["/bin/a.other"].verdict) == (
        "other",
        Verdict.MISSING,
    )
    deb_root.write("bin/a.other", b"other")
    moved = verdicts(deb_root)["/bin/a.other"]
    assert (moved.verdict, moved.policy) == (Verdict.EXCUSED, Sort.DIVERSION)
    assert "at /bin/a stands a file of keeper" in (moved.reason or "")


def test_declared_owner_and_mode(deb_root: DebRoot) -> None:
    deb_root.package("a", files={"/usr/sbin/a": b"x"})
    names = f"root:x:{os.getuid()}:{os.getgid()}::/:\n"
    deb_root.write("etc/passwd", names)
    deb_root.write("etc/group", f"root:x:{os.getgid()}:\n")
    deb_root.write("var/lib/dpkg/statoverride", "root root 4750 /usr/sbin/a\n")
    path = deb_root.folder / "usr/sbin/a"
    path.chmod(0o4750)
    assert verdicts(deb_root)["/usr/sbin/a"].verdict is Verdict.INTACT
    path.chmod(0o4755)
    (difference,) = verdicts(deb_root)["/usr/sbin/a"].differences
    assert (difference.aspect, difference.expected, difference.found) == (
        Aspect.MODE,
        "4750",
        "4755",
    )
    path.chmod(0o4750)
    deb_root.write("var/lib/dpkg/statoverride", "tide #77 4750 /usr/sbin/a\n")
    found = verdicts(deb_root)["/usr/sbin/a"]
    assert [(d.aspect, d.expected, d.found) for d in found.differences] == [
        (Aspect.OWNER, "tide", "root"),
        (Aspect.GROUP, "#77", f"#{os.getgid()}"),
    ]


def test_excuses(deb_root: DebRoot) -> None:
    deb_root.package(
        "a", files={"/usr/share/doc/a/b": b"", "/lib/x/y": b"y"}, config={"/etc/old": b""}
    )
    (deb_root.folder / "usr/share/doc/a/b").unlink()
    (deb_root.folder / "etc/old").unlink()
    (deb_root.folder / "lib").rename(deb_root.folder / "usr/lib")
    deb_root.link("lib", "usr/lib")
    deb_root.write("etc/dpkg/dpkg.cfg", "path-exclude=/usr/share/doc/*\n")
    status = deb_root.folder / "var/lib/dpkg/status"
    status.write_text(status.read_text().replace(md5(b""), md5(b"") + " obsolete"))
    found = verdicts(deb_root)
    assert found["/usr/share/doc/a/b"].verdict is Verdict.EXCUSED
    assert found["/etc/old"].reason == "the package no longer ships it"
    assert found["/lib"].reason == "a directory that is reached through a link"
    assert found["/lib/x/y"].verdict is Verdict.INTACT


def test_nothing_is_intact_that_had_nothing_to_be_compared_with(deb_root: DebRoot) -> None:
    deb_root.package("a", files={"/usr/bin/a": b""}, listed=["/usr/lib/link", "/usr/lib/plain"])
    deb_root.link("usr/lib/link", "plain")
    deb_root.write("usr/lib/plain", b"anything")
    deb_root.package("b", files={"/usr/bin/b": b"x"})
    (deb_root.folder / INFO / "b.md5sums").unlink()
    found = verdicts(deb_root)
    for path in ("/usr/lib/link", "/usr/lib/plain", "/usr/bin/b"):
        assert found[path].verdict is Verdict.UNRECORDED


def test_a_file_that_could_not_be_read_is_a_gap_and_not_clean(
    deb_root: DebRoot, monkeypatch: pytest.MonkeyPatch
) -> None:
    deb_root.package("a", files={"/usr/bin/a": b"x"})

    def denied(*_: Any) -> int:
        raise PermissionError(13, "Permission denied")

    system = open_system(deb_root.path)
    record = FileRecord("/usr/bin/a", "/usr/bin/a", Kind.FILE, f"md5:{md5(b'x')}")
    for opens in ("open_seen", "_open"):
        monkeypatch.setattr(directory, opens, denied)
    judged = judge(system, record)
    assert (judged.verdict, judged.reason) == (Verdict.UNREADABLE, "permission denied")


def test_a_file_far_too_large_is_not_read(deb_root: DebRoot) -> None:
    """A sparse file of a terabyte cannot keep the auditor busy for hours."""
    deb_root.package("a", files={"/usr/bin/a": b"x"}, Installed_Size="4")
    with (deb_root.folder / "usr/bin/a").open("wb") as file:
        file.truncate(1 << 40)
    answer = verify(open_system(deb_root.path))
    (row,) = answer.records
    assert row.verdict is Verdict.ALTERED
    assert [difference.aspect for difference in row.differences] == [Aspect.SIZE]


def test_a_loop_in_the_way_is_missing_and_says_why(deb_root: DebRoot) -> None:
    deb_root.package("a", files={"/opt/a/b": b"x"})
    (deb_root.folder / "opt/a/b").unlink()
    (deb_root.folder / "opt/a").rmdir()
    deb_root.link("opt/a", "a")
    found = verdicts(deb_root)["/opt/a/b"]
    assert found.verdict is Verdict.MISSING
    assert found.differences[0].found == "its links go round in a circle"


def test_subjects_and_filters(own_heron: Path) -> None:
    system = open_system(str(own_heron))
    one = verify(system, ["/usr/bin/tidegauge"], EVERY)
    assert {row.package for row in one.records} == {"tidegauge"}
    modes = verify(system, aspects=frozenset({Aspect.MODE}))
    assert [row.path for row in modes.records] == ["/usr/sbin/lockgate"]
    unknown = verify(system, ["tidegage"])
    assert unknown.notes == ["no package on record is called tidegage; did you mean tidegauge?"]
    assert unknown.exit_status == 1


def test_the_intruders_traces_and_nothing_else(heron: Path) -> None:
    answer = verify(open_system(str(heron)))
    loud = [row for row in answer.records if row.package != "lockgate-firmware"]
    assert {(row.path, row.verdict.value, row.differences[0].aspect.value) for row in loud} == {
        ("/usr/bin/tidegauge", "altered", "content"),
        ("/usr/bin/foghorn-test", "altered", "kind"),
        ("/usr/sbin/lockgate", "altered", "mode"),
        ("/usr/share/tidetables/fog-05.tbl", "missing", "presence"),
        ("/etc/tidegauge/gauge.conf", "edited", "content"),
    }
    half = [row for row in answer.records if row.package == "lockgate-firmware"]
    assert {row.verdict for row in half} == {Verdict.MISSING}
    assert answer.summary.unsound["lockgate-firmware"] == "half-installed"


def test_the_count_does_not_depend_on_how_the_work_is_shared(
    heron: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    whole = verify(open_system(str(heron)), workers=1)
    monkeypatch.setattr("filigree.questions.commands.verify.SLICE", 3)
    parts = verify(open_system(str(heron)), workers=3)
    assert parts.records == whole.records
    for name in ("paths", "verdicts", "aspects", "bytes_read"):
        assert getattr(parts.summary, name) == getattr(whole.summary, name)


def test_the_quick_look_and_the_careful_one_agree(heron: Path) -> None:
    """With every verdict asked for, no file takes the quick way."""
    quick = verify(open_system(str(heron)))
    careful = verify(open_system(str(heron)), verdicts=EVERY)
    assert quick.summary.verdicts == careful.summary.verdicts
    assert Counter(r.verdict.value for r in careful.records) == careful.summary.verdicts


def test_progress_reaches_the_end(heron: Path) -> None:
    seen: list[VerifyProgress] = []
    verify(open_system(str(heron)), progress=seen.append)
    assert [now.done for now in seen] == sorted(now.done for now in seen)
    assert seen[-1].done == seen[-1].total


def test_interrupted_it_tells_what_it_found_and_what_it_did_not_reach(
    heron: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("filigree.questions.commands.verify.SLICE", 5)

    def interrupt(now: VerifyProgress) -> None:
        if now.done > now.total // 2:
            raise KeyboardInterrupt

    answer = verify(open_system(str(heron)), progress=interrupt)
    assert answer.interrupted
    assert answer.exit_status == 130
    assert 0 < answer.summary.paths < 986
    assert any("interrupted" in gap.why for gap in answer.gaps)


def test_nothing_below_the_root_changes(own_heron: Path) -> None:
    def state() -> dict[str, tuple[int, int, int, int]]:
        return {
            str(path): (s.st_mtime_ns, s.st_atime_ns, s.st_size, s.st_mode)
            for path in sorted(own_heron.rglob("*"))
            for s in [path.lstat()]
        }

    before = state()
    verify(open_system(str(own_heron)), verdicts=EVERY)
    after = state()
    assert before.keys() == after.keys()
    links_and_directories = {p for p in before if Path(p).is_symlink() or Path(p).is_dir()}
    assert {p: v for p, v in before.items() if p not in links_and_directories} == {
        p: v for p, v in after.items() if p not in links_and_directories
    }
