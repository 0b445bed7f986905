"""Mutated databases: whatever is done to the bytes, every question ends with an answer or an error."""

import bz2
import contextlib
import gzip
import lzma
import shutil
import time
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.demo import apk, deb, rpm, slackware
from filigree.demo.archives import NEWER, TRICKY, UNMET
from filigree.demo.dunlin import offered
from filigree.demo.goods import goods_of
from filigree.demo.repository import detached, public_key
from filigree.demo.rpm import installed_header
from filigree.demo.rpm_wares import everything, shipped
from filigree.demo.sanderling import kept
from filigree.demo.world import WARES, Ware
from filigree.families.deb.archive import DebArchive
from filigree.families.rpm.archive import RpmArchive
from filigree.families.rpm.signatures import record_signature
from filigree.formats.openpgp import judge_detached
from filigree.formats.openpgp_keys import read_keys
from filigree.formats.random_access import MemoryBytes
from filigree.formats.rpm.header import HeaderError, read_header
from filigree.model.errors import FiligreeError
from filigree.model.files import Evidence
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.because import because
from filigree.questions.commands.behind import behind
from filigree.questions.commands.census import census
from filigree.questions.commands.contents import contents
from filigree.questions.commands.dossier import dossier
from filigree.questions.commands.keys import keys
from filigree.questions.commands.needs import needed_by, needs
from filigree.questions.commands.owner import owner
from filigree.questions.commands.provenance import provenance
from filigree.questions.commands.repos import repos
from filigree.questions.commands.survey import survey
from filigree.questions.commands.verify import verify
from filigree.questions.timeline.timeline import timeline
from filigree.questions.verifying.verdicts import Manner
from filigree.system import System, open_system
from filigree.views.page import Ink
from filigree.views.render import TEXTS, render
from tests.making import RpmRoot

