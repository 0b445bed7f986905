"""The jail: links stay inside, nothing but regular files is opened, nothing is written."""

import hashlib
import os
import socket
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.access.trees.directories import HELD
from filigree.access.trees.directory import CHUNK, DirectoryTree
from filigree.model.errors import AccessError, NoSystem, Obstacle
from filigree.model.files import Kind


def build(folder: Path) -> Path:
    """A root full of links, with a secret outside of it."""
    (folder / "secret").write_text("outside")
    top = folder / "root"
    (top / "usr/bin").mkdir(parents=True)
    (top / "usr/bin/tidegauge").write_text("the gauge")
    links = {
        "bin": "usr/bin", "absolute": "/usr/bin/tidegauge", "relative": "usr/../bin/tidegauge",
        "out": "../secret", "far-out": "/../../../../secret", "usr/up": "../../..",
        "one": "two", "two": "/one", "dangling": "/nowhere/at/all",
    }  # fmt: skip
    for path, target in links.items():
        (top / path).symlink_to(target)
    os.mkfifo(top / "pipe")
    return top


@pytest.fixture
def root(tmp_path: Path) -> Path:
    return build(tmp_path)


@pytest.fixture
def tree(root: Path) -> Iterator[DirectoryTree]:
    tree = DirectoryTree(str(root))
    yield tree
    tree.close()


@pytest.mark.parametrize(
    ("path", "real"),
    [
        ("/bin/tidegauge", "/usr/bin/tidegauge"),
        ("/absolute", "/usr/bin/tidegauge"),
        ("/relative", "/usr/bin/tidegauge"),
        ("/../../usr/./bin//tidegauge", "/usr/bin/tidegauge"),
        ("/usr/up/bin/tidegauge", "/usr/bin/tidegauge"),
        ("/out", "/secret"),
        ("/far-out", "/secret"),
        ("/dangling", "/nowhere/at/all"),
        ("/", "/"),
        ("/usr/..", "/"),
        ("/bin", "/usr/bin"),
    ],
)
def test_links_resolve_inside(tree: DirectoryTree, path: str, real: str) -> None:
    if path == "/dangling":
        with pytest.raises(AccessError):
            tree.real_path(path)
        return
    assert tree.real_path(path) == real


def test_the_last_link_is_not_followed_unless_asked(tree: DirectoryTree) -> None:
    assert tree.real_path("/bin", follow=False) == "/bin"
    assert tree.real_path("/bin/tidegauge", follow=False) == "/usr/bin/tidegauge"
    seen = tree.observe("/absolute")
    assert (seen.kind, seen.link_target) == (Kind.LINK, "/usr/bin/tidegauge")


@pytest.mark.parametrize("path", ["/out", "/far-out", "/usr/up/secret", "/../secret"])
def test_what_lies_outside_is_not_there(tree: DirectoryTree, path: str) -> None:
    with pytest.raises(AccessError) as caught:
        tree.read(path)
    assert caught.value.obstacle is Obstacle.ABSENT


@pytest.mark.parametrize("path", ["/one", "/two", "/one/more"])
def test_loops_end(tree: DirectoryTree, path: str) -> None:
    with pytest.raises(AccessError) as caught:
        tree.read(path)
    assert caught.value.obstacle is Obstacle.LOOP


@pytest.fixture
def opened(monkeypatch: pytest.MonkeyPatch) -> list[str]:
    """What is opened to be read, by its last name, however it is called."""
    names: list[str] = []
    really = os.open

    def noting(path: str | bytes, flags: int, *more: int, **named: int) -> int:
        if not flags & (os.O_PATH | os.O_DIRECTORY):
            names.append(os.path.basename(os.fsdecode(path)))
        return really(path, flags, *more, **named)

    monkeypatch.setattr(os, "open", noting)
    monkeypatch.setattr("filigree.access.trees.directory._open", noting)
    return names


