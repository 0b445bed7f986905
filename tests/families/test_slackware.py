"""Systems of the fourth family: records, scripts, lists, archives, signatures, and the station dunlin."""

import hashlib
import os
import shutil
import subprocess
from collections.abc import Callable, Iterator
from dataclasses import replace
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.access.trees.directory import DirectoryTree
from filigree.demo import slackware
from filigree.demo.dunlin import (
    BUILT_HERE,
    EDITED,
    OPENED,
    REDIRECTED,
    STRAY,
    SWAPPED,
    TAG,
    build_dunlin,
    build_scripts,
    everything,
    kept,
    offered,
    repository,
)
from filigree.demo.repository import STRANGER, detached, public_key
from filigree.demo.server import Server, serving
from filigree.demo.world import WARES
from filigree.families.slackware import described, places
from filigree.families.slackware.settings import left_out
from filigree.formats.openpgp_keys import read_keys
from filigree.formats.slackware.scripts import MadeLink
from filigree.model.answer import Answer, Gap
from filigree.model.errors import DatabaseError
from filigree.model.events import Action
from filigree.model.files import Aspect, Evidence, FileRecord, Kind, Verdict
from filigree.model.package import Package, Reason
from filigree.model.signatures import SignatureVerdict
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.because import because
from filigree.questions.commands.behind import UpdateStatus, behind
from filigree.questions.commands.census import Filter, census
from filigree.questions.commands.contents import contents
from filigree.questions.commands.dossier import dossier
from filigree.questions.commands.needs import needed_by, needs
from filigree.questions.commands.owner import owner
from filigree.questions.commands.provenance import provenance
from filigree.questions.commands.refresh import refresh
from filigree.questions.commands.repos import repos
from filigree.questions.commands.strays import strays
from filigree.questions.commands.verify import verify
from filigree.questions.commands.whatif import whatif
from filigree.questions.evidence.references import Against
from filigree.questions.finding.ownership import How
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.planning.outcomes import PlanAction
from filigree.questions.verifying.verdicts import Manner
from filigree.system import System, open_system
from tests.conftest import events_of

RECORDS, LISTS = places.RECORDS[0][1:], places.LISTS[1:]
EVERY = frozenset(Verdict)
Tree = dict[str, bytes]


@pytest.fixture
def own(dunlin: Path, tmp_path: Path) -> Path:
    """A dunlin of one's own, to be changed at will."""
    return Path(shutil.copytree(dunlin, tmp_path / "dunlin", symlinks=True))


def asked(
    root: Path, question: Callable[..., Answer[Any, Any]], *more: Any, **named: Any
) -> Answer[Any, Any]:
    with open_system(str(root)) as system:
        return question(system, *more, **named)


def whys(answer: Answer[Any, Any]) -> str:
    return "\n".join(f"{gap.what}: {gap.why}" for gap in answer.gaps)


# -- records --------------------------------------------------------------------------------