NOW = datetime.now(UTC)
FILES = (
    "var/lib/dpkg/status", "var/lib/dpkg/info/tidegauge.list", "var/lib/dpkg/info/tidegauge.md5sums",
    "var/lib/dpkg/diversions", "var/lib/dpkg/statoverride", "var/lib/dpkg/alternatives/chart-viewer",
    "var/lib/apt/extended_states", "etc/dpkg/dpkg.cfg.d/small-station", "usr/lib/os-release",
    "etc/passwd", "etc/apt/sources.list.d/coast.sources", "usr/share/keyrings/coast.asc",
    "var/lib/apt/lists/packages.tides.example_coast_dists_saltmarsh_InRelease",
)  # fmt: skip
REPODATA = "var/cache/libdnf5/coast-base-71de0ff171de0ff1/repodata"
OTHER_FILES = (
    "usr/lib/sysimage/rpm/rpmdb.sqlite", "usr/lib/sysimage/rpm/rpmdb.sqlite",
    "usr/lib/sysimage/libdnf5/packages.toml", "usr/lib/sysimage/libdnf5/nevras.toml",
    "etc/dnf/versionlock.toml", "etc/dnf/protected.d/station.conf", "etc/group",
    "etc/yum.repos.d/coast.repo", f"{REPODATA}/repomd.xml", f"{REPODATA}/repomd.xml.asc",
)  # fmt: skip
ASK: tuple[Callable[[System], Any], ...] = (
    survey, census, lambda s: dossier(s, ["tide*"], full=True), lambda s: contents(s, ["tidegauge"]),
    lambda s: owner(s, ["/usr/bin/tidegauge", "/usr/bin/plot-chart.ropewalk", "/usr/*/tide*"]),
    lambda s: needs(s, ["tidegauge"], None), lambda s: needed_by(s, ["libbrine2"], None),
    lambda s: verify(s, ["tidegauge", "lockgate"], workers=1), repos, keys,
    lambda s: provenance(s, ["ropewalk"]),
)  # fmt: skip
ASK_OTHER = (
    survey, census, lambda s: dossier(s, ["tide*"], full=True), lambda s: contents(s, ["tidegauge"]),
    lambda s: owner(s, ["/usr/bin/tidegauge", "/usr/*/tide*"]),
    lambda s: needs(s, ["chartroom"], None), lambda s: needed_by(s, ["libbrine2"], None),
    lambda s: verify(s, ["tidegauge", "ropewalk"], workers=1), repos, keys,
    lambda s: provenance(s, ["lockgate"]),
)  # fmt: skip
_LOCAL = "var/lib/pacman/local/tidegauge-1:2.1-3"
THIRD_FILES = (
    f"{_LOCAL}/desc", f"{_LOCAL}/files", f"{_LOCAL}/mtree", "etc/pacman.conf",
    "var/lib/pacman/sync/coast.db", "var/lib/pacman/sync/coast.files", "var/lib/pacman/sync/coast.db.sig",
    "etc/pacman.d/gnupg/pubring.gpg",
)  # fmt: skip
ASK_THIRD = (
    survey, census, lambda s: dossier(s, ["tide*"], full=True), lambda s: contents(s, ["tidegauge"]),
    lambda s: owner(s, ["/usr/bin/tidegauge", "kittiwake"], scope=Scope.ANY),
    lambda s: needs(s, ["tidegauge"], None), lambda s: verify(s, ["tidegauge"], workers=1), repos, keys,
    behind, lambda s: provenance(s, ["tidegauge"]),
)  # fmt: skip
_RECORDS, _LISTS = "var/lib/pkgtools", "var/lib/slackpkg"
FOURTH_FILES = (
    f"{_RECORDS}/packages/tidegauge-2.1-x86_64-3", f"{_RECORDS}/scripts/libbrine2-2.1.4-x86_64-3",
    f"{_LISTS}/PACKAGES.TXT", f"{_LISTS}/CHECKSUMS.md5", f"{_LISTS}/CHECKSUMS.md5.asc",
    f"{_LISTS}/FILELIST.TXT", f"{_LISTS}/ChangeLog.txt", f"{_LISTS}/slackware64/MANIFEST.bz2",
    "usr/src/slackbuilds/shore/wrackline/wrackline.info", "etc/slackpkg/blacklist",
    "etc/slackpkg/mirrors", "etc/slackpkg/slackpkg.conf", "root/.gnupg/pubring.gpg",
    "var/cache/packages/slackware64/ap/tidegauge-2.1-x86_64-3.txz",
)  # fmt: skip
ASK_FOURTH = (
    survey, census, lambda s: dossier(s, ["tide*", "wrackline"], full=True, scope=Scope.ANY),
    lambda s: contents(s, ["tidegauge", "libbrine2"]),
    lambda s: owner(s, ["/usr/lib64/libbrine.so.2", "kittiwake"], scope=Scope.ANY),
    lambda s: needs(s, ["tidegauge"], None), lambda s: verify(s, ["tidegauge", "libbrine2"], workers=1),
    lambda s: verify(s, ["tidegauge"], workers=1, manner=Manner(least=Evidence.SIGNED)), repos, keys,
    behind, lambda s: provenance(s, ["tidegauge"]), lambda s: because(s, ["libkelp1"]),
)  # fmt: skip
_KEPT = apk.cached_name(kept(next(ware for ware in WARES if ware.name == "tidegauge")))
FIFTH_FILES = (
    "lib/apk/db/installed", "lib/apk/db/scripts.tar", "etc/apk/world", "etc/apk/arch",
    "etc/apk/repositories", "etc/apk/protected_paths.d/station.list", f"etc/apk/keys/{apk.KEY_NAME}",
    "var/cache/apk/APKINDEX.05f0ff35.tar.gz", "var/cache/apk/APKINDEX.9b51ecc6.tar.gz",
    f"var/cache/apk/{_KEPT}", "var/log/apk.log",
)  # fmt: skip
ASK_FIFTH = (
    survey, census, lambda s: dossier(s, ["tide*"], full=True, scope=Scope.ANY),
    lambda s: contents(s, ["tidegauge", "libbrine2"]),
    lambda s: owner(s, ["/usr/lib/libbrine.so.2", "kittiwake"], scope=Scope.ANY),
    lambda s: needs(s, ["tidegauge"], None), lambda s: verify(s, ["tidegauge", "libbrine2"], workers=1),
    lambda s: verify(s, ["tidegauge"], workers=1, manner=Manner(least=Evidence.SIGNED)), repos, keys,
    behind, lambda s: provenance(s, ["tidegauge"]), lambda s: because(s, ["libkelp1"]),
    timeline,
)  # fmt: skip
STATIONS: dict[str, tuple[Sequence[str], Sequence[Callable[[System], Any]]]] = {
    "heron": (FILES, ASK), "curlew": (OTHER_FILES, ASK_OTHER), "plover": (THIRD_FILES, ASK_THIRD),
    "dunlin": (FOURTH_FILES, ASK_FOURTH), "sanderling": (FIFTH_FILES, ASK_FIFTH),
}  # fmt: skip
PACKED: dict[bytes, tuple[Callable[[bytes], bytes], Callable[[bytes], bytes]]] = {
    b"\x1f\x8b": (gzip.decompress, lambda data: gzip.compress(data, 1)),
    b"BZ": (bz2.decompress, bz2.compress), b"\xfd7": (lzma.decompress, lzma.compress),
}  # fmt: skip
"""How what is packed is unpacked and packed again, by its first two bytes."""
EDITS = st.lists(
    st.tuples(st.floats(0, 1), st.integers(0, 30), st.binary(max_size=12) | st.sampled_from(
        [b"\n", b"\n\n", b"\0", b": ", b"\xff\xfe", b"/../../", b"(>= ", b"0" * 40, b"\x1b]0;"])),
    min_size=1, max_size=6,
)  # fmt: skip


