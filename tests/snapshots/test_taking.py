"""Taking snapshots: what is in one, what is not, and what happens where something is in the way."""

import json
import os
import sqlite3
import stat
import subprocess
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from filigree.access.snapshots import writing
from filigree.access.trees.protocol import Tree
from filigree.model.errors import AccessError, BadQuestion, Obstacle
from filigree.questions.keeping import taking
from filigree.questions.keeping.taking import SnapshotRow, Taking, TakingProgress, snapshot
from filigree.system import System, open_system
from tests.conftest import Run
from tests.making import DebRoot


def taken(root: Path | str, out: Path, **more: Any) -> SnapshotRow:
    """Take a snapshot of a root."""
    system = open_system(str(root))
    (row,) = snapshot(system, str(out), Taking("a test", "0", **more)).records
    system.close()
    return row


def rows(out: Path, query: str, *values: Any) -> list[tuple[Any, ...]]:
    """What stands in a snapshot, read by nothing of ours."""
    with sqlite3.connect(out) as made:
        return made.execute(query, values).fetchall()


def entry(out: Path, path: str) -> dict[str, Any]:
    """The row of a path, read by nothing of ours."""
    parent, _, name = path.encode().rpartition(b"/")
    made = sqlite3.connect(out)
    made.row_factory = sqlite3.Row
    query = "SELECT e.* FROM entries e JOIN directories d ON d.id = e.parent WHERE path = ? AND name = ?"
    (found,) = made.execute(query, (parent, name)).fetchall()
    return dict(found)


@pytest.fixture
def coast(deb_root: DebRoot) -> DebRoot:
    """A root with a package, an edited setting, a program of nobody's and a file of nobody's."""
    deb_root.package("chart", files={"/usr/bin/plot": b"chart", "/usr/share/chart/data": b"data"})
    deb_root.write("usr/bin/nobodys", b"x")
    (deb_root.folder / "usr/bin/nobodys").chmod(0o4755)
    deb_root.write("srv/letters.txt", b"private words")
    deb_root.link("usr/bin/again", "plot")
    return deb_root


def test_every_path_stands_in_it_as_the_disk_has_it(coast: DebRoot, tmp_path: Path) -> None:
    row = taken(coast.path, tmp_path / "out")
    there = list(coast.folder.rglob("*"))
    assert (
        row.paths == len(there) + 1 == rows(tmp_path / "out", "SELECT count(*) FROM entries")[0][0]
    )
    for path in there:
        seen, told = path.lstat(), entry(tmp_path / "out", f"/{path.relative_to(coast.folder)}")
        assert told["mode"] == seen.st_mode, path
        assert (told["uid"], told["gid"], told["size"]) == (seen.st_uid, seen.st_gid, seen.st_size)
        assert (told["modified"], told["changed"]) == (seen.st_mtime_ns, seen.st_ctime_ns)
        assert told["inode"] == seen.st_ino
    assert entry(tmp_path / "out", "/usr/bin/again")["target"] == b"plot"


def test_digests_are_what_others_say(coast: DebRoot, tmp_path: Path) -> None:
    out = tmp_path / "out"
    taken(coast.path, out)
    for path, on_record in (("usr/bin/plot", True), ("usr/bin/nobodys", False)):
        told = entry(out, f"/{path}")
        for tool, name in (("sha256sum", "sha256"), ("md5sum", "md5")):
            done = subprocess.run([tool, coast.folder / path], capture_output=True, check=True)
            if on_record or name == "sha256":
                assert told[name].hex() == done.stdout.decode().split()[0]
    assert entry(out, "/srv/letters.txt")["sha256"] is None, "nobody asked for it"
    taken(coast.path, out, everything=True)
    assert entry(out, "/srv/letters.txt")["sha256"] is not None


def test_contents_of_other_files_are_never_kept(heron: Path, tmp_path: Path) -> None:
    out = tmp_path / "out"
    taken(heron, out, settings=False)
    kept = {digest for (digest,) in rows(out, "SELECT sha256 FROM contents")}
    paths = rows(
        out, "SELECT d.path, e.name, e.sha256 FROM entries e JOIN directories d ON d.id = e.parent"
    )
    named = {(above + b"/" + name).decode() for above, name, digest in paths if digest in kept}
    places = (
        "/var/lib/dpkg/",
        "/var/lib/apt/",
        "/etc/apt/",
        "/usr/share/keyrings/",
        "/etc/dpkg/",
        "/var/log/",
    )
    others = {path for path in named if not path.startswith(places)}
    assert others <= {"/etc/passwd", "/etc/group", "/usr/lib/os-release", "/etc/os-release"}
    assert not any(path.startswith("/usr/bin/") for path in named)