def test_the_records_of_the_station(dunlin: Path) -> None:
    with open_system(str(dunlin)) as system:
        found = {p.name: p for p in system.packages}
        assert system.database.architecture == "x86_64"
        assert len(found) == len(everything()) == 61
    gauge = found["tidegauge"]
    assert (gauge.version, gauge.architecture, gauge.section) == ("2.1-3", "x86_64", "ap")
    assert gauge.summary == "Reads the tide gauge and writes what it says"
    assert gauge.homepage == "https://tides.example/tidegauge"
    size = next(one.size for one in everything() if one.ware.name == "tidegauge")
    assert gauge.installed_size == -(-size // 1024) * 1024
    assert gauge.installed_at is not None
    assert gauge.reason is None
    assert {p.name for p in found.values() if p.vendor == TAG.strip("_")} == set(BUILT_HERE)


def test_both_places_are_read_and_one_by_two_ways_once(own: Path) -> None:
    older = own / places.RECORDS[1][1:]
    assert older.is_symlink()
    older.unlink()
    older.mkdir()
    one = next((own / RECORDS).iterdir())
    shutil.copyfile(one, older / one.name)
    (older / "gull-1.0-noarch-1").write_text(one.read_text().replace(one.name, "gull-1.0-noarch-1"))
    with open_system(str(own)) as system:
        names = [package.name for package in system.packages]
        assert names.count("gull") == 1
        assert len(names) == len(set(names)) == len(everything()) + 1
        assert any("two places" in gap.why for gap in system.gaps)


def linked(path: Path, target: str) -> None:
    path.unlink()
    path.symlink_to(target)


HARM: dict[str, tuple[Callable[[Path], object], str]] = {
    "another's name": (lambda path: path.rename(path.with_name("gull-1-noarch-1")), "called otherwise"),
    "no label": (lambda path: path.rename(path.with_name("gull")), "not called as a package is"),
    "empty": (lambda path: path.write_bytes(b""), "names no package"),
    "cut off": (
        lambda path: path.write_bytes(path.read_bytes()[:300]), "no list of paths",
    ),
    "a link": (lambda path: linked(path, "/etc/passwd"), "a link, and no record"),
}  # fmt: skip


@pytest.mark.parametrize("harm", HARM)
def test_a_damaged_record_costs_itself(own: Path, harm: str) -> None:
    do, why = HARM[harm]
    do(next((own / RECORDS).glob("foghorn-*")))
    answer = asked(own, verify)
    assert why in whys(answer)
    assert answer.summary.packages >= len(everything()) - 1


def test_no_records_at_all(tmp_path: Path) -> None:
    (tmp_path / RECORDS).mkdir(parents=True)
    with open_system(str(tmp_path)) as system:
        assert list(system.packages) == []
        assert "empty" in system.gaps[0].why
    (tmp_path / RECORDS).chmod(0o000)
    if os.geteuid() and not os.access(tmp_path / RECORDS, os.R_OK):
        with pytest.raises(DatabaseError):
            open_system(str(tmp_path)).packages  # noqa: B018


def test_what_is_gone_is_told(dunlin: Path) -> None:
    with open_system(str(dunlin)) as system:
        found = {(one.name, one.version, one.action) for one in events_of(system)}
        (row,) = dossier(system, ["chartroom"]).records
    assert found == {
        ("oldgauge", "1.9-8", Action.REMOVED), ("chartroom", "5.3.9-1", Action.REPLACED),
        ("libbrine2", "2.1.3-1", Action.REPLACED),
    }  # fmt: skip
    assert [event.version for event in row.history] == ["5.3.9-1"]
    assert str(row.history[0].at) == "2026-01-17 08:30:00+00:00"


@pytest.mark.parametrize(
    ("line", "held"),
    [
        ("gull", True), ("gul", False), ("gull-2.0-x86_64-1_shore", True), ("ap/", True), ("a/", False),
        ("[0-9]+_shore", True), ("gu.*", True), ("# gull", False), ("gull # stays", True),
        ("[0-9]+_dike", False),
    ],
)  # fmt: skip
def test_what_stays_as_it_is(tmp_path: Path, line: str, held: bool) -> None:
    path = tmp_path / places.LEFT_OUT[1:]
    path.parent.mkdir(parents=True)
    path.write_text(f"{line}\n")
    gull = Package("gull", "2.0-1_shore", "x86_64", "slackware", section="ap")
    gaps: list[Gap] = []
    assert left_out(DirectoryTree(str(tmp_path)), gaps.append)(gull) is held
    assert not gaps


@pytest.mark.parametrize("line", [r"(a)\1", "[0-9", "(?=a)b", "x.*" * 400, "a{9000}"])
def test_expressions_that_are_not_matched_in_one_look_are_told(tmp_path: Path, line: str) -> None:
    path = tmp_path / places.LEFT_OUT[1:]
    path.parent.mkdir(parents=True)
    path.write_text(f"{line}\n")
    gaps: list[Gap] = []
    left_out(DirectoryTree(str(tmp_path)), gaps.append)
    assert [gap.what.partition(" by ")[0] for gap in gaps] == ["what stays as it is"]


@pytest.mark.parametrize("line", ["(a+)+b", "a*b*c*d*e", "x" * 70 + ".*" * 9, "a|b"])
@pytest.mark.usefixtures("ended_in_time")
def test_expressions_that_others_would_try_without_end_are_read(tmp_path: Path, line: str) -> None:
    path = tmp_path / places.LEFT_OUT[1:]
    path.parent.mkdir(parents=True)
    path.write_text(f"{line}\n")
    gaps: list[Gap] = []
    stays = left_out(DirectoryTree(str(tmp_path)), gaps.append)
    assert not stays(Package("a" * 5000, "1-1", "noarch", "slackware"))
    assert not gaps


def test_ten_thousand_expressions_are_too_many(tmp_path: Path) -> None:
    path = tmp_path / places.LEFT_OUT[1:]
    path.parent.mkdir(parents=True)
    path.write_text("".join(f"gull{number}.*\n" for number in range(10_000)))
    gaps: list[Gap] = []
    stays = left_out(DirectoryTree(str(tmp_path)), gaps.append)
    assert not stays(Package("gull7-x", "1-1", "noarch", "slackware"))
    (gap,) = gaps
    assert "10,000 expressions" in gap.why


@pytest.mark.parametrize(
    ("path", "text"),
    [
        (
            f"{RECORDS}/tidegauge-2.1-x86_64-3",
            "PACKAGE DESCRIPTION:\ntidegauge: x\ntidegauge: see" + " " * 900_000,
        ),
        (f"{RECORDS}/tidegauge-2.1-x86_64-3", "A" * 900_000),
        (f"{RECORDS}/tidegauge-2.1-x86_64-3", "A: (" * 200_000),
        (places.SETTINGS[1:], "A=(\n" * 60_000), (places.SETTINGS[1:], "A=\"" * 80_000),
        (f"{LISTS}/FILELIST.TXT", "-rw-r--r--" + " " * 900_000),
        (f"{LISTS}/FILELIST.TXT", "-rw-r--r-- 1 " + "a " * 400_000),
        (f"{LISTS}/ChangeLog.txt", "a-1-b-2.txz: x\n" * 60_000 + "(" * 900_000),
        (f"{places.SCRIPTS[0][1:]}/libbrine2-2.1.4-x86_64-3", "( cd " + "a\\ " * 200_000),
    ],
    ids=range(9),
)  # fmt: skip
def test_texts_that_would_take_for_ever(own: Path, path: str, text: str) -> None:
    (own / path).write_text(text)
    with open_system(str(own)) as system:
        for question in (
            behind,
            lambda s: owner(s, [REDIRECTED]),
            lambda s: dossier(s, ["tidegauge"]),
        ):
            assert question(system).exit_status in (0, 1, 3)


# -- files ----------------------------------------------------------------------------------


def test_paths_links_and_configuration(dunlin: Path) -> None:
    with open_system(str(dunlin)) as system:
        brine, gauge = system.present(["libbrine2"])[0], system.present(["tidegauge"])[0]
        paths = list(system.database.listing(gauge))
        assert {EDITED, f"{EDITED}.new"} <= set(paths)
        assert not any("install" in path or path.endswith("/") for path in paths)
        link = next(r for r in system.database.files(brine) if r.path == REDIRECTED)
        config = next(r for r in system.database.files(gauge) if r.path == EDITED)
        rows = owner(system, [REDIRECTED, EDITED, f"{EDITED}.new", STRAY]).records
    assert rows[0].dead_end == "/var/tmp/.brine"
    assert {row.dead_end for row in rows[1:]} == {None}
    assert link.link_target == "libbrine.so.2.2.1.4"
    assert config.config
    assert [(row.owners[0].name, row.owners[0].how) if row.owners else None for row in rows] == [
        ("libbrine2", How.GENERATED), ("tidegauge", How.GENERATED), ("tidegauge", How.LISTED), None,
    ]  # fmt: skip


PATHS = st.lists(
    st.sampled_from(
        ["./", "install/", "install", "install/doinst.sh", "usr/", "usr/bin/gull", "./usr/odd",
         "/usr/odd",
         "etc/gull.conf.new", "usr/odd.new", "installed", ".hidden", "etc/", "a"]
    ) | st.text("abé/.", min_size=1, max_size=6),
    max_size=12,
)  # fmt: skip


@given(written=PATHS)
def test_the_paths_are_those_of_the_records(written: list[str]) -> None:
    links = [MadeLink("usr/lib/gull", "x")]
    settings = ["usr/odd.new"]
    shipped = (
        FileRecord(path, path, Kind.DIRECTORY if folder else Kind.FILE)
        for path, folder in described.installed_paths(written)
    )
    records = described.records_of(shipped, links, settings)
    paths = described.all_paths(written, links, settings)
    assert {record.path for record in records} <= set(paths)
    assert len(paths) == len(set(paths))
    listed = {path for path, _ in described.installed_paths(written)}
    places = {described.settled(path, settings) for path in listed} - {None}
    assert set(paths) == listed | places | {"/usr/lib/gull"}


def verdicts(answer: Answer[Any, Any]) -> dict[str, Verdict]:
    return {row.path: row.verdict for row in answer.records}


def test_traces_that_record_and_listing_tell(dunlin: Path) -> None:
    answer = asked(dunlin, verify)
    found = verdicts(answer)
    assert found.pop(EDITED) is Verdict.EDITED
    gone = next(path for path in found if path.startswith("/usr/share/tidetables/"))
    assert found == {OPENED: Verdict.ALTERED, REDIRECTED: Verdict.ALTERED, gone: Verdict.MISSING}
    # The swapped program has the right size and time: without its content nobody could tell.
    assert SWAPPED not in found
    assert "does not record what files hold" in whys(answer)
    assert {"mode", "owner", "size", "modified"} <= set(answer.summary.compared)


def test_the_record_alone_tells_presence_and_kind(own: Path) -> None:
    for path in (own / LISTS).rglob("MANIFEST.bz2"):
        path.unlink()
    answer = asked(own, verify)
    assert set(answer.summary.compared) == {"presence", "kind", "link-target"}
    assert OPENED not in verdicts(answer)
    tide = own / SWAPPED[1:]
    tide.unlink()
    tide.symlink_to("/bin/dsh")
    (row,) = asked(own, verify, ["weatherglass"]).records
    assert row.differences[0].aspect is Aspect.KIND


def test_a_listing_that_is_not_as_promised_is_not_used(own: Path) -> None:
    path = own / LISTS / "slackware64/MANIFEST.bz2"
    path.write_bytes(path.read_bytes() + b"\0")
    answer = asked(own, verify)
    assert "not what the signed file says" in whys(answer)
    assert "mode" not in answer.summary.compared


def test_times_are_compared_as_far_as_they_are_told(own: Path) -> None:
    path = own / "usr/bin/tidegauge"
    at = path.stat().st_mtime
    os.utime(path, (at + 59, at + 59))
    assert asked(own, verify, ["tidegauge"], EVERY).summary.aspects.get("modified") == 1
    os.utime(path, (at + 61, at + 61))
    assert asked(own, verify, ["tidegauge"], EVERY).summary.aspects.get("modified") == 2


def test_configuration_as_it_is_shipped(own: Path) -> None:
    (own / f"{EDITED[1:]}.new").unlink()
    rows = {row.path: row for row in asked(own, verify, ["tidegauge"], EVERY).records}
    assert rows[f"{EDITED}.new"].verdict is Verdict.EXCUSED
    assert EDITED in (rows[f"{EDITED}.new"].reason or "")
    (own / EDITED[1:]).unlink()
    assert verdicts(asked(own, verify, ["tidegauge"]))[EDITED] is Verdict.MISSING


# -- archives -------------------------------------------------------------------------------


def ware(name: str, version: str | None = None) -> slackware.InstalledWare:
    one = next(ware for ware in WARES if ware.name == name)
    return kept(one if version is None else replace(one, version=version))


PACKED = {"txz": "xz", "tgz": "gzip", "tbz": "bzip2", "tlz": "lzma"}


@pytest.mark.parametrize("ending", PACKED)
def test_archives_in_every_compression(dunlin: Path, tmp_path: Path, ending: str) -> None:
    one = ware("tidegauge")
    path = tmp_path / f"{one.label}.{ending}"
    path.write_bytes(slackware.archive(one, PACKED[ending]))
    with open_system(str(dunlin)) as system:
        (row,) = dossier(system, [str(path)]).records
        listed = [r.path for r in contents(system, [str(path)]).records]
    assert (row.name, row.version, row.architecture) == ("tidegauge", "2.1-3", "x86_64")
    assert row.summary == one.ware.summary
    assert [need.requirement for need in row.needs] == slackware.needs_of(one.ware)
    assert not row.misnamed
    assert EDITED in listed
    with open_system(str(dunlin)) as system:
        gauge = system.present(["tidegauge"])[0]
        assert set(listed) == set(system.database.listing(gauge))


@pytest.mark.skipif(shutil.which("bsdtar") is None, reason="bsdtar is not here to list it")
def test_another_program_lists_the_same(tmp_path: Path) -> None:
    one = ware("libbrine2")
    path = tmp_path / one.file_name
    path.write_bytes(slackware.archive(one))
    told = subprocess.run(["bsdtar", "-tf", str(path)], capture_output=True, check=True)
    names = told.stdout.decode().split()
    assert names[0] == "./"
    record = slackware.record(one, 1)
    listed = record.partition("FILE LIST:\n")[2].split()
    assert sorted(set(names) - {"install/slack-required"}) == sorted(set(listed))


HARM_TO_ARCHIVE: dict[str, tuple[Callable[[Path], Path], str]] = {
    "another's name": (
        lambda path: path.rename(path.with_name("gull-1-noarch-1.txz")), "called otherwise",
    ),
    "no label": (lambda path: path.rename(path.with_name("gull.txz")), "nothing but its name"),
    "cut off": (lambda path: written(path, path.read_bytes()[:2000]), "cut off"),
    "empty": (lambda path: written(path, b""), "it is empty"),
    "no archive": (lambda path: written(path, b"prose" * 99), "no archive of a known family"),
}  # fmt: skip


def written(path: Path, data: bytes) -> Path:
    path.write_bytes(data)
    return path


@pytest.mark.parametrize("harm", HARM_TO_ARCHIVE)
def test_archives_that_are_not_what_they_seem(dunlin: Path, tmp_path: Path, harm: str) -> None:
    one = ware("tidegauge")
    path = tmp_path / one.file_name
    path.write_bytes(slackware.archive(one))
    do, why = HARM_TO_ARCHIVE[harm]
    answer = asked(dunlin, contents, [str(do(path))])
    assert why in whys(answer) + "".join(answer.notes)


def test_an_archive_that_tells_no_needs(dunlin: Path, tmp_path: Path) -> None:
    one = ware("tidegauge")
    path = tmp_path / one.file_name
    path.write_bytes(slackware.archive(one, needs=False))
    answer = asked(dunlin, needs, [str(path)])
    assert answer.exit_status == 3
    assert "its archive does not tell it" in whys(answer)


def cached(root: Path, one: slackware.InstalledWare, data: bytes | None = None) -> Path:
    path = root / places.ARCHIVES[1:] / one.place
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_bytes(slackware.pooled(one) if data is None else data)
    return path


def test_content_by_an_archive_that_the_signed_list_names(own: Path) -> None:
    cached(own, ware("weatherglass"))
    answer = asked(own, verify, ["weatherglass"], manner=Manner(least=Evidence.SIGNED))
    assert verdicts(answer) == {SWAPPED: Verdict.ALTERED}
    assert answer.records[0].evidence is Evidence.SIGNED
    (chain,) = asked(own, provenance, ["weatherglass"]).records
    told = {link.link: link.verdict.value for link in chain.links}
    assert (told["files"], told["index entry"], told["signed index"]) == (
        "broken",
        "holds",
        "holds",
    )
    (other,) = asked(own, provenance, ["brine-data"]).records
    assert {link.link: link.verdict.value for link in other.links}["files"] == "absent"


def test_an_archive_that_is_another_vouches_for_nothing(own: Path) -> None:
    one = ware("weatherglass")
    cached(own, one, slackware.archive(one, "gzip"))
    manner = Manner(against=Against(cache=True))
    answer = asked(own, verify, ["weatherglass"], manner=manner)
    assert "not held against it" in whys(answer)
    assert not answer.records


def test_without_a_signature_an_archive_is_no_more_than_an_archive(own: Path) -> None:
    (own / LISTS / "CHECKSUMS.md5.asc").unlink()
    cached(own, ware("weatherglass"))
    manner = Manner(least=Evidence.ARCHIVE)
    answer = asked(own, verify, ["weatherglass"], manner=manner)
    assert answer.records[0].evidence is Evidence.ARCHIVE
    assert not asked(own, verify, ["weatherglass"], manner=Manner(least=Evidence.SIGNED)).records


def test_a_signature_beside_an_archive(own: Path, tmp_path: Path) -> None:
    one = ware("weatherglass")
    path = tmp_path / one.file_name
    path.write_bytes(slackware.pooled(one))
    path.with_name(f"{path.name}.asc").write_bytes(detached(slackware.pooled(one)))
    (row,) = asked(own, provenance, [str(path)]).records
    assert row.signature is SignatureVerdict.GOOD
    path.with_name(f"{path.name}.asc").write_bytes(detached(b"another"))
    (row,) = asked(own, provenance, [str(path)]).records
    assert row.signature is SignatureVerdict.BAD


# -- lists ----------------------------------------------------------------------------------


def mirror(root: Path) -> Any:
    return asked(root, repos).records[0]


def test_the_lists_and_their_signature(dunlin: Path) -> None:
    row = mirror(dunlin)
    assert (row.identity, row.signature, row.matches) == ("coast64", SignatureVerdict.GOOD, True)
    assert row.packages == len(offered())
    assert row.must_be_signed
    assert row.configured_in == f"{places.MIRRORS}:2"
    scripts = asked(dunlin, repos).records[1]
    assert (scripts.identity, scripts.packages) == ("build-scripts", len(build_scripts()))


@pytest.mark.skipif(shutil.which("gpgv") is None, reason="gpgv is not here to judge")
def test_another_program_agrees_on_the_signature(dunlin: Path, tmp_path: Path) -> None:
    ring = tmp_path / "ring.gpg"
    ring.write_bytes(bytes(read_keys(public_key(), "")[0].material))
    sums = str(dunlin / LISTS / "CHECKSUMS.md5")
    command = ["gpgv", "--keyring", str(ring), f"{sums}.asc", sums]
    done = subprocess.run(command, capture_output=True, check=False)
    assert done.returncode == 0, done.stderr.decode()


@pytest.mark.skipif(shutil.which("md5sum") is None, reason="md5sum is not here to compare")
def test_another_program_agrees_on_the_digests(tmp_path: Path) -> None:
    for path, content in repository().items():
        (tmp_path / path).parent.mkdir(parents=True, exist_ok=True)
        (tmp_path / path).write_bytes(content)
    command = ["md5sum", "--check", "--quiet", "CHECKSUMS.md5"]
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, check=False)
    assert done.returncode == 0, done.stdout.decode()