@pytest.fixture(scope="module")
def stations(
    heron: Path,
    curlew: Path,
    plover: Path,
    dunlin: Path,
    sanderling: Path,
    tmp_path_factory: pytest.TempPathFactory,
) -> dict[str, tuple[Path, Path]]:
    """Each station, and a copy of it to be changed."""
    top = tmp_path_factory.mktemp("fuzz")
    return {
        one.name: (one, Path(shutil.copytree(one, top / one.name, symlinks=True)))
        for one in (heron, curlew, plover, dunlin, sanderling)
    }


@pytest.mark.parametrize("name", STATIONS)
@given(number=st.integers(0, 99), edits=EDITS)
def test_every_question_ends(
    stations: dict[str, tuple[Path, Path]],
    name: str,
    number: int,
    edits: list[tuple[float, int, bytes]],
) -> None:
    files, questions = STATIONS[name]
    file = files[number % len(files)]
    station, copy = stations[name]
    data = (station / file).read_bytes()
    unpack, pack = PACKED.get(data[:2], (bytes, bytes)) if len(edits) % 2 else (bytes, bytes)
    (copy / file).write_bytes(pack(mutated(unpack(data), edits)))
    try:
        ask_all(copy, questions)
    finally:
        shutil.copyfile(station / file, copy / file)


@given(
    number=st.integers(0, 60), edits=EDITS, container=st.sampled_from(["Packages.db", "Packages"])
)
def test_every_question_ends_on_mutated_headers(
    tmp_path_factory: pytest.TempPathFactory,
    blobs: list[bytes],
    number: int,
    edits: list[tuple[float, int, bytes]],
    container: str,
) -> None:
    root = RpmRoot(tmp_path_factory.mktemp("headers"), container)
    root.blobs = [mutated(blobs[number], edits), blobs[-1]]
    root.save()
    ask_all(root.folder, (survey, lambda s: dossier(s, ["*"], full=True), lambda s: contents(s, ["*"]),
                          lambda s: needs(s, ["*"], None), lambda s: verify(s, workers=1),
                          lambda s: owner(s, ["/usr/bin/**", "dsh"])))  # fmt: skip


@pytest.fixture(scope="module")
def blobs() -> list[bytes]:
    return [installed_header(one) for one in everything()]


