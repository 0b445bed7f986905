"""Images that somebody made to mislead, to lead out, to hang or to swell whoever reads them.

Of each: no question fails by a fault of ours, nothing outside is read, and nothing is called clean."""

import contextlib
import gzip
import json
import os
import random
import shutil
import struct
import tarfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from filigree.model.errors import FiligreeError
from filigree.questions.commands.census import census
from filigree.questions.commands.layers import layers
from filigree.questions.commands.owner import owner
from filigree.questions.commands.strays import strays
from filigree.questions.commands.survey import survey
from filigree.questions.commands.verify import verify
from filigree.system import System, open_system
from tests.bounded import ask_bounded
from tests.conftest import LONG
from tests.making import DebRoot, md5
from tests.trees.images import (
    CONFIG,
    INDEX,
    MANIFEST,
    Entry,
    Layout,
    entries_of,
    file,
    folder,
    hidden,
    layer_of,
    link,
    saved,
    sha,
    zipped,
)

GAUGE = "/usr/bin/gauge"
SECRET = b"what lies outside\n"
Make = Callable[["Case"], Path]
CASES: dict[str, tuple[Make, str]] = {}
"""What makes an image, and what is told of it: a part of a gap, or of why no image is there."""


class Case:
    """Where an image is made: a sound ground layer, and what is to go wrong with it."""

    def __init__(self, top: Path) -> None:
        self.top = top
        root = DebRoot(top / "ground")
        root.package("gauge", files={GAUGE: b"as shipped\n"})
        self.ground = list(entries_of(root.folder))
        (top / "secret").write_bytes(SECRET)

    def layout(self, *more: bytes, **config: Any) -> Path:
        made = Layout(self.top / "image")
        return made.finish(made.image([layer_of(self.ground), *more], **config))

    def layers(self, *more: list[Entry]) -> Path:
        return self.layout(*(layer_of(one) for one in more))

    def bent(self, bend: Callable[[Layout, dict[str, Any], dict[str, Any]], Any]) -> Path:
        """A layout whose manifest and configuration were bent before they were written."""
        made = Layout(self.top / "image")
        plain = [layer_of(self.ground), layer_of([file("x", b"x")])]
        rows = [made.layer(zipped(one), "tar+gzip") for one in plain]
        config: dict[str, Any] = {
            "os": "linux", "architecture": "amd64",
            "rootfs": {"type": "layers", "diff_ids": [sha(one) for one in plain]},
        }  # fmt: skip
        manifest: dict[str, Any] = {"schemaVersion": 2, "layers": rows}
        told = bend(made, manifest, config)
        if told is None:
            manifest.setdefault("config", made.add(config, CONFIG))
            told = [made.add(manifest, MANIFEST)]
        return made.finish(*told)


def case(name: str, says: str) -> Callable[[Make], Make]:
    def taken(make: Make) -> Make:
        assert name not in CASES
        CASES[name] = (make, says)
        return make

    return taken


def layered(name: str, says: str, *more: list[Entry]) -> None:
    """A case of further layers, sound as blobs."""
    case(name, says)(lambda made: made.layers(*more))


def bent(name: str, says: str) -> Callable[[Callable[..., Any]], Any]:
    def taken(bend: Callable[..., Any]) -> Any:
        case(name, says)(lambda made: made.bent(bend))
        return bend

    return taken


# -- paths --------------------------------------------------------------------------------------

_NOT_TAKEN = "not taken"
layered("a path that climbs", _NOT_TAKEN, [file("../../secret", b"x")])
layered("a path that climbs from within", _NOT_TAKEN, [file("usr/../../x", b"x")])
layered("a hard link that climbs", _NOT_TAKEN, [Entry("x", joined="../../secret")])
layered("a hard link to itself", _NOT_TAKEN, [Entry("x", joined="x")])
layered("hard links to each other", _NOT_TAKEN, [Entry("x", joined="y"), Entry("y", joined="x")])
layered("a hard link to nothing", _NOT_TAKEN, [Entry("x", joined="nowhere")])
layered("a hard link to a directory", _NOT_TAKEN, [Entry("x", joined="usr")])
layered("a hard link through a link that leads out", _NOT_TAKEN,
        [link("out", "../../.."), Entry("x", joined="out/secret")])  # fmt: skip
layered("what lies in a file", _NOT_TAKEN, [file("usr/bin/gauge/x", b"x")])
layered("what lies in links that go round", _NOT_TAKEN,
        [link("a", "b"), link("b", "a")], [file("a/x", b"x")])  # fmt: skip