@pytest.mark.parametrize("settings", [False, True])
def test_edited_settings_are_kept_where_that_is_asked_for(
    ask: Callable[..., Any], heron: Path, tmp_path: Path, settings: bool
) -> None:
    edited = ask("verify", "--only", "edited", "--root", str(heron))["records"][0]["path"]
    taken(heron, tmp_path / "out", settings=settings)
    digest = entry(tmp_path / "out", edited)["sha256"]
    found = rows(tmp_path / "out", "SELECT count(*) FROM contents WHERE sha256 = ?", digest)
    assert found == [(int(settings),)]


def test_indexes_and_archives_are_left_out_or_kept(heron: Path, tmp_path: Path) -> None:
    def held(path: str, out: Path) -> bool:
        digest = entry(out, path)["sha256"]
        asked = "SELECT count(*) FROM contents WHERE sha256 = ?"
        return digest is not None and rows(out, asked, digest)[0][0] > 0

    archive = f"/var/cache/apt/archives/{sorted(os.listdir(heron / 'var/cache/apt/archives'))[0]}"
    lists = heron / "var/lib/apt/lists"
    index = "/var/lib/apt/lists/" + next(
        n for n in sorted(os.listdir(lists)) if n.endswith("Packages")
    )
    taken(heron, tmp_path / "usual")
    taken(heron, tmp_path / "less", indexes=False)
    taken(heron, tmp_path / "more", archives=True)
    assert [held(index, tmp_path / name) for name in ("usual", "less", "more")] == [
        True,
        False,
        True,
    ]
    assert [held(archive, tmp_path / name) for name in ("usual", "less", "more")] == [
        False,
        False,
        True,
    ]


def test_the_same_root_gives_the_same_bytes_but_for_times(coast: DebRoot, tmp_path: Path) -> None:
    tables = ("directories", "entries", "contents", "unlisted", "unread", "gaps", "file_systems")
    for name in ("one", "other"):
        taken(coast.path, tmp_path / name)
    for table in tables:
        asked = f"SELECT * FROM {table}"
        assert rows(tmp_path / "one", asked) == rows(tmp_path / "other", asked), table
    assert (tmp_path / "one").stat().st_size == (tmp_path / "other").stat().st_size
    assert rows(tmp_path / "one", "PRAGMA freelist_count") == [(0,)]


def test_what_is_being_written_is_none_of_what_is_kept(coast: DebRoot) -> None:
    before = sum(1 for _ in coast.folder.rglob("*"))
    row = taken(coast.path, coast.folder / "srv" / "out")
    assert row.paths == before + 1
    assert row.changed == 0
    names = [name for (name,) in rows(coast.folder / "srv" / "out", "SELECT name FROM entries")]
    assert not [name for name in names if name.startswith(b".filigree-") or name == b"out"]


def test_it_is_the_callers_alone_and_nothing_else_is_left(coast: DebRoot, tmp_path: Path) -> None:
    out = tmp_path / "folder" / "out"
    out.parent.mkdir()
    old = os.umask(0)
    try:
        taken(coast.path, out)
    finally:
        os.umask(old)
    assert stat.S_IMODE(out.stat().st_mode) == 0o600
    assert os.listdir(out.parent) == ["out"]


@pytest.mark.parametrize("where", ["_walk", "_ask", "_portray", "_keep_contents"])
@pytest.mark.parametrize("error", [KeyboardInterrupt, RuntimeError])
def test_what_breaks_off_leaves_nothing_and_loses_nothing(
    coast: DebRoot,
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    where: str,
    error: type[BaseException],
) -> None:
    out = tmp_path / "folder" / "out"
    out.parent.mkdir()
    out.write_bytes(b"an older one")

    def fails(_: object) -> None:
        raise error

    monkeypatch.setattr(taking._Taker, where, fails)
    with pytest.raises(error):
        taken(coast.path, out)
    assert os.listdir(out.parent) == ["out"]
    assert out.read_bytes() == b"an older one"


@pytest.mark.parametrize(
    "make",
    {
        "a directory": lambda path: path.mkdir(),
        "a pipe": os.mkfifo,
        "a link to nothing": lambda path: path.symlink_to("nowhere"),
        "no folder": lambda _: None,
    }.items(),
    ids=lambda pair: pair[0],
)
def test_where_nothing_can_be_written(
    coast: DebRoot, tmp_path: Path, make: tuple[str, Callable[[Path], None]]
) -> None:
    out = tmp_path / "out" if make[0] != "no folder" else tmp_path / "nowhere" / "out"
    make[1](out)
    before = os.listdir(tmp_path)
    with pytest.raises(BadQuestion):
        taken(coast.path, out)
    assert os.listdir(tmp_path) == before


