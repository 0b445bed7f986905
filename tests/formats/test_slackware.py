"""The texts of the fourth family: names, versions, records, scripts, listings, changes, needs."""

import io
import itertools
import os
import shutil
import subprocess
import tarfile
from datetime import UTC, datetime
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.formats.damage import Damage
from filigree.formats.slackware import long_listing
from filigree.formats.slackware.build_scripts import read_info, read_script_list
from filigree.formats.slackware.changes import read_changes
from filigree.formats.slackware.file_sizes import read_sizes
from filigree.formats.slackware.long_listing import ListedEntry, read_blocks, read_listings
from filigree.formats.slackware.names import (
    Label,
    packager_of,
    split_build,
    split_gone,
    split_label,
    without_ending,
)
from filigree.formats.slackware.needs import NeedError, parse_need, split_field, split_file
from filigree.formats.slackware.records import (
    STANZA_LIMIT,
    paths_of,
    read_fields,
    read_list,
    read_record,
    size_of,
)
from filigree.formats.slackware.scripts import MadeLink, read_links, read_settings
from filigree.formats.slackware.versions import compare_versions, is_sure
from filigree.model.files import Kind

# -- names ----------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "label"),
    [
        ("gull-2.0-x86_64-1", Label("gull", "2.0", "x86_64", "1")),
        ("gull-glib-2.0_5.15-noarch-3_shore", Label("gull-glib", "2.0_5.15", "noarch", "3_shore")),
        ("a-1-b-2", Label("a", "1", "b", "2")),
        ("gull-2.0-x86_64", None), ("gull", None), ("", None), ("---", None), ("-1-2-3", None),
        ("../x-1-2-3", None), ("gull--x86_64-1", None),
    ],
)  # fmt: skip
def test_labels_are_split_from_the_right(text: str, label: Label | None) -> None:
    assert split_label(text) == label
    if label is not None:
        assert str(label) == text


@pytest.mark.parametrize(
    ("name", "bare"),
    [("a-1-b-2.txz", "a-1-b-2"), ("a.tgz", "a"), ("a.tbz", "a"), ("a.tlz", "a"), ("a.tar.xz", None),
     ("a.txz.asc", None), (".txz", None), ("a.tzz", None)],
)  # fmt: skip
def test_archives_are_known_by_their_endings(name: str, bare: str | None) -> None:
    assert without_ending(name) == bare


@pytest.mark.parametrize(
    ("build", "number", "packager"),
    [("1", 1, None), ("3_shore", 3, "shore"), ("2alder", 2, "alder"), ("1_slack15.0", 1, None),
     ("1_slack15.0_shore", 1, "shore"), ("x", None, "x"), ("9" * 20, None, "9" * 20)],
)  # fmt: skip
def test_builds(build: str, number: int | None, packager: str | None) -> None:
    assert split_build(build)[0] == number
    assert packager_of(build) == packager


def test_records_of_what_is_gone() -> None:
    gone = split_gone("a-1-b-2-upgraded-2026-01-17,08:30:05")
    assert gone == ("a-1-b-2", (2026, 1, 17, 8, 30, 5))
    assert split_gone("a-1-b-2") == ("a-1-b-2", None)


# -- versions -------------------------------------------------------------------------------

RISING = "1.0alpha 1.0beta2 1.0rc1 1.0 1.0a 1.0.1 1.1 1.10 2 20260101".split()


def test_the_guess_is_in_order() -> None:
    for (at, one), (place, other) in itertools.product(enumerate(RISING), repeat=2):
        assert compare_versions(one, other) == (at > place) - (at < place), (one, other)


@pytest.mark.parametrize(
    ("one", "other", "order", "sure"),
    [
        ("1.0-1", "1.0-1", 0, True), ("1.0-1", "1.0-2", -1, True), ("1.0-9", "1.0-10", -1, True),
        ("1.0-1_shore", "1.0-2_shore", -1, True), ("1.0-1", "1.0-2_shore", -1, False),
        ("1.0-1", "1.1-1", -1, False), ("1.0", "1.0-1_shore", 0, True), ("1.0-x", "1.0-y", -1, False),
    ],
)  # fmt: skip
def test_what_is_sure_of_an_order(one: str, other: str, order: int, sure: bool) -> None:
    assert compare_versions(one, other) == order
    assert compare_versions(other, one) == -order
    assert is_sure(one, other) is is_sure(other, one) is sure