def test_a_changed_list_is_not_believed(own: Path) -> None:
    path = own / LISTS / "PACKAGES.TXT"
    path.write_text(path.read_text().replace("jetty-1.1.0-x86_64-3", "jetty-1.1.0-x86_64-9"))
    assert mirror(own).matches is False
    answer = asked(own, behind)
    assert "it is not what the list of digests says" in whys(answer)
    assert "what coast64 offers" in whys(answer)


def test_a_list_that_was_put_together_here(own: Path) -> None:
    path = own / LISTS / "PACKAGES.TXT"
    _, mark, rest = path.read_text().partition("PACKAGE NAME:")
    path.write_text(f"{mark}{rest}")
    row = mirror(own)
    assert row.matches is None
    assert "put together here" in row.remarks[0]
    assert asked(own, behind).records
    # Its archives' digests are signed, but the list is not what is signed itself.
    cached(own, ware("weatherglass"))
    answer = asked(own, verify, ["weatherglass"], manner=Manner(least=Evidence.ARCHIVE))
    assert answer.records[0].evidence is Evidence.ARCHIVE


ODD: dict[str, Callable[[str], None]] = {
    "a pipe": os.mkfifo, "a link to itself": lambda path: os.symlink(os.path.basename(path), path),
}  # fmt: skip


