"""Images: the published rules of layers, and what is told where one is not what it is said to be."""

import json
import tarfile
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import pytest

from filigree.access.roots import RecordsOfFamilies, RootChoice, open_root
from filigree.access.trees.protocol import Tree
from filigree.model.errors import AccessError, BadQuestion, NoSystem
from filigree.model.files import Kind
from tests.trees.images import (
    INDEX,
    PACKERS,
    Entry,
    Layout,
    file,
    folder,
    hidden,
    layer_of,
    layout,
    link,
    opaque,
    saved,
    sha,
    zipped,
)

KEPT = RecordsOfFamilies(("/etc/",), ("md5",))
GROUND = [
    folder("."), folder("./usr"), folder("usr/bin"), file("usr/bin/gauge", b"one", 0o755),
    file("usr/bin/horn", b"toot"), folder("etc"), file("etc/gauge.conf", b"line = 20\n"),
    link("bin", "usr/bin"), folder("usr/share"), file("usr/share/a", b"a"), file("usr/share/b", b"b"),
]  # fmt: skip


def opened(path: Path, **choice: Any) -> Tree:
    return open_root(str(path), lambda: KEPT, RootChoice(**choice))


def laid(tmp_path: Path, *layers: Sequence[Entry]) -> dict[str, bytes | str | None]:
    """What comes of layers: by path contents of files, targets of links, None of directories."""
    tree = opened(layout(tmp_path / "image", [layer_of(one) for one in layers]))
    assert list(tree.troubles) == []
    found: dict[str, bytes | str | None] = {}
    for one in tree.walk("/"):
        assert not isinstance(one, tuple) or hasattr(one, "path"), one
        path, kind = one.path, one.kind  # type: ignore[union-attr]
        found[path] = (
            tree.read(path) if kind is Kind.FILE else one.link_target  # type: ignore[union-attr]
        )
    tree.close()
    return found


def test_one_layer_is_what_was_packed(tmp_path: Path) -> None:
    found = laid(tmp_path, GROUND)
    assert found["/usr/bin/gauge"] == b"one"
    assert found["/bin"] == "usr/bin"
    assert len(found) == len(GROUND) - 1, "the root itself is not told"


LONG = "l" * 200 + "/" + "m" * 200
CASES: dict[str, tuple[list[Sequence[Entry]], dict[str, bytes | str | None]]] = {
    "a file over a file": ([GROUND, [file("usr/bin/gauge", b"two")]], {"/usr/bin/gauge": b"two"}),
    "a hidden file": ([GROUND, [hidden("usr/bin/horn")]], {"/usr/bin/horn": b"-"}),
    "a hidden directory": ([GROUND, [hidden("usr/share")]], {"/usr/share": b"-", "/usr/share/a": b"-"}),
    "hidden, and brought anew by the same layer": (
        [GROUND, [file("usr/share/a", b"new"), hidden("usr/share/a")]], {"/usr/share/a": b"new"},
    ),
    "hidden after it was brought, a directory": (
        [GROUND, [folder("usr/share"), file("usr/share/c", b"c"), hidden("usr/share")]],
        {"/usr/share/c": b"c", "/usr/share/a": b"-", "/usr/share/b": b"-"},
    ),
    "opaque, first": (
        [GROUND, [opaque("usr/share"), file("usr/share/c", b"c")]],
        {"/usr/share/a": b"-", "/usr/share/b": b"-", "/usr/share/c": b"c"},
    ),
    "opaque, last": (
        [GROUND, [file("usr/share/c", b"c"), opaque("usr/share")]],
        {"/usr/share/a": b"-", "/usr/share/c": b"c"},
    ),
    "opaque root": (
        [GROUND, [opaque(""), file("only", b"o")]], {"/usr": b"-", "/bin": b"-", "/only": b"o"},
    ),
    "a directory in a file's place": (
        [GROUND, [folder("usr/share/a"), file("usr/share/a/deep", b"d")]],
        {"/usr/share/a": None, "/usr/share/a/deep": b"d"},
    ),
    "a file in a directory's place": (
        [GROUND, [file("usr/share", b"flat")]],
        {"/usr/share": b"flat", "/usr/share/a": b"-", "/usr/share/b": b"-"},
    ),
    "a link in a directory's place": (
        [GROUND, [link("usr/share", "bin")]], {"/usr/share": "bin", "/usr/share/a": b"-"},
    ),
    "a directory in a link's place": (
        [GROUND, [folder("bin"), file("bin/own", b"o")]],
        {"/bin": None, "/bin/own": b"o", "/usr/bin/gauge": b"one", "/usr/bin/own": b"-"},
    ),
    "hidden in a directory that takes a link's place": (
        [GROUND, [folder("bin"), hidden("bin/gauge")]], {"/bin": None, "/usr/bin/gauge": b"one"},
    ),
    "through a link of a lower layer": (
        [GROUND, [file("bin/new", b"n")]], {"/usr/bin/new": b"n", "/bin": "usr/bin"},
    ),
    "hidden through a link of a lower layer": (
        [GROUND, [hidden("bin/horn")]], {"/usr/bin/horn": b"-", "/usr/bin/gauge": b"one"},
    ),
    "a directory that no entry tells of": ([GROUND, [file("a/b/c", b"c")]], {"/a": None, "/a/b": None}),
    "only the form of a directory": (
        [GROUND, [folder("usr/share", 0o700)]], {"/usr/share": None, "/usr/share/a": b"a"},
    ),
    "a hard link within": (
        [GROUND, [file("x", b"x"), Entry("y", joined="x"), Entry("z", joined="y")]],
        {"/y": b"x", "/z": b"x"},
    ),
    "a hard link before what it leads to": (
        [GROUND, [Entry("y", joined="x"), file("x", b"x")]], {"/y": b"x"},
    ),
    "a hard link to below": ([GROUND, [Entry("g", joined="usr/bin/gauge")]], {"/g": b"one"}),
    "a hard link through a link": ([GROUND, [Entry("g", joined="bin/gauge")]], {"/g": b"one"}),
    "the last of several counts": (
        [GROUND, [file("x", b"1"), file("x", b"2"), folder("y"), file("y", b"3")]],
        {"/x": b"2", "/y": b"3"},
    ),
    "absolute names": ([GROUND, [file("/opt/x", b"x")]], {"/opt/x": b"x"}),
    "hidden, and there again in a third": (
        [GROUND, [hidden("usr/bin/horn")], [file("usr/bin/horn", b"again")]],
        {"/usr/bin/horn": b"again"},
    ),
    "what one file system notes for itself": (
        [GROUND, [file(".wh..wh.plnk/1.2", b"x"), file(".wh..wh.aufs", b"")]],
        {"/.wh..wh.aufs": b"-", "/usr/bin/gauge": b"one"},
    ),
    "names in bytes": ([GROUND, [file("odd-\udcff", b"o")]], {"/odd-\udcff": b"o"}),
    "long names": ([GROUND, [file(LONG, b"l")]], {f"/{LONG}": b"l"}),
}  # fmt: skip
"""What layers come to; `-` where nothing is to be."""


