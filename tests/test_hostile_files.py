"""Small files that would hang, kill or swell a reader: each in a process with limits that can be
broken."""

import gzip
import hashlib
import json
import struct
from collections.abc import Callable
from pathlib import Path

import pytest

from filigree.demo.rpm_bytes import hash_file, header, slot_file
from filigree.formats.rpm.header import Type
from tests.bounded import ask_bounded, run_bounded
from tests.making import DebRoot, Root, RpmRoot, md5

SECONDS = 20
PEAK = 256
"""MiB that no answer may take."""

Case = Callable[[Path], str]
CASES: dict[str, tuple[Case, tuple[str, ...], str]] = {}
"""What makes the root, what is asked, and what is to be told of it."""


def case(name: str, words: str, says: str) -> Callable[[Case], Case]:
    def taken(make: Case) -> Case:
        CASES[name] = (make, tuple(words.split()), says)
        return make

    return taken


def deb(folder: Path, count: int = 3) -> DebRoot:
    root = DebRoot(folder)
    for number in range(count):
        root.package("a" * 40 + str(number), files={f"/usr/share/{'a' * 60}/{number}": b"x"})
    root.write("etc/passwd", "root:x:0:0::/:\n")
    root.write("etc/group", "root:x:0:\n")
    return root


# -- expressions ----------------------------------------------------------------------------


def _expressions(name: str, text: str, says: str) -> None:
    @case(f"never left over: {name}", "census --leftover", says)
    def never(folder: Path) -> str:
        root = deb(folder)
        root.write("var/lib/apt/extended_states", "".join(
            f"Package: {'a' * 40}{n}\nArchitecture: amd64\nAuto-Installed: 1\n\n" for n in range(3)
        ))  # fmt: skip
        root.write("etc/apt/apt.conf", f'APT::NeverAutoRemove:: "{text}";\n')
        return root.path

    @case(f"preferences: {name}", "behind", says)
    def preferences(folder: Path) -> str:
        root = deb(folder)
        stanza = f"Package: /{text}/\nPin: release o=/{text}/\nPin-Priority: 900\n\n"
        root.write("etc/apt/preferences", stanza)
        return root.path

    @case(f"what stays: {name}", "census", says)
    def stays(folder: Path) -> str:
        root = Root(folder)
        for number in range(3):
            label = f"{'a' * 60}{number}-1-noarch-1"
            root.write(
                f"var/lib/pkgtools/packages/{label}", f"PACKAGE NAME: {label}\nFILE LIST:\n./\n"
            )
        root.write("etc/slackpkg/blacklist", f"{text}\n")
        return root.path


_expressions("nested", "(a+)+$", "")
_expressions("many stars", "a*a*a*a*a*a*a*a*a*b", "")
_expressions("choices", "(a|a|aa)+b", "")
_expressions("looking back", r"(a+)\1b", "matched in one look")
_expressions("counted", "(a{1,900}){1,900}b", "matched in one look")
_expressions("long", "a*" * 50_000, "more than 1,024 are not matched")


@case("2,000 exclusions and 20,000 paths", "verify", "")
def _many_exclusions(folder: Path) -> str:
    root = DebRoot(folder)
    files = {f"/usr/share/p{n % 2000}/{n}": b"" for n in range(20_000)}
    root.package("many", listed=list(files))
    root.write("etc/dpkg/dpkg.cfg.d/x", "".join(
        f"path-exclude=/usr/share/p{n}/*\n" for n in range(2000)
    ))  # fmt: skip
    return root.path


@case("2,000 exclusions that all begin alike", "verify", "to match them took more than")
def _hard_exclusions(folder: Path) -> str:
    root = DebRoot(folder)
    files = {f"/usr/share/{'ab' * 20}/{n}": b"" for n in range(20_000)}
    root.package("many", listed=list(files))
    root.write("etc/dpkg/dpkg.cfg.d/x", "".join(
        f"path-exclude=*a*b*a*b*{n}*c*\n" for n in range(2000)
    ))  # fmt: skip
    return root.path


@case("100,000 exclusions", "verify", "100,000 expressions of")
def _too_many_exclusions(folder: Path) -> str:
    root = deb(folder)
    rules = "".join(f"path-exclude=/usr/{n}/*\n" for n in range(100_000))
    root.write("etc/dpkg/dpkg.cfg.d/x", rules)
    return root.path