@pytest.mark.parametrize("odd", ODD)
@pytest.mark.parametrize(
    "name",
    [f"{LISTS}/PACKAGES.TXT", f"{LISTS}/CHECKSUMS.md5", f"{LISTS}/CHECKSUMS.md5.asc",
     f"{LISTS}/ChangeLog.txt", f"{LISTS}/slackware64/MANIFEST.bz2", places.LEFT_OUT[1:],
     places.MIRRORS[1:], f"{places.RING[1:]}/pubring.gpg",
     f"{places.BUILD_SCRIPTS[1:]}/shore/marram/marram.info",
     f"{RECORDS}/tidegauge-2.1-x86_64-3", f"{places.SCRIPTS[0][1:]}/libbrine2-2.1.4-x86_64-3"],
)  # fmt: skip
def test_what_is_no_plain_file_is_never_opened(own: Path, name: str, odd: str) -> None:
    (own / name).unlink()
    ODD[odd](str(own / name))
    for question in (
        repos,
        behind,
        verify,
        lambda s: owner(s, [REDIRECTED]),
    ):
        assert asked(own, question).exit_status in (0, 1, 3)


HARM_TO_SIGNATURE: dict[str, tuple[Callable[[Path], object], SignatureVerdict]] = {
    "changed": (lambda path: path.write_bytes(path.read_bytes() + b"\n"), SignatureVerdict.BAD),
    "stranger": (
        lambda path: path.with_name("CHECKSUMS.md5.asc").write_bytes(
            detached(path.read_bytes(), STRANGER)), SignatureVerdict.UNKNOWN_KEY,
    ),
    "no ring": (
        lambda path: (path.parents[3] / places.RING[1:] / "pubring.gpg").unlink(),
        SignatureVerdict.UNKNOWN_KEY,
    ),
    "none": (lambda path: path.with_name("CHECKSUMS.md5.asc").unlink(), SignatureVerdict.NONE),
}  # fmt: skip