@given(name=st.sampled_from([NEWER, UNMET, TRICKY, "siltmeter-0.4.0-1.x86_64.rpm"]), edits=EDITS)
def test_every_question_ends_on_mutated_archives(
    tmp_path_factory: pytest.TempPathFactory,
    curlew: Path,
    archives: dict[str, Path],
    name: str,
    edits: list[tuple[float, int, bytes]],
) -> None:
    path = tmp_path_factory.getbasetemp() / name
    path.write_bytes(mutated(archives[name].read_bytes(), edits))
    subject = str(path)
    ask_all(curlew, (lambda s: dossier(s, [subject], full=True), lambda s: contents(s, [subject]),
                     lambda s: needs(s, [subject], None),
                     lambda s: owner(s, ["tidegauge", "/etc/**"], [subject])))  # fmt: skip


@given(edits=EDITS, whole=st.booleans())
def test_mutated_payloads_of_the_fourth_family(
    dunlin: Path,
    tmp_path_factory: pytest.TempPathFactory,
    edits: list[tuple[float, int, bytes]],
    whole: bool,
) -> None:
    one = next(one for one in offered() if one.ware.name == "tidegauge")
    data = slackware.archive(one, "none")
    packed = (
        mutated(gzip.compress(data, 1), edits) if whole else gzip.compress(mutated(data, edits), 1)
    )
    path = tmp_path_factory.getbasetemp() / f"{one.label}.tgz"
    path.write_bytes(packed)
    subject = str(path)
    ask_all(dunlin, (lambda s: dossier(s, [subject], full=True), lambda s: contents(s, [subject]),
                     lambda s: needs(s, [subject], None), lambda s: provenance(s, [subject]),
                     lambda s: owner(s, ["tidegauge", "/etc/**"], [subject])))  # fmt: skip


def mutated(data: bytes, edits: list[tuple[float, int, bytes]]) -> bytes:
    changed = bytearray(data)
    for where, cut, put in edits:
        at = int(where * len(changed))
        changed[at : at + cut] = put
    return bytes(changed)


def ask_all(root: Path, questions: Sequence[Callable[[System], Any]]) -> None:
    """Ask, and show each answer in every format; what a system cannot answer is said in words."""
    started = time.monotonic()
    try:
        with open_system(str(root)) as system:
            for ask in questions:
                answer = ask(system)
                for form in TEXTS:
                    text = "\n".join(render(answer, form, Ink(False, 80)))
                    assert "\x1b" not in text
                    text.encode("utf-8")
    except FiligreeError:
        pass  # said in words, at the rim
    assert time.monotonic() - started < 10  # a bound against a hang, not a measure of speed


@pytest.fixture(scope="module")
def signed() -> dict[str, bytes]:
    ware = Ware("siltcup", "1.0-1", "science", "Holds a little", programs=("siltcup",))
    one = deb.Installed(ware, goods_of(ware))
    plain = deb.archive(one, "gzip")
    return {
        "rpm": rpm.archive(shipped(ware), whole=rpm.signed),
        "deb": plain + deb.ar({"_gpgorigin": detached(plain[8:], armoured=False)})[8:],
        "record": installed_header(shipped(ware)),
        "keys": public_key(),
        "signature": detached(b"hello", armoured=False),
    }


def judged(kind: str, data: bytes) -> None:
    keys = read_keys(public_key(), "office")
    match kind:
        case "rpm":
            RpmArchive(MemoryBytes(data), "x", lambda _: None).signature(keys, NOW)
        case "deb":
            DebArchive(MemoryBytes(data), "x", lambda _: None).signature(keys, NOW)
        case "record":
            record_signature(read_header(data), keys, NOW)
        case "keys":
            read_keys(data, "x")
        case _:
            judge_detached(b"hello", data, keys, NOW)


@given(kind=st.sampled_from(["rpm", "deb", "record", "keys", "signature"]), edits=EDITS)
def test_every_signature_is_judged_or_refused(
    signed: dict[str, bytes], kind: str, edits: list[tuple[float, int, bytes]]
) -> None:
    """A damaged signature is told to be one; what is no archive, header or key at all is refused as
    such.
    """
    with contextlib.suppress(FiligreeError, HeaderError, *([ValueError] if kind == "keys" else [])):
        judged(kind, mutated(signed[kind], edits))
