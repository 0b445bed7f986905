"""Systems of the third family: versions, needs, listings, records, archives, and the station plover."""

import gzip
import io
import json
import os
import shutil
import struct
import subprocess
import tarfile
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.access.trees.directory import DirectoryTree
from filigree.demo import arch
from filigree.demo.disk import Disk
from filigree.demo.goods import Good
from filigree.demo.plover import (
    EDITED,
    LEFT_OUT,
    OPENED,
    REDIRECTED,
    STRAY,
    SWAPPED,
    build_plover,
    everything,
    kept,
    offered,
    repository,
)
from filigree.demo.repository import STRANGER, detached, public_key
from filigree.demo.rpm_bytes import PACKERS
from filigree.demo.server import Server, serving
from filigree.demo.world import Ware
from filigree.families.arch import places
from filigree.families.arch.database import ArchDatabase
from filigree.families.arch.settings import option_words, read_settings
from filigree.formats.arch.field_blocks import read_blocks
from filigree.formats.arch.mtree import ListedFile, read_listing
from filigree.formats.arch.relations import parse_relation, parse_wish
from filigree.formats.arch.trust_database import Trusted, read_trust
from filigree.formats.arch.versions import compare_versions
from filigree.formats.damage import Damage
from filigree.formats.key_box import keys_in
from filigree.formats.openpgp_keys import read_keys
from filigree.formats.relation_error import RelationError
from filigree.model.answer import Answer, Gap
from filigree.model.errors import AccessError, DatabaseError, Obstacle
from filigree.model.files import Aspect, Evidence, Kind, Verdict
from filigree.model.needs import Relation
from filigree.model.package import Reason
from filigree.model.signatures import SignatureVerdict
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.behind import behind
from filigree.questions.commands.census import Filter, census
from filigree.questions.commands.contents import contents
from filigree.questions.commands.dossier import dossier
from filigree.questions.commands.keys import keys
from filigree.questions.commands.needs import needs
from filigree.questions.commands.owner import owner
from filigree.questions.commands.provenance import provenance
from filigree.questions.commands.refresh import refresh
from filigree.questions.commands.repos import RepositoryRow, repos
from filigree.questions.commands.verify import verify
from filigree.questions.evidence.references import Against
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.verifying.verdicts import Manner
from filigree.system import System, open_system
from tests.conftest import Run

EVERY = frozenset(Verdict)

# -- versions -------------------------------------------------------------------------------

RISING = "1.0a 1.0b 1.0beta 1.0p 1.0pre 1.0rc 1.0 1.0.a 1.0.1 1.1 2 1:0.1".split()


def test_the_published_order() -> None:
    for at, one in enumerate(RISING):
        for place, other in enumerate(RISING):
            assert compare_versions(one, other) == (at > place) - (at < place), (one, other)


@pytest.mark.parametrize(
    ("one", "other", "order"),
    [
        ("1.5.1-1", "1.5.1", 0), ("1.5-1", "1.5-2", -1), ("0:1.0", "1.0", 0), ("1:1.0", "2.0", 1),
        ("1.5.b", "1.5", 1), ("1.5b", "1.5", -1), ("2.0", "2_0", 0), ("2..0", "2.0", 1), ("001", "1", 0),
        ("1.1.1", "1.a.1", 1), ("a", "1", -1), ("1.0~rc1", "1.0", 1), ("1.0^x", "1.0", 1),
        ("1.0-1.1", "1.0-1", 1), ("", "", 0), ("9" * 60, "9" * 59, 1),
    ],
)  # fmt: skip
def test_orders(one: str, other: str, order: int) -> None:
    assert compare_versions(one, other) == order
    assert compare_versions(other, one) == -order


VERSIONS = st.text("0129abz._+~:-", max_size=12)


@given(one=VERSIONS, other=VERSIONS)
def test_the_order_of_any_two_texts_is_the_same_from_both_sides(one: str, other: str) -> None:
    assert compare_versions(one, one) == 0
    assert compare_versions(one, other) == -compare_versions(other, one)


# -- needs ----------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "shown"),
    [("brine", "brine"), ("brine>=2.1-1", "brine (>= 2.1-1)"), ("libx.so=1-64", "libx.so (= 1-64)"),
     ("a<1:2", "a (< 1:2)"), ("c++", "c++")],
)  # fmt: skip
def test_relations(text: str, shown: str) -> None:
    assert str(parse_relation(text)) == shown


@pytest.mark.parametrize("text", ["", ">=1", "a b", "a>=", "a><1 2"])
def test_what_is_no_relation(text: str) -> None:
    with pytest.raises(RelationError):
        parse_relation(text)


def test_what_a_wish_is_good_for() -> None:
    wish = parse_wish("chartroom>=5: to see it: in colour")
    assert (str(wish.term), wish.purpose) == ("chartroom (>= 5)", "to see it: in colour")
    assert parse_wish("chartroom").purpose is None


# -- listings -------------------------------------------------------------------------------


def entries(text: bytes) -> list[ListedFile | Damage]:
    return list(read_listing(text))