layered("hides what no path is called", _NOT_TAKEN, [file("usr/.wh.", b"")])
layered("hides the directory itself", _NOT_TAKEN, [file("usr/.wh..", b"")])
layered("hides what lies above", _NOT_TAKEN, [file("usr/.wh...", b"")])
layered("a path of many parts", "", [file("d/" * 1500 + "x", b"x")])
layered("a path that is too long", _NOT_TAKEN, [file("n" * 5000, b"x")])

# Through links nothing leads out, and what stands there is another file than was shipped.
_GONE = "altered"
layered("the program is a link that leads out", _GONE, [link(GAUGE[1:], "../../../../secret")])
layered("its directory is a link that leads out", "",
        [hidden("usr/bin"), link("usr/bin", "../../../..")])  # fmt: skip
layered(
    "the program is a device", _GONE, [Entry(GAUGE[1:], 0o755, form=tarfile.CHRTYPE, device=(1, 5))]
)
layered("the program is a pipe", _GONE, [Entry(GAUGE[1:], 0o755, form=tarfile.FIFOTYPE)])
layered("the program is hidden", "missing", [hidden(GAUGE[1:])])
layered("the program is swapped", _GONE, [file(GAUGE[1:], b"as Shipped\n", 0o644)])
layered("the last of two entries counts", _GONE,
        [file(GAUGE[1:], b"as shipped\n"), file(GAUGE[1:], b"AS shipped\n")])  # fmt: skip
layered("swapped through another name of its directory", _GONE,
        [link("b", "usr/bin"), file("b/gauge", b"as Shipped\n")])  # fmt: skip
layered("swapped through dots", _GONE, [file("./usr//./bin/gauge", b"as Shipped\n")])
layered("swapped by an absolute name", _GONE, [file(GAUGE, b"as Shipped\n")])
layered("swapped by a hard link", _GONE, [file("x", b"as Shipped\n"), Entry(GAUGE[1:], joined="x")])
layered("the record is a device", "", [Entry("var/lib/dpkg/status", 0o644, form=tarfile.BLKTYPE)])
layered("the record is a pipe", "", [Entry("var/lib/dpkg/status", 0o644, form=tarfile.FIFOTYPE)])
layered("the record leads out", "", [link("var/lib/dpkg/status", "../../../../../secret")])
layered(
    "the record is a directory",
    "",
    [hidden("var/lib/dpkg/status")],
    [folder("var/lib/dpkg/status")],
)
layered("records hidden", "no package database", [hidden("var/lib/dpkg")])
layered("the root is a file", "", [file(".", b"x")])

# -- heads ----------------------------------------------------------------------------------------


def _head(**changes: Any) -> bytes:
    """A layer with one head that no writer would write."""
    info = tarfile.TarInfo("x")
    info.size = 1
    data = bytearray(info.tobuf(tarfile.GNU_FORMAT))
    for start, value in changes.values():
        data[start : start + len(value)] = value
    total = 256 + sum(data[:512]) - sum(data[148:156])
    data[148:156] = b"%06o\0 " % total
    return bytes(data) + b"x".ljust(512, b"\0") + bytes(1024)


def headed(name: str, says: str, *changes: tuple[int, bytes]) -> None:
    data = _head(**{str(at): one for at, one in enumerate(changes)})
    case(name, says)(lambda made: made.layout(data))


_CUT = "cannot be read to its end"
headed("a size of all ones", _CUT, (124, b"\xff" * 12))
headed("a size beyond all disks", _CUT, (124, b"\x80" + b"\x7f" + b"\xff" * 10))
headed("a size that is no number", _CUT, (124, b"eight bytes "))
headed("an owner beyond all numbers", "", (108, b"\x80" + b"\xff" * 7))
headed("an owner below nothing", "", (108, b"\xff" * 8))
headed("a time beyond all calendars", "", (136, b"\x80" + b"\xff" * 11))
headed("a long name of a gigabyte", _CUT, (156, b"L"), (124, b"10000000000\0"))
headed("an extended head of a gigabyte", _CUT, (156, b"x"), (124, b"10000000000\0"))
headed("of a kind that nobody knows", "", (156, b"Q"))


def extended(name: str, says: str, **headers: str) -> None:
    entry = Entry(
        "x", content=b"x", headers={key.replace("__", "."): one for key, one in headers.items()}
    )
    case(name, says)(lambda made: made.layers([entry]))