@pytest.mark.parametrize("case", CASES)
def test_layers_lie_over_each_other_by_the_published_rules(tmp_path: Path, case: str) -> None:
    layers, expected = CASES[case]
    found = laid(tmp_path, *layers)
    for path, what in expected.items():
        assert found.get(path, b"-") == what, path


@pytest.mark.parametrize("packing", PACKERS)
def test_every_packing_and_every_form_is_the_same_tree(tmp_path: Path, packing: str) -> None:
    layers = [layer_of(GROUND), layer_of([file("usr/bin/gauge", b"two"), hidden("usr/share/a")])]
    whole = layout(tmp_path / "image", layers, packing)
    packed = tmp_path / "image.tar"
    with tarfile.open(packed, "w") as tar:
        tar.add(whole, ".")
    (tmp_path / "image.tar.gz").write_bytes(zipped(packed.read_bytes()))
    forms = [
        whole, packed, tmp_path / "image.tar.gz", saved(tmp_path / "saved.tar", layers),
        saved(tmp_path / "linked.tar", layers, linked=True),
    ]  # fmt: skip
    told = []
    for form in forms:
        tree = opened(form)
        assert list(tree.troubles) == []
        told.append([one[:8] for one in tree.walk("/")])
        assert tree.read("/bin/gauge") == b"two"
        tree.close()
    assert all(one == told[0] for one in told)


def test_forms_of_entries_are_kept(tmp_path: Path) -> None:
    capability = "\x01\x00\x00\x02\x00\x20\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00"
    made = [
        Entry("f", 0o4755, b"x", owner=950, headers={"mtime": "1000000000.123456789",
              "SCHILY.xattr.security.capability": capability}),
        Entry("null", 0o666, form=tarfile.CHRTYPE, device=(1, 3)),
        Entry("pipe", 0o600, form=tarfile.FIFOTYPE),
        Entry("again", joined="f"),
    ]  # fmt: skip
    tree = opened(layout(tmp_path / "image", [layer_of(made)]))
    seen = tree.observe("/f", "sha256", capabilities=True)
    assert (seen.mode, seen.uid, seen.modified) == (0o4755, 950, 1_000_000_000_123_456_789)
    assert seen.capabilities == "cap_net_raw=ep"
    assert seen.digest == sha(b"x")
    assert tree.observe("/again").inode == seen.inode
    assert tree.observe("/null").kind is Kind.CHARACTER_DEVICE
    for path in ("/null", "/pipe"):
        with pytest.raises(AccessError, match="not a regular file"):
            tree.read(path)
    tree.close()