@case("a long glob of brackets", "verify", "signs, and more than")
def _brackets(folder: Path) -> str:
    root = deb(folder)
    root.write("etc/dpkg/dpkg.cfg.d/x", f"path-exclude={'[' * 200_000}\n")
    return root.path


@case("files that take in each other", "census", "files are taken in")
def _includes(folder: Path) -> str:
    root = Root(folder)
    root.write("var/lib/pacman/local/gull-1-1/desc", "%NAME%\ngull\n\n%VERSION%\n1-1\n")
    every = "".join(f"Include = /etc/pacman.d/{n}\n" for n in range(12))
    for number in range(12):
        root.write(f"etc/pacman.d/{number}", every)
    root.write("etc/pacman.conf", f"[options]\n{every}")
    return root.path


# -- records --------------------------------------------------------------------------------


@case("a version of 4 MB", "census", "are the most that makes sense")
def _long_version(folder: Path) -> str:
    root = deb(folder)
    root.package("long", version="1." * 2_000_000)
    return root.path


@case(
    "a needed version of 4 MB",
    "needs --deep aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa0 long",
    "not a relation",
)
def _long_need(folder: Path) -> str:
    root = deb(folder)
    root.package("long", Depends=f"x (>= {'1.' * 2_000_000})")
    return root.path


@case("a path of 100 MB", "verify", "longer than paths are")
def _long_path(folder: Path) -> str:
    root = deb(folder)
    root.package("long", files={"/usr/bin/long": b"x"})
    with (folder / "var/lib/dpkg/info/long.list").open("ab") as file:
        file.write(b"/" + b"x" * 100_000_000 + b"\n")
    return root.path


@case("a digest of a path of 60 MB", "verify", "longer than paths are")
def _long_digest(folder: Path) -> str:
    root = deb(folder)
    root.package("long", files={"/usr/bin/long": b"x"})
    with (folder / "var/lib/dpkg/info/long.md5sums").open("ab") as file:
        file.write(md5(b"").encode() + b"  " + b"x" * 60_000_000 + b"\n")
    return root.path


def _listed(folder: Path, text: bytes) -> str:
    root = Root(folder)
    local = "var/lib/pacman/local/gull-1-1"
    root.write(f"{local}/desc", "%NAME%\ngull\n\n%VERSION%\n1-1\n")
    root.write(f"{local}/files", "%FILES%\nusr/\nusr/bin/\nusr/bin/gull\n")
    root.write(f"{local}/mtree", gzip.compress(text, 1))
    root.write("usr/bin/gull", "x")
    return root.path


@case("a listing whose lines go on for ever", "verify", "a line of more than")
def _goes_on(folder: Path) -> str:
    return _listed(folder, b"#mtree\n./usr " + b"\\\n" * 3_000_000 + b"x\n")


@case(
    "a listing with settings for every line", "verify", "nothing on record tells what it is to be"
)
def _settings(folder: Path) -> str:
    words = b" ".join(b"k%d=v" % n for n in range(10_000))
    lines = b"".join(b"./f%d\n" % n for n in range(100_000))
    return _listed(folder, b"#mtree\n/set " + words + b"\n" + lines)


@case("a listing with one path of 100 MB", "verify", "a line of more than")
def _listed_long(folder: Path) -> str:
    return _listed(folder, b"#mtree\n./" + b"x" * 100_000_000 + b"\n")


@case(
    "headers whose directory stands before a million names",
    "verify",
    "than such a header could hold",
)
def _swollen(folder: Path) -> str:
    root = RpmRoot(folder)
    count = 1_000_000
    root.blobs.append(header([
        (1000, Type.STRING, "swollen"), (1001, Type.STRING, "1"), (1002, Type.STRING, "1"),
        (1022, Type.STRING, "noarch"), (1116, Type.INT32, [0] * count),
        (1117, Type.STRINGS, ["a"] * count), (1118, Type.STRINGS, ["/" + "d" * 16_000 + "/"]),
    ]))  # fmt: skip
    root.save()
    return root.path


def _blob(name: str) -> bytes:
    return header([
        (1000, Type.STRING, name), (1001, Type.STRING, "1"), (1002, Type.STRING, "1"),
        (1009, Type.INT32, 1), (1022, Type.STRING, "noarch"), (1005, Type.STRING, "x" * 200_000),
    ])  # fmt: skip