def test_defaults_and_what_goes_before_them() -> None:
    text = (
        b"#mtree\n/set type=file uid=0 gid=5 mode=644\n./a size=3 time=17.9 md5digest=" + b"a" * 32
        + b"\n./d mode=755 type=dir\n/unset gid\n./l type=link link=to\\040there mode=777\n"
        b"/set mode=600 \\\n uid=7\n./b sha256digest=" + b"B" * 64 + b" time=1.0\n"
    )  # fmt: skip
    a, d, link, b = entries(text)
    assert a == ListedFile("/a", Kind.FILE, 3, 0o644, 0, 5, 17, None, (f"md5:{'a' * 32}",))
    assert isinstance(d, ListedFile)
    assert (d.kind, d.mode) == (Kind.DIRECTORY, 0o755)
    assert isinstance(link, ListedFile)
    assert (link.kind, link.link_target, link.gid) == (Kind.LINK, "to there", None)
    assert isinstance(b, ListedFile)
    assert (b.mode, b.uid, b.digests) == (0o600, 7, (f"sha256:{'b' * 64}",))


@pytest.mark.parametrize(
    ("line", "path"),
    [(b"./a\\040b", "/a b"), (b"./\\303\\251", "/é"), (b"./a\\\\b", "/a\\b"), (b"./a\\#", "/a#"),
     (b".", "/"), (b"./\\377", "/\udcff"), (b"./dir/", "/dir")],
)  # fmt: skip
def test_escapes(line: bytes, path: str) -> None:
    (one,) = entries(line + b" type=file")
    assert isinstance(one, ListedFile)
    assert one.path == path


@pytest.mark.parametrize(
    "line", [b"usr/bin/x type=file", b"./x type=spoon", b"/x type=file", b"../x type=file"]
)
def test_lines_that_make_no_sense(line: bytes) -> None:
    (one,) = entries(line)
    assert isinstance(one, Damage)


@pytest.mark.parametrize(
    "value", ["size=-1", "size=9999999999999999999", "mode=9", "time=", "md5digest=xyz"]
)
def test_values_that_make_no_sense_are_not_told(value: str) -> None:
    (one,) = entries(f"./x type=file {value}".encode())
    assert isinstance(one, ListedFile)
    assert (one.size, one.mode, one.modified, one.digests) == (None, None, None, ())


@given(
    st.text(
        st.characters(exclude_characters="\0/", exclude_categories=["Cs"]), min_size=1, max_size=20
    )
)
def test_any_name_survives_being_written(name: str) -> None:
    if name in (".", ".."):
        return
    (one,) = entries(b"./" + arch.escaped(name) + b" type=file")
    assert isinstance(one, ListedFile)
    assert one.path == f"/{name}"


@given(st.binary(max_size=300))
def test_any_bytes_are_a_listing_or_damage(data: bytes) -> None:
    for one in entries(data):
        assert isinstance(one, (ListedFile, Damage))


@pytest.mark.skipif(shutil.which("bsdtar") is None, reason="bsdtar is not here to judge")
def test_another_program_reads_the_listings_that_we_write(tmp_path: Path) -> None:
    odd = Good("/usr/share/odd name \té", 0o600, b"x")
    one = kept(next(one.ware for one in everything() if one.ware.name == "tidegauge"))
    one = replace(one, goods=(*one.goods, odd))
    path = tmp_path / "mtree"
    path.write_bytes(arch.listing(one))
    done = subprocess.run(
        ["bsdtar", "-tf", str(path)],
        capture_output=True,
        check=True,
        env={**os.environ, "LC_ALL": "C.UTF-8"},
    )
    theirs = {
        line.removeprefix("./").rstrip("/") for line in done.stdout.decode().split("\n") if line
    }
    ours = {one.path[1:] for one in entries(path.read_bytes()) if isinstance(one, ListedFile)}
    assert {name for name in ours if "odd" not in name} == {
        name for name in theirs if "odd" not in name
    }
    assert len(ours) == len(theirs)


# -- records --------------------------------------------------------------------------------


def test_blocks() -> None:
    data = b"%NAME%\na\n\n%DEPENDS%\nb\nc\n\nstray\n%NAME%\nd\n%not one%\n"
    assert read_blocks(data) == {"NAME": ["a", "d", "%not one%"], "DEPENDS": ["b", "c"]}


def test_what_is_on_record_at_plover(plover: Path) -> None:
    with open_system(str(plover)) as system:
        answer = census(system)
        rows = {row.name: row for row in answer.records}
        (gauge,) = dossier(system, ["tidegauge"]).records
    assert len(rows) == 60
    assert (rows["tidegauge"].version, rows["tidegauge"].reason) == ("1:2.1-3", Reason.CHOSEN)
    assert rows["libbrine2"].reason is Reason.DEPENDENCY
    assert {name for name, row in rows.items() if row.held} == {"foghorn", "quayside"}
    assert (gauge.parts.epoch, gauge.parts.release) == ("1", "3")
    assert any(
        need.requirement.startswith("foghorn") and ": " in need.requirement for need in gauge.needs
    )


def test_optional_needs_say_what_they_are_good_for(plover: Path) -> None:
    with open_system(str(plover)) as system:
        answer = needs(system, ["tidegauge"], kinds=frozenset({Relation.SUGGESTS}))
    assert any(": " in row.requirement for row in answer.records)