@pytest.mark.parametrize("harm", HARM_TO_SIGNATURE)
def test_signatures_of_the_lists(own: Path, harm: str) -> None:
    do, verdict = HARM_TO_SIGNATURE[harm]
    do(own / LISTS / "CHECKSUMS.md5")
    assert mirror(own).signature is verdict


# -- what the family does not record --------------------------------------------------------


def test_needs_are_told_by_lists_of_the_same_build(own: Path) -> None:
    answer = asked(own, needs, ["tidegauge"])
    assert {row.name for row in answer.records} == {
        "libsaltc6",
        "libbrine2",
        "libfathom1",
        "gullwing",
    }
    assert answer.exit_status == 0
    # Seaholly was built here, of the version that a script still makes.
    assert asked(own, needs, ["seaholly"]).exit_status == 0
    untold = asked(own, needs, ["spindrift"])
    assert (untold.records, untold.exit_status) == ([], 3)
    assert "lists tell it of" in whys(untold)
    shutil.rmtree(own / LISTS)
    shutil.rmtree(own / places.BUILD_SCRIPTS[1:])
    untold = asked(own, needed_by, ["libbrine2"])
    assert (untold.records, untold.exit_status) == ([], 3)
    assert "no list here tells it" in whys(untold)


SILENT: dict[str, Callable[[System], Answer[Any, Any]]] = {
    "chosen": lambda s: census(s, Filter(reason=Reason.CHOSEN)),
    "because": lambda s: because(s, ["libkelp1"]),
    "dossier": lambda s: dossier(s, ["tidegauge"]),
    "whatif": lambda s: whatif(s, [], ["marram"], []),
}