def test_a_pipe_is_never_opened(tree: DirectoryTree, opened: list[str]) -> None:
    with pytest.raises(AccessError) as caught:
        tree.read("/pipe")
    assert caught.value.obstacle is Obstacle.NOT_REGULAR
    with pytest.raises(AccessError):
        tree.lend("/pipe")
    assert tree.observe("/pipe", "md5", capabilities=True).kind is Kind.PIPE
    assert tree.observe("/pipe", "md5").digest is None
    assert tree.holds("/pipe", "md5:" + "0" * 32, 1) == -1
    assert opened == []
    assert tree.read("/absolute") == b"the gauge"
    assert tree.observe("/usr/bin/tidegauge", "md5").digest is not None
    assert tree.holds("/usr/bin/tidegauge", "md5:" + "0" * 32, 100) == -1
    assert opened == ["tidegauge"] * 3, "what is opened is seen"


def test_other_kinds_are_told_and_not_opened(
    tree: DirectoryTree, root: Path, opened: list[str]
) -> None:
    with socket.socket(socket.AF_UNIX) as server:
        here = os.getcwd()
        os.chdir(root)
        server.bind("socket")
        os.chdir(here)
        assert tree.observe("/socket").kind is Kind.SOCKET
        with pytest.raises(AccessError) as caught:
            tree.read("/socket")
    assert caught.value.obstacle is Obstacle.NOT_REGULAR
    with pytest.raises(AccessError):
        tree.read("/usr")
    assert opened == []


@pytest.mark.parametrize("size", [0, 1, CHUNK - 1, CHUNK, CHUNK + 1, 3 * CHUNK + 7])
@pytest.mark.parametrize("algorithm", ["md5", "sha256", "sha512"])
def test_digests_of_all_sizes(tree: DirectoryTree, root: Path, size: int, algorithm: str) -> None:
    content = os.urandom(size)
    (root / "file").write_bytes(content)
    expected = f"{algorithm}:{hashlib.new(algorithm, content).hexdigest()}"
    seen = tree.observe("/file", algorithm)
    assert (seen.size, seen.digest) == (size, expected)
    assert tree.holds("/file", expected, size) == size
    assert tree.holds("/file", expected, size - 1) == -1
    assert tree.holds("/file", expected[:-1] + ("0" if expected[-1] != "0" else "1"), size) == -1
    assert b"".join(tree.pieces("/file", 1000)) == content


def test_limits(tree: DirectoryTree, root: Path) -> None:
    (root / "file").write_bytes(b"x" * 5000)
    with pytest.raises(AccessError) as caught:
        tree.read("/file", limit=4999)
    assert caught.value.obstacle is Obstacle.TOO_LARGE
    with pytest.raises(AccessError) as caught:
        tree.observe("/file", "md5", limit=4999)
    assert caught.value.obstacle is Obstacle.TOO_LARGE
    assert tree.observe("/file", None, 1).size == 5000


def test_names_that_are_not_utf8(tree: DirectoryTree, root: Path) -> None:
    (root / "usr" / os.fsdecode(b"b\xff")).write_text("odd")
    assert "b\udcff" in tree.names("/usr")
    assert tree.read("/usr/b\udcff") == b"odd"
    with pytest.raises(AccessError):
        tree.read("/usr/zero\0byte")
    with pytest.raises(AccessError):
        tree.read("/zero\0byte/more")
    with pytest.raises(AccessError):
        tree.read("/usr/" + "n" * 300)


def test_more_directories_than_are_held(tree: DirectoryTree, root: Path) -> None:
    before = len(os.listdir("/proc/self/fd"))
    for number in range(HELD + 40):
        (root / f"d{number}/e").mkdir(parents=True)
        (root / f"d{number}/e/f").write_text(str(number))
    for _ in range(2):
        for number in range(HELD + 40):
            assert tree.read(f"/d{number}/e/f") == str(number).encode()
            digest = hashlib.md5(str(number).encode(), usedforsecurity=False).hexdigest()
            assert tree.holds(f"/d{number}/e/f", f"md5:{digest}", 9) == len(str(number))
    assert len(os.listdir("/proc/self/fd")) <= before + HELD