VERSIONS = st.text("0129abrc._+~:-", max_size=12)


@given(one=VERSIONS, other=VERSIONS, third=VERSIONS)
def test_the_guess_is_an_order(one: str, other: str, third: str) -> None:
    assert compare_versions(one, one) == 0
    assert compare_versions(one, other) == -compare_versions(other, one)
    if "-" not in one + other + third and compare_versions(one, other) <= 0 <= -compare_versions(
        other, third
    ):
        assert compare_versions(one, third) <= 0


# -- records --------------------------------------------------------------------------------

RECORD = """PACKAGE NAME:     gull-2.0-x86_64-1
COMPRESSED PACKAGE SIZE:     1.4M
UNCOMPRESSED PACKAGE SIZE:     90K
PACKAGE LOCATION: ./slackware64/ap/gull-2.0-x86_64-1.txz
PACKAGE DESCRIPTION:
gull: gull (Looks out to sea)
gull:
gull: It sits: and looks.
gull:
FILE LIST:
./
install/
install/slack-desc
usr/
usr/bin/gull
"""


def test_a_record() -> None:
    record = read_record(RECORD)
    assert record.told.fields["COMPRESSED PACKAGE SIZE"] == "1.4M"
    assert record.told.description == ("gull (Looks out to sea)", "", "It sits: and looks.")
    assert paths_of(RECORD, record)[-2:] == ["usr/", "usr/bin/gull"]


def test_a_record_that_is_cut_off_has_no_paths() -> None:
    for end in range(len(RECORD)):
        record = read_record(RECORD[:end])
        assert (record.paths_at is None) is (end < RECORD.index("./\n"))


@pytest.mark.parametrize(
    ("text", "size"),
    [("12K", 12288), ("12 K", 12288), ("1.5M", 1572864), ("1G", 1 << 30), ("7", 7), ("7B", 7),
     ("", None), ("K", None), ("-1K", None), ("1e3K", None), ("9" * 30, None), (None, None)],
)  # fmt: skip
def test_sizes(text: str | None, size: int | None) -> None:
    assert size_of(text) == size


LIST = b"""PACKAGES.TXT;  Mon Jan 12 08:30:00 UTC 2026

Total size of all packages (compressed):  3 MB

PACKAGE NAME:  gull-2.0-x86_64-1.txz
PACKAGE LOCATION:  ./slackware64/ap
PACKAGE SIZE (compressed):  12 K
PACKAGE REQUIRED:  eider,skua >= 2.0-x86_64-1,auk|puffin
PACKAGE DESCRIPTION:
gull: gull (Looks out to sea)

PACKAGE NAME:  eider-1-noarch-1.txz
PACKAGE LOCATION:  ./patches/packages
"""


@pytest.mark.parametrize("piece", [1, 2, 7, 13, 50, 1000])
def test_a_list_in_pieces(piece: int) -> None:
    texts = list(read_list(LIST[at : at + piece] for at in range(0, len(LIST), piece)))
    names = [read_fields(text or "").fields["PACKAGE NAME"] for text in texts]
    assert names == ["gull-2.0-x86_64-1.txz", "eider-1-noarch-1.txz"]
    assert read_fields(texts[0] or "").fields["PACKAGE SIZE (compressed)"] == "12 K"


def test_what_is_too_long_for_a_stanza_costs_itself() -> None:
    bomb = b"PACKAGE NAME: big\n" + b"x" * (3 * STANZA_LIMIT) + b"\n"
    found = list(read_list([b"PACKAGE NAME: a\n", bomb[: 1 << 20], bomb[1 << 20 :], LIST]))
    assert [None if text is None else text.split("\n")[0] for text in found][:2] == [
        "PACKAGE NAME: a", None,
    ]  # fmt: skip
    assert len(found) == 4


# -- scripts --------------------------------------------------------------------------------