def test_a_sparse_file_has_its_holes(tmp_path: Path) -> None:
    import shutil
    import subprocess

    if shutil.which("tar") is None:
        pytest.skip("there is no other tar here")
    place = tmp_path / "holes"
    with open(place, "wb") as out:
        out.seek(1 << 20)
        out.write(b"in the midst")
        out.truncate(3 << 20)
    for form in ("gnu", "pax"):
        packed = tmp_path / f"{form}.tar"
        subprocess.run(
            ["tar", "-S", f"--format={form}", "-C", str(tmp_path), "-cf", str(packed), "holes"],
            check=True,
        )
        assert packed.stat().st_size < 1 << 20
        tree = opened(layout(tmp_path / form, [packed.read_bytes()]))
        assert tree.read("/holes") == place.read_bytes()
        assert tree.observe("/holes", "sha256").digest == sha(place.read_bytes())
        tree.close()


# -- what is not what it is said to be ------------------------------------------------------------


def spoiled(top: Path, change: Any) -> Path:
    made = Layout(top)
    layers = [layer_of(GROUND), layer_of([file("x", b"x")])]
    descriptor = made.image(layers)
    path = made.finish(descriptor)
    change(made, descriptor)
    return path


def blob_of(made: Layout, digest: str) -> Path:
    return made.top / "blobs/sha256" / digest.partition(":")[2]


def layer_blob(made: Layout, descriptor: dict[str, Any], number: int) -> Path:
    manifest = json.loads(blob_of(made, descriptor["digest"]).read_bytes())
    return blob_of(made, manifest["layers"][number]["digest"])


def written(change: Callable[[bytes], bytes]) -> Callable[[Layout, dict[str, Any]], Any]:
    """What changes the blob of the second layer."""

    def do(made: Layout, descriptor: dict[str, Any]) -> None:
        blob = layer_blob(made, descriptor, 1)
        blob.write_bytes(change(blob.read_bytes()))

    return do


SPOILED: dict[str, Callable[[Layout, dict[str, Any]], Any]] = {
    "another blob": written(lambda _: zipped(layer_of([file("x", b"y")]))),
    "cut off": written(lambda data: data[:-30]),
    "more behind it": written(lambda data: data + b"more"),
    "empty": written(lambda _: b""),
    "gone": lambda made, told: layer_blob(made, told, 1).unlink(),
    "another manifest": lambda made, told: blob_of(made, told["digest"]).write_bytes(
        blob_of(made, told["digest"]).read_bytes() + b" "
    ),
}


@pytest.mark.parametrize("how", SPOILED)
def test_what_is_not_what_it_is_said_to_be_is_named_and_never_believed(
    tmp_path: Path, how: str
) -> None:
    path = spoiled(tmp_path / "image", SPOILED[how])
    for _ in range(2):  # what was kept changes nothing
        tree = opened(path, cache=str(tmp_path / "cache"))
        assert list(tree.troubles)
        if how != "another manifest":
            assert all("layer 1" in what for what, _ in tree.troubles)
            assert tree.read("/usr/bin/gauge") == b"one", "the other layer is sound"
            if how in ("cut off", "empty", "gone"):  # nobody knows what it would have altered
                with pytest.raises(AccessError, match="layer 1 above it cannot be read to its end"):
                    tree.observe("/usr/bin/gauge", "sha256")
                assert tree.holds("/usr/bin/gauge", sha(b"one"), 100) == -1
            elif how == "another blob":
                assert tree.holds("/usr/bin/gauge", sha(b"one"), 100) == 3
            if tree.exists("/x"):
                with pytest.raises(AccessError, match="not what it is said to be"):
                    tree.observe("/x", "sha256")
                assert tree.holds("/x", sha(b"y"), 100) == -1
        tree.close()


@pytest.mark.parametrize("size", [1, 511, 512, 513])
def test_a_layer_without_a_mark_of_its_end(tmp_path: Path, size: int) -> None:
    """So do some writers; a digest says that this is all. Without one nobody knows."""
    content = b"c" * size
    data = layer_of([*GROUND, file("last", content)]).rstrip(b"\0")
    assert data.endswith(b"c")
    tree = opened(layout(tmp_path / "image", [data, data + b"\0" * (-len(data) % 512)]))
    assert list(tree.troubles) == []
    assert tree.read("/last") == content
    tree.close()
    path = tmp_path / "root.tar"
    path.write_bytes(data)
    tree = opened(path)
    assert list(tree.troubles)
    tree.close()
    tree = opened(layout(tmp_path / "cut", [data[:-1] if size > 1 else data[:-200]]))
    assert list(tree.troubles)
    tree.close()