@pytest.mark.parametrize("question", SILENT)
def test_reasons_are_not_on_record(dunlin: Path, question: str) -> None:
    with open_system(str(dunlin)) as system:
        answer = SILENT[question](system)
    assert "does not record whether a person asked for a package" in whys(answer)
    assert answer.exit_status in (1, 3)
    for row in answer.records:
        assert getattr(row, "status", None) is None
        assert getattr(row, "chosen", None) is None
    if question == "whatif":
        assert answer.summary.leftover is answer.summary.leftover_size is None


def test_what_is_another_version_and_what_is_newer(dunlin: Path) -> None:
    answer = asked(dunlin, behind)
    found = {row.name: row.status for row in answer.records}
    different = {"chartroom", "coast-certificates", "harbourlog", "libsluice3"}
    assert {name for name, one in found.items() if one is UpdateStatus.DIFFERENT} == different
    # Of these the list of changes has both builds.
    tables = ("tidetables", "tidetables-calc", "whelk", "libwhelk2")
    assert {found[name] for name in tables} == {UpdateStatus.BEHIND}
    # Of these another build of the same version mends a hole.
    assert {row.name for row in answer.records if row.security} == {
        "jetty", "jetty-client", "libmussel5", "quayside",
    }  # fmt: skip
    assert "no order of their own" in whys(answer)
    assert answer.exit_status == 1


