"""What every kind of tree promises, asked of each."""

import hashlib
from collections.abc import Iterator
from pathlib import Path

import pytest

from filigree.access.trees.protocol import Tree
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, Obstacle
from filigree.model.files import Kind
from filigree.system import open_system
from tests.trees.kinds import KINDS

LARGE = bytes(range(256)) * 4096
ODD = "/usr/odd-\udcff\udce9"
DESCRIBED = {
    "/usr": None, "/usr/bin": None, "/usr/share": None, "/empty": None,
    "/usr/bin/tidegauge": b"the gauge", "/usr/share/sand": LARGE, "/usr/share/nothing": b"", ODD: b"odd",
    "/bin": "usr/bin", "/absolute": "/usr/bin/tidegauge", "/relative": "usr/../bin/tidegauge",
    "/out": "../secret", "/far-out": "/../../../../secret", "/usr/up": "../../..",
    "/one": "two", "/two": "/one", "/dangling": "/nowhere/at/all", "/self": "self/usr",
    "/through": "/usr/bin/tidegauge/deeper", "/odd": "usr/odd-\udcff\udce9",
}  # fmt: skip


@pytest.fixture(params=KINDS)
def tree(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Tree]:
    (tmp_path / "secret").write_text("outside")
    tree = KINDS[request.param](DESCRIBED, tmp_path)
    yield tree
    tree.close()


@pytest.mark.parametrize(
    ("path", "real"),
    [
        ("/bin/tidegauge", "/usr/bin/tidegauge"), ("/absolute", "/usr/bin/tidegauge"),
        ("/relative", "/usr/bin/tidegauge"), ("/../../usr/./bin//tidegauge", "/usr/bin/tidegauge"),
        ("/usr/up/bin/tidegauge", "/usr/bin/tidegauge"), ("/out", "/secret"), ("/far-out", "/secret"),
        ("/dangling", "/nowhere/at/all"), ("/", "/"), ("/usr/..", "/"), ("/bin", "/usr/bin"),
        ("/odd", ODD),
    ],
)  # fmt: skip
def test_links_resolve_inside(tree: Tree, path: str, real: str) -> None:
    if path == "/dangling":
        with pytest.raises(AccessError) as caught:
            tree.real_path(path)
        assert caught.value.absent
        return
    assert tree.real_path(path) == real


def test_the_last_link_is_not_followed_unless_asked(tree: Tree) -> None:
    assert tree.real_path("/bin/../absolute", follow=False) == "/usr/absolute"
    assert tree.real_path("/absolute", follow=False) == "/absolute"
    seen = tree.observe("/bin")
    assert (seen.kind, seen.link_target, seen.digest) == (Kind.LINK, "usr/bin", None)


@pytest.mark.parametrize("path", ["/out", "/far-out", "/../secret", "/usr/up/secret"])
def test_what_lies_outside_is_not_there(tree: Tree, path: str) -> None:
    with pytest.raises(AccessError) as caught:
        tree.read(path)
    assert caught.value.absent
    assert tree.read_or_none(path) is None


@pytest.mark.parametrize("path", ["/one", "/two", "/self"])
def test_loops_end(tree: Tree, path: str) -> None:
    with pytest.raises(AccessError) as caught:
        tree.read(path)
    assert caught.value.obstacle is Obstacle.LOOP
    assert tree.exists(path)
    assert not tree.is_directory(path)


def test_what_is_below_a_file_is_no_directory(tree: Tree) -> None:
    for path in ("/usr/bin/tidegauge/deeper", "/through"):
        with pytest.raises(AccessError) as caught:
            tree.read(path)
        assert caught.value.obstacle is Obstacle.NOT_DIRECTORY
        assert caught.value.absent


def test_files_are_read_whole_in_pieces_and_in_place(tree: Tree) -> None:
    assert tree.read("/absolute") == b"the gauge"
    assert tree.read("/usr/share/nothing") == b""
    assert b"".join(tree.pieces("/usr/share/sand", 1000)) == LARGE
    assert max(map(len, tree.pieces("/usr/share/sand", 1000))) <= 1000
    lent = tree.lend("/usr/share/sand")
    assert (lent.size, lent.at(256, 3), lent.at(len(LARGE) - 2, 9)) == (
        len(LARGE),
        b"\0\1\2",
        b"\xfe\xff",
    )
    assert lent.at(len(LARGE), 5) == b""
    lent.close()


def test_limits(tree: Tree) -> None:
    with pytest.raises(AccessError) as caught:
        tree.read("/usr/share/sand", limit=len(LARGE) - 1)
    assert caught.value.obstacle is Obstacle.TOO_LARGE
    with pytest.raises(AccessError) as caught:
        tree.observe("/usr/share/sand", "md5", limit=len(LARGE) - 1)
    assert caught.value.obstacle is Obstacle.TOO_LARGE