def test_a_layer_that_was_swapped_since_is_read_again(tmp_path: Path) -> None:
    cache = str(tmp_path / "cache")
    made = Layout(tmp_path / "image")
    descriptor = made.image([layer_of(GROUND), layer_of([file("x", b"x")])])
    path = made.finish(descriptor)
    tree = opened(path, cache=cache)
    assert list(tree.troubles) == []
    tree.close()
    SPOILED["another blob"](made, descriptor)
    tree = opened(path, cache=cache)
    assert list(tree.troubles)
    tree.close()


def test_which_image_is_meant(tmp_path: Path) -> None:
    made = Layout(tmp_path / "image")
    name = "org.opencontainers.image.ref.name"
    one = {**made.image([layer_of(GROUND)]), "annotations": {name: "tides.example/gauge:2.1"}}
    other = {
        **made.image([layer_of([file("etc/x", b"x")])], architecture="arm64"),
        "annotations": {name: "tides.example/horn:1"},
    }  # fmt: skip
    attests = made.image([layer_of([file("y", b"y")])])
    attests["platform"] = {"os": "unknown", "architecture": "unknown"}
    inner = made.add({"schemaVersion": 2, "manifests": [other, attests]}, INDEX)
    path = made.finish(one, inner)
    with pytest.raises(BadQuestion) as caught:
        opened(path)
    assert "tides.example/gauge:2.1 (linux/amd64); tides.example/horn:1 (linux/arm64)" in str(
        caught.value
    )
    for choice in (
        {"image": "gauge"},
        {"image": "tides.example/gauge:2.1"},
        {"platform": "linux/amd64"},
    ):
        tree = opened(path, **choice)
        assert tree.exists("/usr/bin/gauge")
        tree.close()
    tree = opened(path, platform="linux/arm64")
    assert tree.names("/") == ["etc"]
    tree.close()
    for choice in ({"image": "nobody"}, {"platform": "linux/s390x"}):
        with pytest.raises(BadQuestion, match="no image here"):
            opened(path, **choice)


def test_one_layer_alone(tmp_path: Path) -> None:
    path = layout(tmp_path / "image", [layer_of(GROUND), layer_of([file("etc/x", b"x")])])
    tree = opened(path, layer=1)
    assert tree.names("/") == ["etc"]
    tree.close()
    with pytest.raises(BadQuestion, match="no layer 2: there are 2"):
        opened(path, layer=2)
    plain = tmp_path / "plain"
    plain.mkdir()
    with pytest.raises(BadQuestion, match="no image"):
        opened(plain, layer=0)


@pytest.mark.parametrize("data", [b"", b"nothing", b"\x1f\x8b", b"\0" * 1024, b"{}"])
def test_what_is_no_image(tmp_path: Path, data: bytes) -> None:
    path = tmp_path / "x"
    path.write_bytes(data)
    if data == b"\0" * 1024:  # a tar of nothing
        tree = opened(path)
        assert tree.names("/") == []
        return
    try:
        tree = opened(path)
    except NoSystem:
        return
    assert list(tree.troubles)


@pytest.mark.parametrize(
    "packer", ["plain", "gzip", "gzip, two members", "zstd", "zstd, two frames"]
)
def test_a_whole_root_as_one_tar(tmp_path: Path, packer: str) -> None:
    path = tmp_path / "root.tar"
    path.write_bytes(PACKERS[packer](layer_of([*GROUND, file("usr/.wh.x", b"no mark here")])))
    tree = opened(path)
    assert list(tree.troubles) == []
    assert tree.read("/usr/bin/gauge") == b"one"
    assert tree.read("/usr/.wh.x") == b"no mark here"
    tree.close()


def test_saved_images_are_told_by_their_names(tmp_path: Path) -> None:
    path = saved(tmp_path / "x.tar", [layer_of(GROUND)])
    tree = opened(path, image="gauge:2.1")
    assert tree.layered is not None
    assert tree.layered.facts.names == ("tides.example/gauge:2.1",)
    tree.close()
    with pytest.raises(BadQuestion, match="there are: tides"):
        opened(path, image="horn")


def test_progress_is_told_while_layers_are_read(tmp_path: Path) -> None:
    """By whichever process reads; what was kept before is not told of."""
    path = layout(tmp_path / "image", [layer_of(GROUND)])
    seen: list[tuple[int, int]] = []
    cache = str(tmp_path / "cache")
    opened(path, cache=cache, progress=lambda *now: seen.append(now)).close()
    done, total = seen[-1]
    blob = layer_blob(
        Layout.at(path), json.loads((path / "index.json").read_text())["manifests"][0], 0
    )
    assert done == total == blob.stat().st_size
    seen.clear()
    opened(path, cache=cache, progress=lambda *now: seen.append(now)).close()
    assert not seen