def test_links_of_a_script() -> None:
    text = (
        "config etc/gull.conf.new\npreserve_perms etc/rc.d/rc.gull.new\n  config usr/odd.new \n"
        "( cd usr/lib64 ; rm -rf libgull.so.2 )\n( cd usr/lib64 ; ln -sf libgull.so.2.0 libgull.so.2 )\n"
        "( cd / ; ln -sf usr/bin/gull gull\\ one )\n( cd usr ; ln -sf a b ) && rm -rf /\n"
        "ln -sf x y\n( cd usr/lib64 ; ln -sf other libgull.so.2 )\n( cd $(reboot) ; ln -sf a b )\n"
    )
    assert read_links(text) == [
        MadeLink("usr/lib64/libgull.so.2", "other"), MadeLink("gull one", "usr/bin/gull"),
    ]  # fmt: skip
    assert read_settings(text) == ["etc/gull.conf.new", "etc/rc.d/rc.gull.new", "usr/odd.new"]


# -- listings -------------------------------------------------------------------------------

HEAD = "++========\n||\n||   Package:  ./ap/gull-2.0-x86_64-1.txz\n||\n++========\n"


@pytest.mark.parametrize(
    ("line", "entry"),
    [
        ("drwxr-xr-x root/root         0 2026-01-12 08:30 usr/",
         ListedEntry("usr/", Kind.DIRECTORY, 0o755, "root", "root", None, 1768206600, 60)),
        ("-rwsr-sr-t 0/5    12 2026-01-12 08:30:07 usr/bin/gull",
         ListedEntry("usr/bin/gull", Kind.FILE, 0o7755, "#0", "#5", 12, 1768206607, 1)),
        ("-rw-r--r-- root/root 1 2026-01-12 08:30 a -> b",
         ListedEntry("a -> b", Kind.FILE, 0o644, "root", "root", 1, 1768206600, 60)),
        ("lrwxrwxrwx root/root 0 2026-01-12 08:30 a -> b",
         ListedEntry("a", Kind.LINK, 0o777, "root", "root", None, 1768206600, 60, "b")),
        ("hrw-r--r-- root/root 0 2026-01-12 08:30 a link to b",
         ListedEntry("a", Kind.FILE, 0o644, "root", "root", None, 1768206600, 60, same_as="b")),
        ("crw-rw---- root/tty 5,1 2026-01-12 08:30 dev/console",
         ListedEntry("dev/console", Kind.CHARACTER_DEVICE, 0o660, "root", "tty", None, 1768206600, 60,
               device=0x501)),
        ("-rw-r--r-- root/root 1 2026-01-12 08:30 caf\\303\\251 \\\\ \\n",
         ListedEntry("café \\ \n", Kind.FILE, 0o644, "root", "root", 1, 1768206600, 60)),
        ("-rw-r--r-- root/root 1 2026-01-12 08:30 café\\n",
         ListedEntry("café\n", Kind.FILE, 0o644, "root", "root", 1, 1768206600, 60)),
        ("-rwSr-Sr-T root/root 1 2026-01-12 08:30 a",
         ListedEntry("a", Kind.FILE, 0o7644, "root", "root", 1, 1768206600, 60)),
    ],
)  # fmt: skip
def test_lines_of_a_listing(line: str, entry: ListedEntry) -> None:
    [(archive, found)] = read_listings([f"{HEAD}{line}\n".encode()])
    assert archive == "./ap/gull-2.0-x86_64-1.txz"
    assert found == [entry]


@pytest.mark.parametrize(
    "line",
    ["-rw-r--r-- root 1 2026-01-12 08:30 a", "-rw-r--r-- root/root 1 2026-13-12 08:30 a",
     "-rw-r--r-- root/root 1 2026-01-12 25:30 a", "-rw-r--r-- root/root 1 2026-01-12 05:60 a",
     "?rw-r--r-- root/root 1 2026-01-12 05:30 a", "nonsense"],
)  # fmt: skip
def test_other_lines_are_told(line: str) -> None:
    [(_, found)] = read_listings([f"{HEAD}{line}\n".encode()])
    assert found == [Damage(6, "a line that tells no file")]


def test_modes_are_read_as_they_are_written() -> None:
    for mode in range(0o10000):
        text = tarfile.stat.filemode(mode | 0o100000)[1:]  # type: ignore[attr-defined]
        assert long_listing._mode(text) == mode