def resigned(folder: Path, name: str, change: Callable[[str], str]) -> None:
    """Change a list of the office, with its digest and the office's signature, made anew."""
    path, sums = folder / name, folder / "CHECKSUMS.md5"
    old = hashlib.md5(path.read_bytes(), usedforsecurity=False).hexdigest()
    path.write_text(change(path.read_text()))
    new = hashlib.md5(path.read_bytes(), usedforsecurity=False).hexdigest()
    sums.write_text(sums.read_text().replace(old, new))
    sums.with_name("CHECKSUMS.md5.asc").write_bytes(detached.__wrapped__(sums.read_bytes()))


def test_a_hole_that_another_version_mends_is_told(own: Path) -> None:
    resigned(own / LISTS, "ChangeLog.txt", lambda text: text + "\n".join([
        "+---+", "Mon Jan 12 08:30:00 UTC 2026", "slackware64/x/chartroom-5.4.2-x86_64-1.txz:  Upgraded.",
        "  Charts. (CVE-2026-99999)", "  (* Security fix *)", "",
    ]))  # fmt: skip
    row = next(row for row in asked(own, behind).records if row.name == "chartroom")
    assert (row.status, row.security) == (UpdateStatus.DIFFERENT, True)
    assert row.advisories[0].references[0].identity == "CVE-2026-99999"


def test_what_has_to_be_built(own: Path) -> None:
    (row,) = asked(own, dossier, ["wrackline"], scope=Scope.AVAILABLE).records
    assert (row.version, row.architecture, row.repository) == ("0.3", "source", "build-scripts")
    assert [need.requirement for need in row.needs] == ["dulse", "libkelp1", "seaholly"]
    # A list of all scripts takes the place of their folders.
    top = own / places.BUILD_SCRIPTS[1:]
    shutil.rmtree(top)
    top.mkdir()
    (top / places.SCRIPT_LIST).write_text(slackware.script_list(build_scripts()))
    (again,) = asked(own, dossier, ["wrackline"], scope=Scope.AVAILABLE).records
    assert again.summary == "Draws where the tide left things"
    assert [need.requirement for need in again.needs] == ["dulse", "libkelp1", "seaholly"]


def test_a_file_of_nobodys(dunlin: Path) -> None:
    answer = asked(dunlin, strays)
    assert [row.path for row in answer.records if row.rank.value == "executable"] == [STRAY]


# -- fetching -------------------------------------------------------------------------------


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    for path, content in repository().items():
        real = tmp_path / "served/coast64" / path
        real.parent.mkdir(parents=True, exist_ok=True)
        real.write_bytes(content)
    (tmp_path / "served/shore").mkdir()
    (tmp_path / "served/shore" / places.SCRIPT_LIST).write_text(
        slackware.script_list(build_scripts())
    )
    with serving(tmp_path / "served") as running:
        yield running


def pointed(root: Path, server: Server) -> Path:
    (root / places.MIRRORS[1:]).write_text(f"{server.address}/coast64/\n")
    return root


def test_lists_are_refreshed_and_count_when_asked(
    own: Path, server: Server, tmp_path: Path
) -> None:
    shutil.rmtree(own / LISTS)
    options = RepositoryOptions(cache=str(tmp_path / "cache"), refreshed=True, paths=True)
    answer = asked(pointed(own, server), refresh, options=options)
    told = [
        (row.outcome.value, row.signature) for row in answer.records if row.identity == "coast64"
    ]
    assert told == [("fetched", SignatureVerdict.GOOD)]
    assert asked(own, owner, ["kittiwake"], scope=Scope.ANY, options=options).records[0].owners
    assert len(asked(own, behind, options=options).records) == 14
    assert not (own / LISTS).exists()
    manner = Manner(least=Evidence.SIGNED, against=Against(fetch=True))
    answer = asked(own, verify, ["weatherglass"], manner=manner, options=options)
    assert verdicts(answer) == {SWAPPED: Verdict.ALTERED}