def test_what_was_done_to_plover(plover: Path) -> None:
    with open_system(str(plover)) as system:
        answer = verify(system, verdicts=EVERY)
    found = {
        row.path: (row.verdict, {one.aspect for one in row.differences}) for row in answer.records
    }
    bad = {
        path: told
        for path, told in found.items()
        if told[0] not in (Verdict.INTACT, Verdict.EXCUSED)
    }
    gone = next(path for path, told in bad.items() if told[0] is Verdict.MISSING)
    assert bad == {
        SWAPPED: (Verdict.ALTERED, {Aspect.CONTENT}),
        OPENED: (Verdict.ALTERED, {Aspect.MODE}),
        REDIRECTED: (Verdict.ALTERED, {Aspect.LINK_TARGET}),
        EDITED: (Verdict.EDITED, {Aspect.SIZE, Aspect.MODIFIED}),
        gone: (Verdict.MISSING, {Aspect.PRESENCE}),
    }
    assert gone.startswith("/usr/share/tidetables/")
    assert found[LEFT_OUT][0] is Verdict.EXCUSED
    assert not answer.gaps


def test_a_directory_by_both_names(plover: Path) -> None:
    with open_system(str(plover)) as system:
        by_link, stray = owner(system, ["/bin/foghorn", STRAY]).records
    assert [one.name for one in by_link.owners] == ["foghorn"]
    assert not stray.owners


@pytest.fixture
def own_plover(tmp_path: Path) -> Path:
    return build_plover(tmp_path / "plover")


def folder_of(root: Path, name: str) -> Path:
    (found,) = (
        path for path in (root / places.LOCAL[1:]).iterdir() if path.name.startswith(f"{name}-")
    )
    return found


HARM: dict[str, tuple[Callable[[Path], object], str]] = {
    "no description": (lambda folder: (folder / "desc").unlink(), "a package without a name"),
    "no version": (lambda folder: (folder / "desc").write_text("%NAME%\njetty\n"), "without a version"),
    "not its folder": (
        lambda folder: (folder / "desc").write_text("%NAME%\njetty\n\n%VERSION%\n9\n"),
        "is called otherwise",
    ),
    "no listing": (lambda folder: (folder / "mtree").unlink(), "there is no listing"),
    "a listing cut off": (lambda folder: os.truncate(folder / "mtree", 60), "cut off"),
    "no packed listing": (lambda folder: (folder / "mtree").write_bytes(b"./x type=spoon"), "not known"),
}  # fmt: skip


@pytest.mark.parametrize("harm", HARM)
def test_a_damaged_record_costs_itself_and_is_told(own_plover: Path, harm: str) -> None:
    do, says = HARM[harm]
    do(folder_of(own_plover, "jetty-client"))
    with open_system(str(own_plover)) as system:
        answer = verify(system)
        assert len(system.packages) == (59 if harm in ("no description", "no version") else 60)
    assert any(says in gap.why for gap in answer.gaps), answer.gaps
    assert SWAPPED in {row.path for row in answer.records}


def test_a_bomb_of_a_listing_stops(own_plover: Path) -> None:
    bomb = gzip.compress(b"./x type=file\n" * 2_000_000)
    (folder_of(own_plover, "jetty-client") / "mtree").write_bytes(bomb)
    with open_system(str(own_plover)) as system:
        answer = verify(system, ["jetty-client"], workers=1)
    assert any("lines" in gap.why for gap in answer.gaps)


def test_no_database_is_said(tmp_path: Path) -> None:
    (tmp_path / places.LOCAL[1:]).mkdir(parents=True)
    with open_system(str(tmp_path)) as system:
        assert [gap.why for gap in system.gaps] == ["the package database is empty"]
    (tmp_path / places.LOCAL[1:]).rmdir()
    with pytest.raises(Exception, match="no package database"):
        open_system(str(tmp_path))


def test_settings_take_in_others_and_not_themselves(own_plover: Path) -> None:
    other = own_plover / "etc/pacman.d/station.d/again.conf"
    other.write_text("IgnorePkg = jetty*\nInclude = /etc/pacman.conf\n")
    gaps: list[Gap] = []
    with open_system(str(own_plover)) as system:
        settings = read_settings(system.tree, gaps.append)
        held = {package.name for package in system.packages if package.held}
    assert option_words(settings, "IgnorePkg")[:2] == ["foghorn", "jetty*"]
    assert {"jetty", "jetty-client", "foghorn"} <= held
    assert [gap.why for gap in gaps] == ["it takes in /etc/pacman.conf, which takes in itself"]