@pytest.mark.skipif(shutil.which("tar") is None, reason="tar is not here to list it")
def test_a_listing_by_another_program(tmp_path: Path) -> None:
    """What GNU tar lists of an archive is read as what is in it."""
    path = tmp_path / "odd.tar"
    with tarfile.open(path, "w") as file:
        for name, kind, mode, size in (
            ("usr", tarfile.DIRTYPE, 0o755, 0), ("usr/gull", tarfile.REGTYPE, 0o4755, 12),
            ("usr/a b\\c é\n", tarfile.REGTYPE, 0o640, 3), ("usr/link", tarfile.SYMTYPE, 0o777, 0),
            ("usr/twin", tarfile.LNKTYPE, 0o4755, 0), ("usr/tty", tarfile.CHRTYPE, 0o620, 0),
            ("usr/pipe", tarfile.FIFOTYPE, 0o600, 0), ("usr/sticky", tarfile.DIRTYPE, 0o1777, 0),
        ):  # fmt: skip
            info = tarfile.TarInfo(name)
            info.type, info.mode, info.size, info.mtime = kind, mode, size, 1768206607
            info.uname, info.gname, info.linkname = (
                "root",
                "tide",
                "usr/gull" if kind in b"12" else "",
            )
            info.devmajor, info.devminor = 5, 1
            file.addfile(info, io.BytesIO(b"x" * size))
    listed = subprocess.run(
        ["tar", "--list", "--verbose", "--file", str(path)],
        capture_output=True, check=True, env={**os.environ, "TZ": "UTC", "LC_ALL": "C.UTF-8"},
    )  # fmt: skip
    [(_, found)] = read_listings([HEAD.encode() + listed.stdout])
    with tarfile.open(path) as file:
        members = file.getmembers()
    assert len(found) == len(members)
    for one, member in zip(found, members, strict=True):
        assert isinstance(one, ListedEntry)
        assert (one.path.rstrip("/"), one.mode) == (member.name, member.mode)
        assert (one.owner, one.group) == ("root", "tide")
        assert one.modified == member.mtime - member.mtime % one.time_resolution
        assert one.size == (member.size if member.isreg() else None)
        assert one.target == (member.linkname if member.issym() else None)
        assert one.same_as == (member.linkname if member.islnk() else None)
        assert one.device == (os.makedev(5, 1) if member.ischr() else None)


def test_only_what_is_wanted_is_told() -> None:
    text = (HEAD + "nonsense\n" + HEAD.replace("gull", "eider")).encode()
    blocks = list(read_blocks([text], lambda path: "eider" in path))
    assert [block.archive for block in blocks] == ["./ap/eider-2.0-x86_64-1.txz"]
    assert not list(blocks[0].entries())


# -- changes --------------------------------------------------------------------------------

CHANGES = b"""Fri Feb 20 08:30:00 UTC 2026
patches/packages/gull-2.1-x86_64-1_slack15.0.txz:  Upgraded.
  This mends a hole:
    https://tides.example/CVE-2026-12345
  (* Security fix *)
patches/packages/gull-parts/*:  Upgraded.
  More.
+--------------------------+
Thu Feb 19 08:30:00 UTC 2026
ap/auk-1-noarch-1.txz:  Removed.
ap/eider-1.0-x86_64-1.txz:  Upgraded.
ap/eider-libs-1.0-x86_64-1.txz:  Rebuilt.
  (* Security fix *)
"""


@pytest.mark.parametrize("piece", [1, 9, 1000])
def test_changes(piece: int) -> None:
    found = list(read_changes(CHANGES[at : at + piece] for at in range(0, len(CHANGES), piece)))
    told = [(one.path.rpartition("/")[2], one.action, one.security) for one in found]
    assert told == [
        ("gull-2.1-x86_64-1_slack15.0.txz", "Upgraded", True), ("*", "Upgraded", False),
        # What only stands above another's words is not meant by them, unless it is a part of it.
        ("auk-1-noarch-1.txz", "Removed", False), ("eider-1.0-x86_64-1.txz", "Upgraded", True),
        ("eider-libs-1.0-x86_64-1.txz", "Rebuilt", True),
    ]  # fmt: skip
    assert found[0].at == datetime(2026, 2, 20, 8, 30, tzinfo=UTC)
    assert found[-1].at == datetime(2026, 2, 19, 8, 30, tzinfo=UTC)
    assert "CVE-2026-12345" in found[0].words


@pytest.mark.parametrize("date", ["Thu Xyz 19 08:30:00 UTC 2026", "Thu Feb 31 08:30:00 UTC 2026"])
def test_a_day_that_there_is_not(date: str) -> None:
    [change] = read_changes([f"{date}\na-1-b-2.txz: Added.\n".encode()])
    assert change.at is None