extended("a path in an extended head that climbs", _NOT_TAKEN, path="../../secret")
extended("a path with a zero in it", _NOT_TAKEN, path="a\0b")
extended("a size that was made less", _CUT, size="-5")
extended("a time that is no number", "", mtime="nan")
extended("a time without an end", "", mtime="inf")
extended("a time of a thousand digits", "", mtime="9" * 1000)
extended("capabilities that are none", "", SCHILY__xattr__security__capability="\udcff\udcfe")
extended("signs that a terminal obeys", "", path="\x1b]0;x\x07\u202e")
extended("a sparse file beyond all disks", _CUT, GNU__sparse__major="1", GNU__sparse__minor="0",
         GNU__sparse__name="y", GNU__sparse__realsize="9" * 17)  # fmt: skip
extended("parts of a sparse file over each other", _CUT, GNU__sparse__map="5,3,2,9",
         GNU__sparse__size="20", GNU__sparse__numblocks="2")  # fmt: skip

# -- blobs ------------------------------------------------------------------------------------------


@case("a gigabyte of nothing in gzip", "what comes out of it")
def _endless(made: Case) -> Path:
    built = Layout(made.top / "image")
    plain = layer_of(made.ground)
    bomb = b"".join([gzip.compress(bytes(1 << 24), 9, mtime=0)] * 60)
    rows = [built.layer(data, "tar+gzip") for data in (zipped(plain), bomb)]
    rootfs = {"type": "layers", "diff_ids": [sha(plain), sha(b"")]}
    config = built.add({"os": "linux", "architecture": "amd64", "rootfs": rootfs}, CONFIG)
    manifest = {"schemaVersion": 2, "config": config, "layers": rows}
    return built.finish(built.add(manifest, MANIFEST))


def blob(name: str, says: str, change: Callable[[Path], Any], packing: str = "gzip") -> None:
    """A case of the second layer's blob, changed where it lies."""

    def make(made: Case) -> Path:
        built = Layout(made.top / "image")
        told = built.image([layer_of(made.ground), layer_of([file("x", b"x" * 5000)])], packing)
        manifest = json.loads((built.top / "blobs/sha256" / told["digest"][7:]).read_bytes())
        change(built.top / "blobs/sha256" / manifest["layers"][1]["digest"][7:])
        return built.finish(told)

    case(name, says)(make)


def _link_out(path: Path) -> None:
    path.unlink()
    path.symlink_to("../../../secret")


def _pipe(path: Path) -> None:
    path.unlink()
    os.mkfifo(path)


def _folder(path: Path) -> None:
    path.unlink()
    path.mkdir()


_OTHER = "layer 1"
blob("a blob that leads out", _OTHER, _link_out)
blob("a blob that is a pipe", _OTHER, _pipe)
blob("a blob that is a directory", _OTHER, _folder)
blob("a blob that is cut off", _CUT, lambda path: path.write_bytes(path.read_bytes()[:-9]))
blob(
    "a blob of another layer",
    "its digest is",
    lambda path: path.write_bytes(zipped(layer_of([file("x")]))),
)
blob("a blob of noise", _OTHER, lambda path: path.write_bytes(random.Random(1).randbytes(9000)))
_WINDOW = struct.pack("<IBB", 0xFD2FB528, 0, 0xF8) + bytes(64)
blob("a blob in zstd of a window of gigabytes", _OTHER,
     lambda path: path.write_bytes(_WINDOW), "zstd")  # fmt: skip
blob("a blob in zstd that is cut off", _CUT,
     lambda path: path.write_bytes(path.read_bytes()[:-3]), "zstd")  # fmt: skip


# -- lists ------------------------------------------------------------------------------------------


@bent("a digest that climbs", "")
def _climbing(_: Layout, manifest: Any, __: Any) -> None:
    manifest["layers"][1]["digest"] = "sha256:../../../secret"


@bent("a digest of an algorithm that proves nothing", "")
def _weak(_: Layout, manifest: Any, __: Any) -> None:
    manifest["layers"][1]["digest"] = f"md5:{md5(b'x')}"


@bent("a size below nothing", "")
def _negative(_: Layout, manifest: Any, __: Any) -> None:
    manifest["layers"][1]["size"] = -1


@bent("a size in words", "")
def _worded(_: Layout, manifest: Any, __: Any) -> None:
    manifest["layers"][1]["size"] = "many"


@bent("another size than the blob's", "is said to have")
def _sized(_: Layout, manifest: Any, __: Any) -> None:
    manifest["layers"][1]["size"] += 1


@bent("what comes out has another digest", "is not what it is said to be")
def _swapped_ids(_: Layout, __: Any, config: Any) -> None:
    config["rootfs"]["diff_ids"].reverse()