@pytest.mark.parametrize(
    ("now", "older", "untold"),
    [
        ("5.4.2rc1-1", 0, 1),
        ("5.4.2-1", 0, 0),
        ("5.4.1-1", 0, 1),
        ("6.0-1", 0, 1),
        ("5.4.2-0", 1, 0),
    ],
)
def test_a_list_goes_back_only_where_that_is_sure(
    own: Path, server: Server, tmp_path: Path, now: str, older: int, untold: int
) -> None:
    options = RepositoryOptions(cache=str(tmp_path / "cache"))
    asked(pointed(own, server), refresh, ["coast64"], options=options)
    version, _, build = now.partition("-")
    label = f"chartroom-{version}-x86_64-{build}"
    resigned(
        server.folder / "coast64",
        "PACKAGES.TXT",
        lambda text: text.replace("chartroom-5.4.2-x86_64-1", label),
    )
    answer = asked(own, refresh, ["coast64"], options=options)
    (row,) = answer.records
    assert (row.outcome.value, len(row.older)) == ("fetched", older)
    assert sum("no order of their own" in words for words in row.remarks) == untold
    assert answer.bad_news == bool(older)


def test_another_version_is_called_another(own: Path, tmp_path: Path) -> None:
    """Of what is there and what would come nothing tells which is newer: so nobody says it."""
    other = ware("foghorn", "1.7-1")
    archive = tmp_path / other.file_name
    archive.write_bytes(slackware.archive(other))
    (row,) = asked(own, dossier, [str(archive)]).records
    assert [one.order for one in row.installed_here] == ["another"]
    answer = asked(own, whatif, add=["chartroom"])
    assert [(r.name, r.action) for r in answer.records if r.before] == [
        ("chartroom", PlanAction.CHANGE)
    ]


@pytest.mark.parametrize("harm", ["changed", "unsigned", "list"])
def test_lists_that_are_refused(own: Path, server: Server, tmp_path: Path, harm: str) -> None:
    path = "coast64/CHECKSUMS.md5"
    data = server.folder.joinpath(path).read_bytes()
    match harm:
        case "changed":
            server.manners.replaced[path] = data + b"\n"
        case "unsigned":
            (server.folder / f"{path}.asc").unlink()
        case _:
            server.manners.replaced["coast64/PACKAGES.TXT"] = b"PACKAGE NAME: x-1-y-1.txz\n"
    options = RepositoryOptions(cache=str(tmp_path / "cache"))
    row = asked(pointed(own, server), refresh, ["coast64"], options=options).records[0]
    assert row.outcome.value in ("refused", "failed")
    assert not list((tmp_path / "cache").rglob("PACKAGES.TXT"))


def test_another_repository_is_not_held_against_the_root_s_own_copy(
    own: Path, server: Server, tmp_path: Path
) -> None:
    """What the auditor adds may be older than what the system fetched from elsewhere."""
    sums = server.folder / "coast64/CHECKSUMS.md5"
    (own / LISTS / "CHECKSUMS.md5.asc").write_bytes(
        detached((own / LISTS / "CHECKSUMS.md5").read_bytes())
    )
    assert sums.with_name("CHECKSUMS.md5.asc").exists()
    later = datetime.now(UTC) + timedelta(days=1)
    options = RepositoryOptions(
        cache=str(tmp_path / "cache"), addresses=(f"{server.address}/coast64 other",), now=later
    )
    rows = {row.identity: row for row in asked(own, refresh, ["other"], options=options).records}
    assert rows["other"].outcome.value == "fetched"


def test_scripts_of_the_shore_by_their_address(own: Path, server: Server, tmp_path: Path) -> None:
    shutil.rmtree(own / places.BUILD_SCRIPTS[1:])
    options = RepositoryOptions(
        cache=str(tmp_path / "cache"), addresses=(f"{server.address}/shore",)
    )
    answer = asked(own, dossier, ["wrackline"], scope=Scope.AVAILABLE, options=options)
    assert [row.repository for row in answer.records] == ["shore"]


def test_the_station_is_the_same_at_every_build(dunlin: Path, tmp_path: Path) -> None:
    other = build_dunlin(tmp_path / "other")
    for path in sorted(dunlin.rglob("*")):
        if path.is_file() and not path.is_symlink() and path.suffix != ".asc":
            assert path.read_bytes() == (other / path.relative_to(dunlin)).read_bytes()


def test_a_change_of_a_whole_directory_is_of_all_in_it(own: Path) -> None:
    resigned(own / LISTS, "ChangeLog.txt", lambda text: "\n".join([
        "Mon Jan 12 08:30:00 UTC 2026", "slackware64/x/*:  Upgraded.", "  (* Security fix *)", "+---+",
        text,
    ]))  # fmt: skip
    rows = {row.name: row for row in asked(own, behind).records}
    assert rows["chartroom"].security
    assert not rows["libsluice3"].security