# -- needs ----------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("eider", "eider"), ("eider >= 2.0", "eider (>= 2.0)"),
        ("eider>=2.0-x86_64-3", "eider (>= 2.0-3)"),
        ("eider == 2", "eider (= 2)"), ("a|b", "(a or b)"), ("a | b < 3 | c", "(a or b (< 3) or c)"),
        ("gull+2", "gull+2"),
    ],
)  # fmt: skip
def test_needs(text: str, told: str) -> None:
    assert str(parse_need(text)) == told


@pytest.mark.parametrize("text", ["", "a b", ">= 2", "a >=", "a||b", "x" * 5000])
def test_no_needs(text: str) -> None:
    with pytest.raises(NeedError):
        parse_need(text)


def test_fields_and_files_of_needs() -> None:
    assert list(split_field(" eider , ,skua >= 2,a|b")) == ["eider", "skua >= 2", "a|b"]
    assert list(split_file("# what\neider # x\n\na|b, c\n")) == ["eider", "a|b", "c"]


# -- build scripts --------------------------------------------------------------------------


def test_the_file_of_a_script() -> None:
    text = (
        b'PRGNAM="gull"\nVERSION=2.0\nDOWNLOAD="https://a \\\n  https://b"\n'
        b"MD5SUM='x'\nREQUIRES=\"\"\nrm -rf /\n"
    )
    assert read_info(text) == {
        "PRGNAM": "gull", "VERSION": "2.0", "DOWNLOAD": "https://a https://b", "MD5SUM": "x",
        "REQUIRES": "",
    }  # fmt: skip


@pytest.mark.parametrize("piece", [1, 10, 1000])
def test_a_list_of_scripts(piece: int) -> None:
    text = (
        b"SLACKBUILD NAME: gull\nSLACKBUILD LOCATION: ./birds/gull\nSLACKBUILD VERSION: 2.0\n"
        b"SLACKBUILD REQUIRES: eider auk\nSLACKBUILD SHORT DESCRIPTION:  gull (Looks)\n\n"
        b"SLACKBUILD NAME: eider\nSLACKBUILD VERSION: 1\nprose: x\n"
    )
    found = list(read_script_list(text[at : at + piece] for at in range(0, len(text), piece)))
    assert [one["PRGNAM"] for one in found] == ["gull", "eider"]
    assert found[0]["REQUIRES"] == "eider auk"
    assert found[1] == {"PRGNAM": "eider", "VERSION": "1"}


def test_sizes_of_files() -> None:
    text = (
        b"Mon Jan 12 2026\n\ndrwxr-xr-x 3 root root 4096 2026-01-12 08:30 .\n"
        b"-rw-r--r-- 1 root root 13052 2026-01-12 08:30 ./ap/gull-2.0-x86_64-1.txz\n"
        b"-rw-r--r-- 1 root root many 2026-01-12 08:30 ./ap/odd\n"
    )
    assert read_sizes(text) == {"./ap/gull-2.0-x86_64-1.txz": 13052}


# -- anything -------------------------------------------------------------------------------

SIGNS = st.binary(max_size=300) | st.lists(
    st.sampled_from(
        [b"PACKAGE NAME:", b"\n", b"FILE LIST:\n", b"||   Package: ./a/b-1-c-1.txz\n", b"++===\n",
         b"-rw-r--r-- root/root 1 2026-01-12 08:30 a\n", b"( cd usr ; ln -sf a b )\n", b": ", b"\\", b"|",
         b"Thu Feb  3 22:22:22 UTC 2022\n", b"a/b-1-c-1.txz:  Upgraded.\n", b"(* Security fix *)\n",
         b"SLACKBUILD NAME: x\n", b"X=\"", b"\xff", b"\\303", b"config etc/a.new\n", b">= "]
    ),
    max_size=30,
).map(b"".join)  # fmt: skip


@given(data=SIGNS)
def test_no_text_breaks_a_reader(data: bytes) -> None:
    text = data.decode("utf-8", "surrogateescape")
    record = read_record(text)
    paths_of(text, record)
    list(read_list([data]))
    list(read_listings([data]))
    list(read_changes([data]))
    list(read_script_list([data]))
    read_info(data)
    read_links(text)
    read_settings(text)
    read_sizes(data)
    split_gone(text)
    for need in (*split_field(text), *split_file(text)):
        try:
            parse_need(need)
        except NeedError:
            continue