@bent("fewer digests than layers", "tells of 1 layers")
def _fewer(_: Layout, __: Any, config: Any) -> None:
    config["rootfs"]["diff_ids"].pop()


@bent("a layer that is the manifest's configuration", _OTHER)
def _config_as_layer(made: Layout, manifest: Any, config: Any) -> None:
    digest, size = made.blob(json.dumps(config).encode())
    manifest["layers"][1] |= {"digest": digest, "size": size}


@bent("a hundred thousand layers", "")
def _many(_: Layout, manifest: Any, __: Any) -> None:
    manifest["layers"] = manifest["layers"][:1] * 100_000


@bent("no layers", "")
def _none(_: Layout, manifest: Any, __: Any) -> None:
    manifest["layers"] = "none"


@bent("a configuration that is a list", "")
def _list(made: Layout, manifest: Any, _: Any) -> None:
    manifest["config"] = made.add([1, 2], CONFIG)


@bent("a configuration without an end", "")
def _deep(made: Layout, manifest: Any, _: Any) -> None:
    digest, size = made.blob(b"[" * 200_000)
    manifest["config"] = {"mediaType": CONFIG, "digest": digest, "size": size}


@bent("a configuration whose every field is of another kind", "")
def _odd(made: Layout, manifest: Any, config: Any) -> None:
    odd = {"created": 7, "history": {"a": 1}, "config": [1], "os": 3, "architecture": None}
    manifest["config"] = made.add({**config, **odd}, CONFIG)


@bent("an index within itself", "")
def _within(made: Layout, _: Any, __: Any) -> Any:
    name = "0" * 64
    row = {"mediaType": INDEX, "digest": f"sha256:{name}", "size": 1}
    (made.top / "blobs/sha256" / name).write_text(
        json.dumps({"schemaVersion": 2, "manifests": [row]})
    )
    return [row]


@bent("an index of nobody", "")
def _nobody(_: Layout, __: Any, ___: Any) -> Any:
    return []


@bent("a manifest that is gone", "")
def _gone(_: Layout, __: Any, ___: Any) -> Any:
    return [{"mediaType": MANIFEST, "digest": "sha256:" + "1" * 64, "size": 10}]


@case("a list of images that climbs", "")
def _saved(made: Case) -> Path:
    path = saved(made.top / "saved.tar", [layer_of(made.ground)])
    told = path.read_bytes().replace(b"layer0/layer.tar", b"../../../secret0")
    path.write_bytes(told)
    return path


@case("layers of an engine that link to each other", "")
def _looping(made: Case) -> Path:
    config = json.dumps(
        {"os": "linux", "architecture": "amd64", "rootfs": {"diff_ids": []}}
    ).encode()
    told = [{"Config": "c.json", "RepoTags": None, "Layers": ["a/layer.tar"]}]
    members = [
        file("c.json", config), link("a/layer.tar", "../b/layer.tar"),
        link("b/layer.tar", "../a/layer.tar"),
        file("manifest.json", json.dumps(told).encode()),
    ]  # fmt: skip
    path = made.top / "saved.tar"
    path.write_bytes(layer_of(members))
    return path


@case("a tar that ends within its last file", "")
def _root_cut(made: Case) -> Path:
    path = made.top / "root.tar"
    path.write_bytes(layer_of([*made.ground, file("zz", b"z" * 4000)])[:-3000])
    return path


@case("a root within a root within a root", "")
def _nested(made: Case) -> Path:
    data = layer_of(made.ground)
    for _ in range(6):
        data = layer_of([file("root.tar", data)])
    path = made.top / "root.tar"
    path.write_bytes(data)
    return path


def asked(system: System) -> list[Any]:
    """Every question that looks at all of an image."""
    return [
        survey(system), census(system), verify(system, workers=1), strays(system),
        owner(system, [GAUGE, "/x", "*"]), layers(system),
    ]  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_no_image_misleads(tmp_path: Path, name: str) -> None:
    make, says = CASES[name]
    path = make(Case(tmp_path))
    system: System | None
    try:
        system = open_system(str(path))
    except FiligreeError as error:
        told = str(error)
        system = None
    if system is None:
        assert says in told
        return
    with system:
        answers = asked(system)
        told = "\n".join(f"{gap.what}: {gap.why}" for gap in system.gaps)
        verdicts = [row.verdict.value for row in answers[2].records]
        assert says in told or says in verdicts
        for path_ in ("/x", GAUGE, "/out/secret", "/secret"):
            with contextlib.suppress(FiligreeError):
                assert system.tree.read(path_) != SECRET
        # Clean is only what nobody touched.
        sound = False
        with contextlib.suppress(FiligreeError):
            sound = system.tree.read(GAUGE) == b"as shipped\n"
        if not sound or says in (_NOT_TAKEN, _CUT, _OTHER):
            assert answers[2].exit_status != 0