class _Changing:
    """A tree in which a file is another one as soon as its content is read."""

    def __init__(self, below: Tree, change: Callable[[], None]) -> None:
        self._below = below
        self._change = change

    def __getattr__(self, name: str) -> Any:
        return getattr(self._below, name)

    def pieces(self, path: str, size: int = 1 << 20) -> Any:
        if path == "/var/lib/dpkg/status":
            self._change()
        return self._below.pieces(path, size)


def test_a_file_that_changes_meanwhile_is_told(coast: DebRoot, tmp_path: Path) -> None:
    system = open_system(coast.path)
    status = coast.folder / "var/lib/dpkg/status"

    def change() -> None:
        status.write_bytes(status.read_bytes() + b"\n")

    whole = System(_Changing(system.tree, change))
    answer = snapshot(whole, str(tmp_path / "out"), Taking("a test", "0"))
    assert answer.records[0].changed == 1
    assert rows(tmp_path / "out", "SELECT path FROM changed") == [(b"/var/lib/dpkg/status",)]
    assert any("changed while it was read" in gap.why for gap in answer.gaps)
    digest = entry(tmp_path / "out", "/var/lib/dpkg/status")["sha256"]
    assert rows(tmp_path / "out", "SELECT * FROM contents WHERE sha256 = ?", digest) == []


def test_what_cannot_be_read_is_told_and_not_absent(
    coast: DebRoot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    system = open_system(coast.path)
    usual = system.tree.portray

    def portray(path: str, algorithms: tuple[str, ...] = (), **more: Any) -> Any:
        if path == "/usr/bin/plot" and algorithms:
            raise AccessError(Obstacle.DENIED, path)
        return usual(path, algorithms, **more)

    monkeypatch.setattr(system.tree, "portray", portray)
    answer = snapshot(system, str(tmp_path / "out"), Taking("a test", "0"))
    assert answer.exit_status == 3
    kept = open_system(str(tmp_path / "out"))
    with pytest.raises(AccessError) as raised:
        kept.tree.observe("/usr/bin/plot", "md5")
    assert raised.value.obstacle is Obstacle.DENIED
    assert kept.tree.observe("/usr/bin/plot").size == 5


def test_how_far_it_has_come_is_told(coast: DebRoot, tmp_path: Path) -> None:
    said: list[TakingProgress] = []
    taken(coast.path, tmp_path / "out", progress=said.append)
    assert list(dict.fromkeys(what for what, _, _ in said)) == [
        "questions asked", "files read", "contents kept",
    ]  # fmt: skip
    assert all(done <= total for what, done, total in said if what != "files read")


def test_the_command_line(call: Run, heron: Path, tmp_path: Path) -> None:
    out = str(tmp_path / "out")
    done = call("snapshot", out, "--root", str(heron), "--label", "shore", "--format", "json")
    (row,) = json.loads(done.stdout)["records"]
    assert (row["file"], row["label"], row["signed"]) == (out, "shore", False)
    assert row["size"] == os.path.getsize(out)
    (told,) = json.loads(call("survey", "--root", out, "--format", "json").stdout)["records"]
    assert told["taken"]["label"] == "shore"
    assert told["taken"]["host"] == "heron"
    assert told["taken"]["root"] == str(heron)
    for wrong in (
        ("--digest", "nothing"), ("--without", "everything"), ("--sign", str(tmp_path / "nowhere")),
    ):  # fmt: skip
        assert call("snapshot", out, "--root", str(heron), *wrong).returncode == 2


def test_large_contents_stand_in_parts(
    coast: DebRoot, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(writing, "PIECE", 64)
    monkeypatch.setattr("filigree.access.snapshots.record.PIECE", 64)
    whole = (coast.folder / "var/lib/dpkg/status").read_bytes()
    taken(coast.path, tmp_path / "out")
    digest = entry(tmp_path / "out", "/var/lib/dpkg/status")["sha256"]
    parts = rows(tmp_path / "out", "SELECT part FROM contents WHERE sha256 = ? ORDER BY 1", digest)
    assert len(parts) == -(-len(whole) // 64) > 1
    tree = open_system(str(tmp_path / "out")).tree
    assert tree.read("/var/lib/dpkg/status") == whole
    lent = tree.lend("/var/lib/dpkg/status")
    assert [lent.at(at, 70) for at in (0, 63, 100)] == [whole[at : at + 70] for at in (0, 63, 100)]