def test_what_an_index_puts_in_a_group_is_held_with_it(own_plover: Path) -> None:
    settings = own_plover / "etc/pacman.conf"
    settings.write_text(
        settings.read_text().replace("[options]\n", "[options]\nIgnoreGroup = harb?ur\n", 1)
    )
    kept = arch.InstalledGood(Ware("jetty", "9-1", "misc", "Reaches out"), ())
    entry = arch._entry(kept) + "\n%GROUPS%\nharbour\nquay\n\n"
    goods = [Good("jetty-9-1/desc", 0o644, entry.encode())]
    index = own_plover / "var/lib/pacman/sync/quay.db"
    before = {package.name for package in open_system(str(own_plover)).packages if package.held}
    index.write_bytes(PACKERS["gzip"](arch._tar(goods)))
    with open_system(str(own_plover)) as system:
        assert {one.name for one in system.packages if one.held} - before == {"jetty"}
        assert not [gap for gap in system.gaps if "quay" in gap.what]
    index.write_bytes(index.read_bytes()[:-30])
    with open_system(str(own_plover)) as system:
        assert len(system.packages) == 60
        assert [gap.what for gap in system.gaps if "quay" in gap.what] == [
            "/var/lib/pacman/sync/quay.db"
        ]


def _trust(*records: bytes) -> bytes:
    return b"".join(one.ljust(40, b"\0") for one in (b"\1gpg\3", *records))


def _key_record(print_: str, owner: int, first: int) -> bytes:
    return bytes([12, 0]) + bytes.fromhex(print_) + bytes([owner, 0, 0, 0]) + first.to_bytes(4)


def _validity(level: int, after: int = 0) -> bytes:
    return bytes([13, 0]) + bytes(20) + bytes([level]) + after.to_bytes(4)


@pytest.mark.parametrize(
    ("owner", "levels", "counts", "said"),
    [
        (0, [5], True, "trusted for packages"), (6, [], True, "trusted for packages"),
        (0, [2, 5], True, "trusted for packages"), (0, [], True, "trusted for packages"),
        (0, [4], False, "of marginal validity"), (0, [3], False, "of never validity"),
        (0, [2, 4], False, "of marginal validity"), (0x80, [5], False, "disabled"),
        (0x86, [6], False, "disabled"),
    ],
)  # fmt: skip
def test_a_key_that_no_master_certified_does_not_count(
    own_plover: Path, owner: int, levels: list[int], counts: bool, said: str
) -> None:
    (key, *_) = read_keys((own_plover / places.KEYS[1:]).read_bytes(), "ring")
    chain = [_validity(one, at + 3 if at + 1 < len(levels) else 0) for at, one in enumerate(levels)]
    data = _trust(_key_record(key.fingerprint, owner, 2 if levels else 0), *chain)
    (own_plover / places.TRUST[1:]).write_bytes(data)
    with open_system(str(own_plover)) as system:
        row = next(
            one
            for one in keys(system).records
            if one.fingerprint == key.fingerprint and one.file == places.KEYS
        )
        assert (row.archives, bool(row.scope)) == (counts, counts)
        assert said in row.how
        assert not system.gaps


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (b"nothing of the kind", "no database of trust"),
        (_trust(_key_record("00" * 20, 0, 1)), "leads nowhere"),
        (_trust(_key_record("00" * 20, 0, 9000)), "leads nowhere"),
        (_trust(_key_record("00" * 20, 0, 2), _validity(5, 2)), "in a circle"),
        (_trust(_key_record("00" * 20, 6, 0))[:-3], "cut off"),
    ],
)
def test_a_damaged_database_of_trust_is_a_gap(own_plover: Path, data: bytes, why: str) -> None:
    (own_plover / places.TRUST[1:]).write_bytes(data)
    with open_system(str(own_plover)) as system:
        assert keys(system).exit_status == 3
        assert any(why in gap.why and places.TRUST in gap.what for gap in system.gaps)


@pytest.mark.skipif(
    shutil.which("gpg") is None, reason="no other program is here that keeps such a ring"
)
def test_trust_that_another_program_worked_out(tmp_path: Path) -> None:
    home = tmp_path / "ring"
    home.mkdir(mode=0o700)

    def ring(*words: str, given: bytes = b"") -> str:
        command = ["gpg", "--homedir", str(home), "--batch", "--yes", "--passphrase", "", *words]
        return subprocess.run(command, capture_output=True, check=True, input=given).stdout.decode()

    def listed(kind: str, *columns: int) -> list[list[str]]:
        rows = [line.split(":") for line in ring("--with-colons", "--list-keys").split("\n")]
        return [[row[at] for at in columns] for row in rows if row[0] == kind]

    try:
        for name in ("master", "packager", "stranger"):
            ring("--quick-gen-key", f"{name}@tides.example", "ed25519", "sign", "never")
        (master,), (packager,), (stranger,) = listed("fpr", 9)
        ring("-u", master, "--quick-sign-key", packager)
        owners = f"{master}:6:\n{packager}:2:\n{stranger}:2:\n"
        ring("--import-ownertrust", given=owners.encode())
        ring("--check-trustdb")
        theirs = dict(zip((master, packager, stranger), listed("uid", 1), strict=True))
    finally:
        subprocess.run(["gpgconf", "--homedir", str(home), "--kill", "all"], check=False)
    found = list(read_trust((home / "trustdb.gpg").read_bytes()))
    told = {one.fingerprint.upper(): one for one in found if isinstance(one, Trusted)}
    assert len(told) == len(found)
    assert (told[master].validity, told[master].counts, theirs[master]) == ("ultimate", True, ["u"])
    assert (told[packager].validity, told[packager].counts, theirs[packager]) == (
        "full",
        True,
        ["f"],
    )
    assert not told[stranger].counts
    assert theirs[stranger] not in (["u"], ["f"])