def test_a_directory_three_thousand_levels_down(tree: DirectoryTree, root: Path) -> None:
    here = os.getcwd()
    try:
        os.chdir(root)
        for _ in range(3000):
            os.mkdir("d")
            os.chdir("d")
        Path("deep").write_text("down here")
    finally:
        os.chdir(here)
    deep = "/d" * 3000
    assert tree.read(f"{deep}/deep") == b"down here"
    assert tree.names("/d") == ["d"]
    assert tree.real_path(f"{deep}/../d/deep") == f"{deep}/deep"
    subprocess.run(["rm", "-rf", str(root / "d")], check=True)


def test_a_jail_that_is_forgotten_lets_go(root: Path) -> None:
    before = len(os.listdir("/proc/self/fd"))
    tree = DirectoryTree(str(root))
    tree.read("/usr/bin/tidegauge")
    assert len(os.listdir("/proc/self/fd")) > before
    del tree
    assert len(os.listdir("/proc/self/fd")) == before


def test_a_directory_swapped_for_a_link_cannot_lead_outside(
    tree: DirectoryTree, root: Path
) -> None:
    """A held directory stays the one that was entered."""
    assert tree.read("/usr/bin/tidegauge") == b"the gauge"
    (root / "usr/bin").rename(root / "usr/moved")
    (root.parent / "evil").mkdir()
    (root.parent / "evil/tidegauge").write_text("outside")
    (root / "usr/bin").symlink_to(root.parent / "evil")
    assert tree.read("/usr/bin/tidegauge") == b"the gauge"
    fresh = DirectoryTree(str(root))
    with pytest.raises(AccessError):
        fresh.read("/usr/bin/tidegauge")
    fresh.close()


def test_a_file_that_changes_while_it_is_read(
    tree: DirectoryTree, root: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Each reading finds the file longer than it was: no digest is given."""
    path = root / "growing"
    path.write_bytes(b"x")
    real_read = os.read

    def read_and_grow(handle: int, size: int) -> bytes:
        with path.open("ab") as growing:
            growing.write(b"y")
        return real_read(handle, size)

    monkeypatch.setattr(os, "read", read_and_grow)
    with pytest.raises(AccessError) as caught:
        tree.observe("/growing", "md5")
    assert caught.value.obstacle is Obstacle.CHANGED


def test_a_file_without_permission(root: Path) -> None:
    if os.geteuid() == 0:
        pytest.skip("root may read everything")
    (root / "closed").write_text("x")
    (root / "closed").chmod(0)
    with pytest.raises(AccessError) as caught:
        DirectoryTree(str(root)).read("/closed")
    assert caught.value.obstacle is Obstacle.DENIED


def test_a_root_that_is_none(tmp_path: Path) -> None:
    (tmp_path / "file").write_text("x")
    for path in ("missing", "file", "zero\0byte"):
        with pytest.raises(NoSystem):
            DirectoryTree(str(tmp_path / path))


def test_reading_changes_no_times(tree: DirectoryTree, root: Path) -> None:
    path = root / "usr/bin/tidegauge"
    os.utime(path, (1, 1))
    tree.read("/usr/bin/tidegauge")
    tree.observe("/usr/bin/tidegauge", "md5")
    tree.holds("/usr/bin/tidegauge", "md5:" + "0" * 32, 99)
    assert path.stat().st_atime == 1


PARTS = st.sampled_from(
    ["..", ".", "", "usr", "bin", "out", "one", "up", "far-out", "tidegauge", "x"]
)


@given(parts=st.lists(PARTS, max_size=8))
def test_no_path_leads_out(parts: list[str], tmp_path_factory: pytest.TempPathFactory) -> None:
    tree = _shared_jail(tmp_path_factory)
    path = "/" + "/".join(parts)
    try:
        real = tree.real_path(path)
        assert ".." not in real.split("/")
        assert tree.read(path) == b"the gauge"
    except AccessError:
        pass


_SHARED: list[DirectoryTree] = []


def _shared_jail(factory: pytest.TempPathFactory) -> DirectoryTree:
    if not _SHARED:
        _SHARED.append(DirectoryTree(str(build(factory.mktemp("jail")))))
    return _SHARED[0]