def test_there_are_forty_cases() -> None:
    assert len(CASES) >= 40
    assert {says for _, says in CASES.values()} >= {_NOT_TAKEN, _CUT, _OTHER, _GONE}


@pytest.mark.parametrize("name", [
    "a gigabyte of nothing in gzip", "a sparse file beyond all disks", "a hundred thousand layers",
    "a path of many parts", "a size beyond all disks", "an extended head of a gigabyte",
    "a blob in zstd of a window of gigabytes", "a configuration without an end",
])  # fmt: skip
def test_no_image_swells(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, name: str) -> None:
    path = CASES[name][0](Case(tmp_path))
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    done = ask_bounded("survey", "--root", str(path), seconds=20)
    assert done.status in (0, 1, 2, 3), done.err
    assert "Traceback" not in done.err
    assert done.peak < 200


# -- chance -----------------------------------------------------------------------------------------

_PIECES = (
    b"\0",
    b"../",
    b"/",
    b".wh.",
    b"x",
    b"sha256:",
    b"[",
    b'"',
    b"-1",
    b"99999999999",
    b"\xff",
)


def spoiled(data: bytes, chance: random.Random) -> bytes:
    """Data with a few bytes changed, taken away or put in."""
    found = bytearray(data)
    for _ in range(chance.randint(1, 3)):
        at = chance.randrange(len(found) + 1)
        match chance.randrange(4):
            case 0 if found:
                found[at % len(found)] = chance.randrange(256)
            case 1:
                del found[at : at + chance.randint(1, 40)]
            case 2:
                found[at:at] = chance.choice(_PIECES)
            case _:
                found[at : at + 4] = chance.choice(_PIECES)
    return bytes(found)


def mutated(made: Layout, ground: list[Entry], chance: random.Random) -> tuple[Path, str]:
    """An image with one part spoiled, its digests made right again; and which part."""
    more = [file("x", b"x" * 700), hidden("usr/share"), link("y", "x"), Entry("z", joined="x")]
    plain = [layer_of(ground), layer_of(more)]
    part = chance.choice(["index", "manifest", "config", "blob", "tar"])
    if part == "tar":
        plain[1] = spoiled(plain[1], chance)
        for at in range(0, len(plain[1]) - 511, 512):  # some checksums are right again
            block = plain[1][at : at + 512]
            if block[257:262] == b"ustar" and chance.random() < 0.9:
                right = b"%06o\0 " % (256 + sum(block) - sum(block[148:156]))
                plain[1] = plain[1][: at + 148] + right + plain[1][at + 156 :]
    packed = [zipped(one) for one in plain]
    if part == "blob":
        packed[1] = spoiled(packed[1], chance)
    rows = [made.layer(one, "tar+gzip") for one in packed]
    rootfs = {"type": "layers", "diff_ids": [sha(one) for one in plain]}
    texts = [json.dumps({"os": "linux", "architecture": "amd64", "rootfs": rootfs}).encode()]
    texts[0] = spoiled(texts[0], chance) if part == "config" else texts[0]
    config = made.described(texts[0], CONFIG)
    texts.append(json.dumps({"schemaVersion": 2, "config": config, "layers": rows}).encode())
    texts[1] = spoiled(texts[1], chance) if part == "manifest" else texts[1]
    path = made.finish(made.described(texts[1], MANIFEST))
    if part == "index":
        (path / "index.json").write_bytes(spoiled((path / "index.json").read_bytes(), chance))
    return path, part


def test_images_that_chance_spoiled(tmp_path: Path) -> None:
    """Only errors of the product may come, and what is not what it is said to be is never clean."""
    ground = Case(tmp_path).ground
    seen = {"clean": 0, "bad": 0, "refused": 0}
    for seed in range(20_000 if LONG else 150):
        chance = random.Random(seed)
        top = tmp_path / "image"
        path, part = mutated(Layout(top), ground, chance)
        try:
            with open_system(str(path)) as system:
                status = verify(system, workers=1).exit_status
                layers(system)
                whole = not list(system.tree.troubles)
            assert whole or status != 0, (seed, part)
            seen["clean" if status == 0 else "bad"] += 1
        except FiligreeError:
            seen["refused"] += 1
        shutil.rmtree(top)
    assert all(seen.values()), seen