# -- archives -------------------------------------------------------------------------------

CUP = arch.InstalledGood(
    Ware("cup", "1.0-1", "misc", "Holds a little", suggests="foghorn", scripts=("postinst",)),
    (Good("/etc", 0o755), Good("/etc/cup.conf", 0o640, b"size = small\n", config=True),
     Good("/usr", 0o755), Good("/usr/bin", 0o755), Good("/usr/bin/cup", 0o755, b"#!/bin/dsh\n"),
     Good("/usr/bin/mug", 0o777, target="cup")),
)  # fmt: skip


@pytest.mark.parametrize("packer", ["zstd", "xz", "gzip", "bzip2", "none"])
def test_an_archive_of_every_compression(plover: Path, tmp_path: Path, packer: str) -> None:
    path = tmp_path / "cup-1.0-1-x86_64.pkg.tar.zst"
    path.write_bytes(arch.archive(CUP, packer))
    with open_system(str(plover)) as system:
        (row,) = dossier(system, [str(path)]).records
        files = {one.path: one for one in contents(system, [str(path)]).records}
        gaps = system.gaps
    assert (row.name, row.version, row.family) == ("cup", "1.0-1", "arch")
    assert row.archive
    assert row.archive.compression == packer
    assert not row.misnamed
    assert set(files) == {good.path for good in CUP.goods}
    assert (files["/usr/bin/cup"].mode, files["/usr/bin/cup"].owner) == ("0755", "root")
    assert files["/etc/cup.conf"].role.value == "config"
    assert not gaps


def _rearranged(order: Callable[[str], object], packer: str = "none", said: str = "") -> bytes:
    """The archive of a cup by another writer: its members in this order, and more said of it."""
    made = io.BytesIO()
    with (
        tarfile.open(fileobj=io.BytesIO(arch.archive(CUP, "none"))) as old,
        tarfile.open(fileobj=made, mode="w", format=tarfile.GNU_FORMAT) as new,
    ):
        for info in sorted(old, key=lambda info: (order(info.name), info.name)):
            file = old.extractfile(info) if info.isreg() else None
            data = file.read() if file is not None else b""
            if info.name == ".PKGINFO":
                data += said.encode()
            info.size, info.pax_headers = len(data), {}
            new.addfile(info, io.BytesIO(data))
    return PACKERS[packer](made.getvalue())


@pytest.mark.parametrize("packer", ["none", "gzip", "zstd"])
@pytest.mark.parametrize("place", ["after its files", "among its files", "listing first"])
def test_what_describes_a_package_stands_anywhere(
    plover: Path, tmp_path: Path, place: str, packer: str
) -> None:
    order: dict[str, Callable[[str], object]] = {
        "after its files": lambda name: name.startswith("."),
        "among its files": lambda name: name == ".PKGINFO" or name.startswith("usr"),
        "listing first": lambda name: (name == ".PKGINFO", name != ".MTREE"),
    }
    path = tmp_path / "cup-1.0-1-x86_64.pkg.tar"
    path.write_bytes(_rearranged(order[place], packer))
    with open_system(str(plover)) as system:
        (row,) = dossier(system, [str(path)]).records
        files = {one.path for one in contents(system, [str(path)]).records}
        assert not system.gaps
    assert (row.name, row.version, row.family) == ("cup", "1.0-1", "arch")
    assert files == {good.path for good in CUP.goods}
    assert row.scripts


@pytest.mark.parametrize(
    "said", ["datahash = 00aa", "commit = 12ab", "origin = cup", "triggers = /usr"]
)
@pytest.mark.parametrize("first", [True, False])
def test_the_archive_of_another_family_is_not_taken_for_one(
    plover: Path, tmp_path: Path, said: str, first: bool
) -> None:
    path = tmp_path / "cup-1.0-1-x86_64.pkg.tar.gz"
    data = _rearranged(lambda name: (name != ".PKGINFO") is first, "gzip", said + "\n")
    path.write_bytes(data)
    with open_system(str(plover)) as system:
        answer = dossier(system, [str(path)])
    assert answer.exit_status == 1
    if answer.records:
        assert [row.family for row in answer.records] == ["apk"]
        assert any("none of its files" in gap.why for gap in answer.gaps)
    else:
        assert "no archive of a known family" in str(answer.notes) or "another family" in str(
            answer.notes
        )


@pytest.mark.skipif(shutil.which("bsdtar") is None, reason="bsdtar is not here to judge")
def test_another_program_reads_the_archives_that_we_write(tmp_path: Path) -> None:
    path = tmp_path / "cup.pkg.tar.zst"
    path.write_bytes(arch.archive(CUP))
    done = subprocess.run(["bsdtar", "-tf", str(path)], capture_output=True, text=True, check=True)
    own = [".BUILDINFO", ".PKGINFO", ".INSTALL", ".MTREE"]
    listed = done.stdout.split()
    assert listed[:4] == own
    assert {f"/{name.rstrip('/')}" for name in listed[4:]} == {good.path for good in CUP.goods}