@case(
    "a slot file of thousands of slots for one blob",
    "census",
    "a blob that other slots have as well",
)
def _one_blob(folder: Path) -> str:
    root = RpmRoot(folder, "Packages.db")
    data = bytearray(slot_file([_blob("gull"), *(b"" for _ in range(0))]))
    (slot,) = [
        data[at : at + 16] for at in range(32, 4096, 16) if data[at + 4 : at + 8] == b"\1\0\0\0"
    ][:1]
    for at in range(32, 4096, 16):
        data[at : at + 16] = slot
    path = folder / root.place
    path.write_bytes(bytes(data))
    return root.path


@case("a hash file whose pages go in a circle", "census", "two values, or of a circle")
def _circle(folder: Path) -> str:
    root = RpmRoot(folder, "Packages")
    data = bytearray(hash_file([(b"\1\0\0\0", _blob("gull"))]))
    size = struct.unpack_from("<I", data, 20)[0]
    for number in range(1, len(data) // size):
        at = number * size
        if data[at + 25] == 7:  # an overflow page: of one byte, and followed by itself
            struct.pack_into("<I", data, at + 16, number)
            struct.pack_into("<H", data, at + 22, 1)
    (folder / root.place).write_bytes(bytes(data) + bytes(200 * size))
    return root.path


# -- indexes --------------------------------------------------------------------------------


def _index(folder: Path, name: str, data: bytes) -> str:
    """A repository of the second family, unsigned, whose index of one kind is this."""
    root = RpmRoot(folder)
    root.package("gull", "1", "1")
    digest = hashlib.sha256(data).hexdigest()
    primary = (b'<?xml version="1.0"?><metadata xmlns="http://linux.duke.edu/metadata/common" '
               b'packages="0"></metadata>')  # fmt: skip
    told = hashlib.sha256(primary).hexdigest()
    listed = '<?xml version="1.0"?><repomd><revision>1</revision>'
    for kind, sum_, file in (("primary", told, "primary.xml"), (name, digest, f"{name}.file")):
        listed += (
            f'<data type="{kind}"><checksum type="sha256">{sum_}</checksum>'
            f'<location href="repodata/{file}"/></data>'
        )
    cache = "var/cache/libdnf5/tide-0123456789abcdef/repodata"
    root.write(f"{cache}/primary.xml", primary)
    root.write(f"{cache}/{name}.file", data)
    root.write(f"{cache}/repomd.xml", listed + "</repomd>")
    text = "[tide]\nname=Tide\nbaseurl=https://packages.example/x\nenabled=1\ngpgcheck=0\n"
    root.write("etc/yum.repos.d/tide.repo", text)
    return root.path


DEEP = {
    "lists": "b'---\\na: ' + b'[' * 100_000",
    "tables": "b'---\\na: ' + b'{a: ' * 100_000",
    "dashes": "b'---\\n' + b'- ' * 100_000 + b'x\\n'",
    "steps": "b'---\\n' + b''.join(b' ' * n + b'a:\\n' for n in range(3000))",
    "lines of lists": "b'---\\na: ' + b'[\\n' * 100_000",
}


@pytest.mark.parametrize("name", DEEP)
def test_streams_nested_deep_are_refused(name: str) -> None:
    ended = run_bounded(
        "from filigree.formats.rpm.modules import read_modules, ModulesError\n"
        f"try: list(read_modules([{DEEP[name]}]))\n"
        "except ModulesError as error: print(error)\n",
        seconds=SECONDS,
    )
    assert (ended.status, ended.peak <= PEAK) == (0, True), ended.err
    assert "nested deeper than makes sense" in ended.out


@case("an encoding that nobody knows", "behind", "it is no XML")
def _encoding(folder: Path) -> str:
    return _index(folder, "updateinfo", b'<?xml version="1.0" encoding="x-gull-7"?><updates/>')


@pytest.mark.parametrize("name", CASES)
def test_a_small_file_neither_hangs_nor_kills_nor_swells(name: str, tmp_path: Path) -> None:
    make, words, says = CASES[name]
    root = make(tmp_path / "root")
    more = ("--no-cache",) if words[0] in ("behind", "seek") else ()
    ended = ask_bounded(*words, *more, "--root", root, "--format=json", seconds=SECONDS)
    assert ended.status in (0, 1, 3), ended.err[-2000:]
    assert ended.peak <= PEAK
    answer = json.loads(ended.out)
    told = "\n".join(f"{gap['what']}: {gap['why']}" for gap in answer["gaps"])
    assert says in told
    if says:
        assert ended.status in (1, 3)