@pytest.mark.parametrize("algorithm", ["md5", "sha1", "sha256", "sha512"])
def test_digests(tree: Tree, algorithm: str) -> None:
    for path, content in (("/usr/share/sand", LARGE), ("/usr/share/nothing", b""), (ODD, b"odd")):
        digest = f"{algorithm}:{hashlib.new(algorithm, content).hexdigest()}"
        assert tree.observe(path, algorithm).digest == digest
        assert tree.holds(path, digest, 1 << 30) == len(content)
        assert tree.holds(path, digest[:-1] + "x", 1 << 30) == -1
    assert tree.observe("/usr/share/sand", algorithm, of_size=7).digest is None


def test_the_form_of_a_file_counts_where_it_is_asked(tree: Tree) -> None:
    seen = tree.observe("/usr/bin/tidegauge", "md5")
    assert seen.digest is not None
    form = (0o100000 | seen.mode, seen.uid, seen.gid, seen.size, seen.modified // 10**9)
    assert tree.holds("/bin/tidegauge", seen.digest, 100, form) == 9
    for at, value in enumerate(form):
        other = (*form[:at], value + 1, *form[at + 1 :])
        assert tree.holds("/bin/tidegauge", seen.digest, 100, other) == -1  # type: ignore[arg-type]
    assert tree.holds("/bin/tidegauge", seen.digest, 8) == -1, "a limit counts"
    assert tree.holds("/absolute", seen.digest, 100) == -1, "a link is no file"
    assert tree.holds("/usr/bin", seen.digest, 100) == -1
    assert tree.holds("/nowhere", seen.digest, 100) == -1


def test_directories_are_listed_and_others_are_none(tree: Tree) -> None:
    assert tree.names("/usr") == sorted(["bin", "share", "up", ODD[5:]])
    assert tree.names("/usr/up") == tree.names("/")
    assert tree.names("/empty") == []
    assert tree.is_directory("/bin")
    assert not tree.is_directory("/absolute")
    assert not tree.is_directory("/nowhere")
    with pytest.raises(AccessError) as caught:
        tree.names("/usr/bin/tidegauge")
    assert caught.value.obstacle is Obstacle.NOT_DIRECTORY
    with pytest.raises(AccessError) as caught:
        tree.read("/usr")
    assert caught.value.obstacle is Obstacle.NOT_REGULAR


def test_a_walk_tells_everything_once_and_follows_no_link(tree: Tree) -> None:
    found = list(tree.walk("/"))
    assert not [one for one in found if isinstance(one, Gap)]
    entries = {one.path: one for one in found if not isinstance(one, Gap)}
    assert len(entries) == len(found)
    assert set(entries) == set(DESCRIBED)
    for path, what in DESCRIBED.items():
        kind = Kind.DIRECTORY if what is None else Kind.LINK if isinstance(what, str) else Kind.FILE
        assert entries[path].kind is kind
        assert entries[path].link_target == (what if isinstance(what, str) else None)
    order = [one.path for one in found if not isinstance(one, Gap)]
    assert all(order.index(path.rpartition("/")[0]) < order.index(path)
               for path in order if path.count("/") > 1)  # fmt: skip
    assert entries["/empty"].empty
    assert not entries["/usr"].empty
    assert [one.path for one in tree.walk("/usr/bin") if not isinstance(one, Gap)] == [
        "/usr/bin/tidegauge"
    ]
    (gap,) = tree.walk("/nowhere")
    assert isinstance(gap, Gap)


def test_what_is_not_there_is_absent_and_nothing_else_is(tree: Tree) -> None:
    assert tree.exists("/dangling")
    assert not tree.exists("/nowhere")
    with pytest.raises(AccessError) as caught:
        tree.observe("/usr/nowhere")
    assert caught.value.absent
    for name in ("a\0b", "x" * 300, "\ud800"):
        with pytest.raises(AccessError) as caught:
            tree.observe(f"/usr/{name}")
        assert caught.value.absent, "no file can be called so"


def test_a_system_is_opened_in_any_tree(tmp_path: Path) -> None:
    for name, made in KINDS.items():
        folder = tmp_path / name
        folder.mkdir()
        described = {
            "/var": None, "/var/lib": None, "/var/lib/dpkg": None,
            "/var/lib/dpkg/status": b"Package: gull\nStatus: install ok installed\n"
            b"Version: 1\nArchitecture: all\n\n",
        }  # fmt: skip
        with open_system(made(described, folder)) as system:
            assert [one.name for one in system.packages] == ["gull"]