@pytest.mark.parametrize("harm", ["cut", "empty", "noise", "no description", "other content"])
def test_a_damaged_archive_is_told(plover: Path, tmp_path: Path, harm: str) -> None:
    path = tmp_path / "cup-1.0-1-x86_64.pkg.tar"
    data = arch.archive(CUP, "none")
    content = {
        "cut": data[: len(data) // 2], "empty": b"", "noise": os.urandom(3000),
        "no description": data.replace(b"pkgname = cup", b"pkgnone = cup"),
        "other content": data.replace(b"#!/bin/dsh\n", b"#!/bin/bsh\n"),
    }[harm]  # fmt: skip
    path.write_bytes(content)
    with open_system(str(plover)) as system:
        answer = contents(system, [str(path)])
    assert answer.notes or answer.gaps
    assert answer.exit_status in (1, 3)


def test_files_against_the_archives_that_the_station_keeps(plover: Path) -> None:
    with open_system(str(plover)) as system:
        answer = verify(system, verdicts=EVERY, manner=Manner(Against(cache=True)))
    assert answer.summary.archives == 12
    assert not [row for row in answer.records if row.verdict is Verdict.DOCTORED]


def test_a_record_that_was_changed_shows_against_its_archive(own_plover: Path) -> None:
    archive = own_plover.parent / "cup-1.0-1-x86_64.pkg.tar.zst"
    archive.write_bytes(arch.archive(CUP))
    disk = Disk(own_plover.parent / "other")
    disk.ship(CUP.goods)
    arch.write_database(disk, [CUP])
    disk.file("/etc/passwd", f"root:x:{os.getuid()}:{os.getgid()}::/:/bin/dsh\n")
    disk.file("/etc/group", f"root:x:{os.getgid()}:\n")
    forged = replace(CUP, goods=tuple(
        replace(good, content=b"#!/bin/csh\n") if good.path == "/usr/bin/cup" else good
        for good in CUP.goods
    ))  # fmt: skip
    disk.file(f"{CUP.folder}/mtree", gzip.compress(arch.listing(forged)))
    with open_system(str(disk.folder)) as system:
        (row,) = (
            one for one in verify(system, [str(archive)]).records if one.path == "/usr/bin/cup"
        )
    assert row.verdict is Verdict.DOCTORED


def test_a_root_without_the_right_to_read_it(plover: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def refused(_: DirectoryTree, path: str) -> list[str]:
        raise AccessError(Obstacle.DENIED, path)

    monkeypatch.setattr(DirectoryTree, "names", refused)
    with pytest.raises(DatabaseError):
        ArchDatabase(DirectoryTree(str(plover)), lambda _: None)


def test_systems_are_told_apart(heron: Path, plover: Path) -> None:
    families = {System(str(root)).family.name for root in (heron, plover)}
    assert families == {"deb", "arch"}


COMMANDS = (
    "survey", "census", "dossier tidegauge", "seek tide", "contents tidegauge", "repos", "behind",
    "owner /usr/bin/tidegauge", "needs tidegauge --deep", "needed-by libbrine2", "because brine-data",
    "obstacles siltmeter", "whatif --drop libbrine2", "draw libbrine2", "verify", "keys", "strays",
    "provenance tidegauge", "census --outsiders", "census --leftover",
)  # fmt: skip


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_answers(call: Run, plover: Path, command: str) -> None:
    done = call(*command.split(), "--root", str(plover), "--format", "json", "--no-pager")
    assert done.returncode in ((3,) if command == "behind" else (0, 1)), done.stderr
    answer = json.loads(done.stdout)
    assert answer["schema"] == "filigree/1"
    assert answer["records"]
    assert [gap["what"] for gap in answer["gaps"]] == (
        ["what of it is for security"] if command == "behind" else []
    )


def test_what_is_for_security_is_not_told_to_be_none(plover: Path) -> None:
    with open_system(str(plover)) as system:
        answer = behind(system)
    assert {row.security for row in answer.records} == {None}
    assert answer.summary.security is None
    assert answer.exit_status == 3


# -- repositories ---------------------------------------------------------------------------

DB = f"{places.SYNC[1:]}/coast.db"


def indexes(root: Path, **options: Any) -> list[RepositoryRow]:
    with open_system(str(root)) as system:
        return repos(system, options=RepositoryOptions(**options)).records


def test_the_index_and_its_signature(plover: Path) -> None:
    (row,) = indexes(plover)
    assert (row.identity, row.address) == (
        "coast",
        "https://packages.tides.example/arch/coast/x86_64",
    )
    assert (row.signature, row.matches, row.packages) == (
        SignatureVerdict.GOOD,
        True,
        len(offered()),
    )
    assert row.must_be_signed is None
    assert row.configured_in == f"{places.SETTINGS}:12"


@pytest.mark.skipif(shutil.which("gpgv") is None, reason="gpgv is not here to judge")
def test_another_program_agrees_on_the_signatures(plover: Path, tmp_path: Path) -> None:
    ring = tmp_path / "ring.gpg"
    ring.write_bytes(dearmoured(public_key()))
    for name in ("coast.db", "coast.files"):
        path = plover / places.SYNC[1:] / name
        done = subprocess.run(
            ["gpgv", "--keyring", str(ring), f"{path}.sig", str(path)],
            capture_output=True,
            check=False,
        )
        assert done.returncode == 0, done.stderr.decode()


def dearmoured(key: bytes) -> bytes:
    return bytes(read_keys(key, "")[0].material)


@pytest.mark.parametrize("packer", ["gzip", "zstd", "xz", "bzip2", "none"])
def test_an_index_of_every_compression(own_plover: Path, packer: str) -> None:
    path = own_plover / DB
    data = PACKERS[packer](gzip.decompress(path.read_bytes()))
    path.write_bytes(data)
    path.with_name("coast.db.sig").write_bytes(detached(data, armoured=False))
    (row,) = indexes(own_plover)
    assert (row.signature, row.packages) == (SignatureVerdict.GOOD, len(offered()))


HARM_TO_INDEX: dict[str, tuple[Callable[[Path], object], SignatureVerdict]] = {
    "changed": (lambda path: path.write_bytes(path.read_bytes() + b"\0"), SignatureVerdict.BAD),
    "no signature": (lambda path: path.with_name("coast.db.sig").unlink(), SignatureVerdict.NONE),
    "a stranger's signature": (
        lambda path: path.with_name("coast.db.sig").write_bytes(detached(path.read_bytes(), STRANGER)),
        SignatureVerdict.UNKNOWN_KEY,
    ),
    "no ring": (
        lambda path: (path.parents[4] / places.KEYS[1:]).unlink(), SignatureVerdict.UNKNOWN_KEY,
    ),
}  # fmt: skip


@pytest.mark.parametrize("harm", HARM_TO_INDEX)
def test_an_index_that_may_not_be_believed(own_plover: Path, harm: str) -> None:
    do, verdict = HARM_TO_INDEX[harm]
    do(own_plover / DB)
    (row,) = indexes(own_plover)
    assert row.signature is verdict
    with open_system(str(own_plover)) as system:
        answer = census(system, Filter(outsiders=True))
    assert bool(answer.gaps) == (verdict is SignatureVerdict.BAD)


def test_an_index_of_paths_has_a_signature_of_its_own(own_plover: Path) -> None:
    with open_system(str(own_plover)) as system:
        assert owner(system, ["kittiwake"], scope=Scope.ANY).records[0].owners
    path = own_plover / f"{places.SYNC[1:]}/coast.files"
    path.write_bytes(path.read_bytes() + b"\0")
    with open_system(str(own_plover)) as system:
        answer = owner(system, ["kittiwake"], scope=Scope.ANY)
    assert any("its signature is bad" in gap.why for gap in answer.gaps)


@pytest.mark.parametrize(
    ("general", "own", "required"),
    [
        ("", "", None), ("Required", "", True), ("Required DatabaseOptional", "", None),
        ("Never", "", False),
        ("Optional", "Required", True), ("Required", "DatabaseNever", False),
        ("Required", "PackageOptional", True), ("Optional TrustAll", "TrustedOnly", None),
    ],
)  # fmt: skip
def test_whether_an_index_must_be_signed(
    own_plover: Path, general: str, own: str, required: bool | None
) -> None:
    settings = own_plover / places.SETTINGS[1:]
    head = f"[options]\nArchitecture = x86_64\nSigLevel = {general}\n"
    settings.write_text(f"{head}[coast]\nServer = x\nSigLevel = {own}\n")
    (row,) = indexes(own_plover)
    assert row.must_be_signed is required


def test_a_key_box_is_read_as_a_ring(own_plover: Path) -> None:
    (own_plover / places.KEYS[1:]).unlink()
    head = struct.pack(">IBBH4s16x4x", 32, 1, 1, 2, b"KBXf")
    key = dearmoured(public_key())
    blob = struct.pack(">IBBHII", 20 + len(key), 2, 1, 0, 20, len(key)) + bytes(4) + key
    (own_plover / f"{places.HOME[1:]}/pubring.kbx").write_bytes(head + blob)
    (row,) = indexes(own_plover)
    assert row.signature is SignatureVerdict.GOOD


@pytest.mark.skipif(shutil.which("gpg") is None, reason="gpg is not here to make one")
def test_a_key_box_that_another_program_made(own_plover: Path, tmp_path: Path) -> None:
    home = tmp_path / "home"
    home.mkdir(mode=0o700)
    subprocess.run(
        ["gpg", "--homedir", str(home), "--batch", "--quiet", "--import"], input=public_key(),
        capture_output=True, check=True,
    )  # fmt: skip
    (own_plover / places.KEYS[1:]).unlink()
    shutil.copyfile(home / "pubring.kbx", own_plover / f"{places.HOME[1:]}/pubring.kbx")
    (row,) = indexes(own_plover)
    assert row.signature is SignatureVerdict.GOOD


def test_a_key_that_the_systems_own_list_takes_back(own_plover: Path) -> None:
    own = read_keys(public_key(), "")[0].fingerprint.upper()
    (own_plover / places.KEYRINGS[1:] / "coast-revoked").write_text(f"{own}\n")
    (row,) = indexes(own_plover)
    assert row.signature is SignatureVerdict.UNKNOWN_KEY
    with open_system(str(own_plover)) as system:
        ring = next(row for row in keys(system).records if row.file == places.KEYS)
    assert not ring.everything
    assert "revoked by the system's own list" in ring.how


@given(st.binary(max_size=200))
def test_any_bytes_are_a_box_of_keys_or_none(data: bytes) -> None:
    for block in keys_in(data):
        assert block in data


def test_the_first_repository_that_has_a_package_gives_it(own_plover: Path) -> None:
    whelk = next(one for one in everything() if one.ware.name == "whelk")
    other = replace(whelk, ware=replace(whelk.ware, version="2.10.34-7"))
    data = arch.index([other])
    for name, content in (("local.db", data), ("local.db.sig", detached(data, armoured=False))):
        (own_plover / places.SYNC[1:] / name).write_bytes(content)
    settings = own_plover / places.SETTINGS[1:]
    text = settings.read_text()
    settings.write_text(
        text.replace("[coast]", "[local]\nServer = https://a.example/$arch\n\n[coast]")
    )
    with open_system(str(own_plover)) as system:
        (row,) = (one for one in behind(system).records if one.name == "whelk")
        (found,) = dossier(system, ["whelk"], scope=Scope.AVAILABLE).records
    assert (row.candidate, row.repository) == ("2.10.34-7", "local")
    assert found.choices
    assert {(one.version, one.taken) for one in found.choices} == {
        ("2.10.35-1", False), ("2.10.34-7", True), ("2.10.34-1", False),
    }  # fmt: skip


def test_an_archive_is_signed_by_what_the_index_tells(plover: Path, tmp_path: Path) -> None:
    one = next(one for one in offered() if one.ware.name == "gullwing")
    path = tmp_path / one.file_name
    path.write_bytes(arch.pooled(one))
    with open_system(str(plover)) as system:
        (row,) = provenance(system, [str(path)]).records
    verdicts = {link.link: link.verdict.value for link in row.links}
    assert row.whole
    assert verdicts["index entry"] == "holds"
    # What is cached at another station carries another signature's time: the digest decides.
    assert row.signature in (SignatureVerdict.GOOD, SignatureVerdict.NONE)


def test_files_that_trace_to_a_key(plover: Path) -> None:
    with open_system(str(plover)) as system:
        answer = verify(system, verdicts=EVERY, manner=Manner(least=Evidence.SIGNED))
    assert set(answer.summary.paths_by_evidence) == {"signed"}
    assert OPENED in {row.path for row in answer.records if row.verdict is Verdict.ALTERED}


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    for path, content in repository().items():
        real = tmp_path / "served/arch/coast/x86_64" / path
        real.parent.mkdir(parents=True, exist_ok=True)
        real.write_bytes(content)
    with serving(tmp_path / "served") as running:
        yield running


def refreshed(root: Path, server: Server, cache: Path, **options: Any) -> Answer[Any, Any]:
    settings = root / places.SETTINGS[1:]
    address = f"{server.address}/arch/$repo/$arch"
    settings.write_text(
        f"[options]\nArchitecture = x86_64\nSigLevel = Required\n[coast]\nServer = {address}\n"
    )
    with open_system(str(root)) as system:
        return refresh(system, options=RepositoryOptions(cache=str(cache), **options))


def test_an_index_is_refreshed_and_counts_when_asked(
    own_plover: Path, server: Server, tmp_path: Path
) -> None:
    (own_plover / DB).unlink()
    answer = refreshed(own_plover, server, tmp_path / "cache", paths=True)
    assert [(row.outcome.value, row.signature) for row in answer.records] == [
        ("fetched", SignatureVerdict.GOOD)
    ]
    with open_system(str(own_plover)) as system:
        options = RepositoryOptions(cache=str(tmp_path / "cache"), refreshed=True)
        assert len(behind(system, options=options).records) == 13
    assert not (own_plover / DB).exists()


@pytest.mark.parametrize("harm", ["changed", "unsigned", "stranger"])
def test_an_index_that_is_refused(
    own_plover: Path, server: Server, tmp_path: Path, harm: str
) -> None:
    path = "arch/coast/x86_64/coast.db"
    data = server.folder.joinpath(path).read_bytes()
    match harm:
        case "changed":
            server.manners.replaced[path] = data + b"\0"
        case "unsigned":
            (server.folder / f"{path}.sig").unlink()
        case _:
            server.manners.replaced[f"{path}.sig"] = detached(data, STRANGER, armoured=False)
    answer = refreshed(own_plover, server, tmp_path / "cache")
    (row,) = answer.records
    expected = {"changed": "refused", "unsigned": "refused", "stranger": "fetched"}[harm]
    assert row.outcome.value == expected
    assert harm != "stranger" or row.signature is SignatureVerdict.UNKNOWN_KEY


def test_an_older_index_is_refused(own_plover: Path, server: Server, tmp_path: Path) -> None:
    refreshed(own_plover, server, tmp_path / "cache")
    path = "arch/coast/x86_64/coast.db.sig"
    now = datetime.now(UTC) + timedelta(days=1)
    later = refreshed(own_plover, server, tmp_path / "cache", now=now)
    assert later.records[0].outcome.value == "unchanged"
    assert server.folder.joinpath(path).exists()
