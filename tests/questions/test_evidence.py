"""What verdicts rest on: archives, signatures, earlier results; and records that somebody changed."""

import io
import json
import os
import shutil
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest

from filigree.demo import deb, rpm
from filigree.demo.curlew import DOCTORED as FORGED
from filigree.demo.curlew import build_curlew
from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, Good
from filigree.demo.ground import lay_ground
from filigree.demo.heron import DOCTORED, VANISHED
from filigree.demo.offering import write_repositories
from filigree.demo.repository import STRANGER, public_key
from filigree.demo.rpm_wares import shipped
from filigree.demo.server import Server, serving
from filigree.demo.world import WARES, Ware
from filigree.families.deb import places
from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.model.files import Aspect, Evidence, Seen, Sort, Verdict
from filigree.questions.commands.verify import verify
from filigree.questions.evidence.references import Against, against_of
from filigree.questions.finding.earlier_results import read_earlier
from filigree.questions.finding.unknown_programs import report_unknown_programs
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.verifying.verdicts import FileVerdict, Manner
from filigree.system import open_system
from tests.conftest import Run
from tests.making import DebRoot

EVERY = frozenset(Verdict)
GOODS = (
    Good("/usr", 0o755), Good("/usr/bin", 0o755), Good("/usr/share", 0o755),
    Good("/usr/bin/cup", 0o755, b"#!/bin/dsh\nexit 0\n"),
    Good("/usr/bin/mug", 0o777, target="cup"),
    Good("/usr/share/cup.txt", 0o644, b"It holds a little.\n"),
    Good("/etc", 0o755), Good("/etc/cup.conf", 0o640, b"size = small\n", config=True),
)  # fmt: skip
CUP = deb.Installed(
    Ware("cup", "1.0-1", "misc", "Holds a little"), tuple(sorted(GOODS, key=lambda g: g.path))
)


class Station:
    """A small root with one package, and its archive outside of it."""

    def __init__(self, folder: Path) -> None:
        self.disk = Disk(folder / "root")
        lay_ground(self.disk, "cup")
        self.disk.ship(CUP.goods)
        deb.write_database(self.disk, [CUP])
        self.archive = folder / "cup_1.0-1_amd64.deb"
        self.archive.write_bytes(deb.archive(CUP, "gzip"))

    def verify(self, against: Against | None = None, **manner: object) -> Answer[FileVerdict, Any]:
        held = against or Against(paths=(str(self.archive),))
        with open_system(str(self.disk.folder)) as system:
            return verify(system, verdicts=EVERY, manner=Manner(held, **manner))  # type: ignore[arg-type]

    def rows(self, against: Against | None = None, **manner: object) -> dict[str, FileVerdict]:
        return {row.path: row for row in self.verify(against, **manner).records}

    def record(self, ending: str, old: str, new: str) -> None:
        path = f"{places.INFO}/cup.{ending}"
        text = self.disk.real(path).read_text()
        assert old in text
        self.disk.file(path, text.replace(old, new))


@pytest.fixture
def station(tmp_path: Path) -> Station:
    return Station(tmp_path)


def test_what_is_as_shipped_is_intact_in_all_that_an_archive_tells(station: Station) -> None:
    answer = station.verify()
    assert {row.verdict for row in answer.records} == {Verdict.INTACT}
    assert {row.evidence for row in answer.records} == {Evidence.ARCHIVE}
    assert {"mode", "owner", "group", "size", "link-target"} <= set(answer.summary.compared)
    assert answer.exit_status == 0


PROGRAM, LINK, PAPER, SETTING = (
    "/usr/bin/cup",
    "/usr/bin/mug",
    "/usr/share/cup.txt",
    "/etc/cup.conf",
)
DEEDS: dict[str, tuple[Callable[[Disk], object], str, Verdict, Aspect]] = {
    "mode": (lambda d: d.real(PROGRAM).chmod(0o4755), PROGRAM, Verdict.ALTERED, Aspect.MODE),
    "folder": (lambda d: d.real("/usr/bin").chmod(0o777), "/usr/bin", Verdict.ALTERED, Aspect.MODE),
    "link": (lambda d: d.link(LINK, "/tmp/mug"), LINK, Verdict.ALTERED, Aspect.LINK_TARGET),
    "content": (
        lambda d: d.file(PROGRAM, b"#!/bin/dsh\nexit 1\n", 0o755), PROGRAM, Verdict.ALTERED,
        Aspect.CONTENT,
    ),
    "size": (lambda d: d.file(PROGRAM, b"", 0o755), PROGRAM, Verdict.ALTERED, Aspect.SIZE),
    "gone": (lambda d: d.remove(PAPER), PAPER, Verdict.MISSING, Aspect.PRESENCE),
    "setting": (
        lambda d: d.file(SETTING, b"size = large\n", 0o640), SETTING, Verdict.EDITED, Aspect.CONTENT,
    ),
    "setting's mode": (lambda d: d.real(SETTING).chmod(0o666), SETTING, Verdict.ALTERED, Aspect.MODE),
}  # fmt: skip


@pytest.mark.parametrize("deed", DEEDS)
def test_every_difference_from_the_archive_is_seen(station: Station, deed: str) -> None:
    do, path, verdict, aspect = DEEDS[deed]
    do(station.disk)
    rows = station.rows()
    assert rows[path].verdict is verdict
    assert aspect in {one.aspect for one in rows[path].differences}
    assert {p for p, row in rows.items() if row.verdict is not Verdict.INTACT} == {path}


def taken_over(folder: Path, replaces: str) -> tuple[Station, Path]:
    """A station where another package has its own file at a place that cup was shipped with."""
    station = Station(folder)
    jug = deb.Installed(
        Ware("jug", "1.0-1", "misc", "Holds more", replaces=replaces),
        (
            *(good for good in CUP.goods if good.path in ("/usr", "/usr/bin")),
            Good(PROGRAM, 0o755, b"#!/bin/dsh\nexit 2\n"),
        ),
    )
    left = replace(CUP, goods=tuple(good for good in CUP.goods if good.path != PROGRAM))
    station.disk.ship(jug.goods)
    deb.write_database(station.disk, [left, jug])
    archive = folder / "jug_1.0-1_amd64.deb"
    archive.write_bytes(deb.archive(jug, "gzip"))
    return station, archive


def test_a_file_whose_place_another_package_takes_is_no_longer_its_own(tmp_path: Path) -> None:
    """Policy of the family: who replaces a package may overwrite its files. It is the records' word."""
    station, jug = taken_over(tmp_path, "cup")
    both = Against(paths=(str(station.archive), str(jug)))
    found = {(row.package, row.path): row for row in station.verify(both).records}
    ours, theirs = found["cup", PROGRAM], found["jug", PROGRAM]
    assert (ours.verdict, ours.evidence) == (Verdict.EXCUSED, Evidence.RECORD)
    assert (ours.policy, ours.policy_file) == (Sort.REPLACEMENT, f"{places.INFO}/jug.md5sums")
    assert ours.reason == ("by the records the file of jug takes its place; it is a file of jug")
    assert (theirs.verdict, theirs.evidence) == (Verdict.INTACT, Evidence.ARCHIVE)


@pytest.mark.parametrize("replaces", ["", "mug", "cup (<< 1.0-1)"])
def test_who_does_not_replace_it_takes_no_place(tmp_path: Path, replaces: str) -> None:
    station, jug = taken_over(tmp_path, replaces)
    both = Against(paths=(str(station.archive), str(jug)))
    found = {(row.package, row.path): row.verdict for row in station.verify(both).records}
    assert found["cup", PROGRAM] is Verdict.DOCTORED


def test_a_place_taken_by_the_records_alone_is_never_clean(tmp_path: Path) -> None:
    """Whoever owns the records can say so of any package: then its own archive does not bear it out."""
    station, jug = taken_over(tmp_path, "cup")
    jug.write_bytes(
        deb.archive(
            deb.Installed(Ware("jug", "1.0-1", "misc", "Holds more"), CUP.goods[:1]), "gzip"
        )
    )
    both = Against(paths=(str(station.archive), str(jug)))
    found = {(row.package, row.path): row.verdict for row in station.verify(both).records}
    assert found["jug", PROGRAM] is Verdict.DOCTORED
    station.disk.remove(PROGRAM)
    alone = {(row.package, row.path): row for row in station.verify().records}
    assert alone["cup", PROGRAM].verdict is Verdict.EXCUSED
    assert alone["cup", PROGRAM].evidence is Evidence.RECORD
    assert alone["jug", PROGRAM].verdict is Verdict.MISSING


@pytest.mark.skipif(os.geteuid() != 0, reason="only root can give files away")
def test_an_owner_that_the_record_does_not_tell(station: Station) -> None:
    os.chown(station.disk.real("/usr/bin/cup"), 950, 950)
    row = station.rows()["/usr/bin/cup"]
    assert row.verdict is Verdict.ALTERED
    assert {one.aspect: one.found for one in row.differences} == {
        Aspect.OWNER: "tide", Aspect.GROUP: "tide",
    }  # fmt: skip


# -- doctored records -----------------------------------------------------------------------


def test_a_digest_that_was_rewritten(station: Station) -> None:
    other = b"#!/bin/dsh\nexit 9\n"
    good = replace(CUP.goods[4], content=other)
    assert good.path == "/usr/bin/cup"
    station.disk.file(good.path, other, 0o755)
    station.record("md5sums", CUP.goods[4].md5, good.md5)
    alone = station.rows(Against(cache=True))
    assert alone["/usr/bin/cup"].verdict is Verdict.INTACT
    assert alone["/usr/bin/cup"].evidence is Evidence.RECORD
    answer = station.verify()
    row = next(row for row in answer.records if row.path == "/usr/bin/cup")
    assert row.verdict is Verdict.DOCTORED
    assert row.reason == "the local record of this file was changed"
    told = {(one.aspect, one.expected, one.found) for one in row.differences}
    assert (Aspect.RECORD, f"content md5:{CUP.goods[4].md5}", f"content md5:{good.md5}") in told
    assert answer.exit_status == 1
    assert next(iter(answer.summary.verdicts)) == "doctored"


def test_a_record_that_was_changed_while_the_file_was_not(station: Station) -> None:
    station.record("md5sums", CUP.goods[4].md5, "0" * 32)
    assert station.rows()["/usr/bin/cup"].verdict is Verdict.DOCTORED


def test_a_path_that_was_taken_off_the_record(station: Station) -> None:
    station.record("list", "/usr/share/cup.txt\n", "")
    station.record("md5sums", f"{CUP.goods[-1].md5}  usr/share/cup.txt\n", "")
    station.disk.file("/usr/share/cup.txt", "It holds a lot.\n")
    row = station.rows()["/usr/share/cup.txt"]
    assert row.verdict is Verdict.DOCTORED
    assert {one.aspect for one in row.differences} >= {Aspect.RECORD, Aspect.SIZE}


def test_a_path_that_was_put_on_the_record(station: Station) -> None:
    content = b"of nobody's\n"
    station.disk.file("/usr/bin/extra", content, 0o755)
    station.record("list", "/usr/bin/cup\n", "/usr/bin/cup\n/usr/bin/extra\n")
    row = station.rows()["/usr/bin/extra"]
    assert row.verdict is Verdict.DOCTORED
    assert row.differences[0].expected == "nothing"


def test_of_a_path_that_an_archive_holds_twice_the_last_counts(station: Station) -> None:
    again = Good("./usr/share/cup.txt", 0o644, b"It holds a little.\n")
    other = replace(again, content=b"It held a little once.\n")
    station.archive.write_bytes(deb.archive(CUP, "gzip", [other, again]))
    assert {row.verdict for row in station.rows().values()} == {Verdict.INTACT}
    station.archive.write_bytes(deb.archive(CUP, "gzip", [again, other]))
    # It is not what the archive's own list says: that is a gap, and what is unpacked counts.
    answer = station.verify()
    assert {row.path for row in answer.records if row.verdict is not Verdict.INTACT} == {PAPER}
    assert answer.gaps


# -- which archives count -------------------------------------------------------------------


def test_an_archive_of_another_version_vouches_for_nothing(station: Station) -> None:
    newer = replace(CUP, ware=replace(CUP.ware, version="1.1-1"))
    # It is called as the one that is installed, and is not.
    station.archive.write_bytes(deb.archive(newer, "gzip"))
    folder = Against(paths=(str(station.archive.parent),))
    answer = station.verify(folder)
    assert {row.evidence for row in answer.records} == {Evidence.RECORD}
    assert any("it is not of cup:amd64=1.0-1" in gap.why for gap in answer.gaps)


@pytest.mark.parametrize("name", ["anything", "other_2.0_arm64.deb"])
def test_an_archive_that_is_named_counts_whatever_it_is_called(station: Station, name: str) -> None:
    path = station.archive.rename(station.archive.with_name(name))
    answer = station.verify(Against(paths=(str(path),)))
    assert {row.evidence for row in answer.records} == {Evidence.ARCHIVE}


def test_an_archive_as_a_subject_is_what_its_package_is_held_against(station: Station) -> None:
    station.disk.real("/usr/bin/cup").chmod(0o4755)
    with open_system(str(station.disk.folder)) as system:
        answer = verify(system, [str(station.archive)])
    assert [row.path for row in answer.records] == ["/usr/bin/cup"]


@pytest.mark.parametrize("harm", ["cut", "empty", "text", "gone", "bit"])
def test_a_damaged_archive_is_a_gap_and_never_an_alarm(station: Station, harm: str) -> None:
    data = station.archive.read_bytes()
    folder = Against(paths=(str(station.archive.parent),))
    content = {"cut": data[: len(data) // 2], "empty": b"", "text": b"what is this?\n" * 100}
    if harm == "gone":
        station.archive.unlink()
        station.archive.symlink_to("/nowhere/at/all.deb")
    else:
        bit = data[:-90] + bytes([data[-90] ^ 1]) + data[-89:]
        station.archive.write_bytes(content.get(harm, bit))
    answer = station.verify(folder)
    assert answer.gaps
    assert not {Verdict.ALTERED, Verdict.DOCTORED} & {row.verdict for row in answer.records} or harm in (
        "cut", "bit",
    )  # fmt: skip
    assert not any(row.evidence is Evidence.SIGNED for row in answer.records)


def test_what_lies_below_the_root_is_no_better_than_the_record(station: Station) -> None:
    place = f"{places.ARCHIVES}/{station.archive.name}"
    station.disk.file(place, station.archive.read_bytes())
    assert {row.evidence for row in station.rows(Against(cache=True)).values()} == {Evidence.RECORD}
    answer = station.verify(Against(cache=True), least=Evidence.ARCHIVE)
    assert not answer.records
    (gap,) = answer.gaps
    assert gap.what == "the files of cup"
    assert "it lies below the root itself" in gap.why
    assert answer.exit_status == 3


def test_without_any_archive_the_least_evidence_is_a_gap_with_the_reason(station: Station) -> None:
    answer = station.verify(Against(), least=Evidence.SIGNED)
    assert not answer.records
    assert "the record is unsigned" in answer.gaps[0].why
    assert answer.summary.not_judged


@pytest.mark.parametrize("word", ["./nothing/here.deb", "/nothing", "nothing_1.0_all.deb/x.deb"])
def test_a_path_where_nothing_is_is_no_question(word: str) -> None:
    with pytest.raises(BadQuestion, match="no such archive"):
        against_of([word])


def test_what_can_be_named(tmp_path: Path) -> None:
    found = against_of(["cache", str(tmp_path), "coast-base"])
    assert (found.cache, found.paths, found.repositories) == (
        True,
        (str(tmp_path),),
        ("coast-base",),
    )


# -- the stations ---------------------------------------------------------------------------


def rows_of(answer: Answer[FileVerdict, Any], *verdicts: Verdict) -> set[str]:
    return {row.path for row in answer.records if row.verdict in verdicts}


def test_heron_looks_clean_where_its_record_was_changed(heron: Path) -> None:
    with open_system(str(heron)) as system:
        assert verify(system, ["siltmeter"]).exit_status == 0
        answer = verify(system, ["siltmeter"], manner=Manner(least=Evidence.SIGNED))
    (row,) = answer.records
    assert (row.path, row.verdict, row.evidence) == (DOCTORED, Verdict.DOCTORED, Evidence.SIGNED)


def test_everything_at_heron_that_traces_to_a_key(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = verify(system, verdicts=EVERY, manner=Manner(least=Evidence.SIGNED))
        held = set(answer.summary.paths_by_evidence)
    assert rows_of(answer, Verdict.DOCTORED) == {DOCTORED}
    # Policy goes on counting: overrides, diversions, papers that are left out.
    assert rows_of(answer, Verdict.ALTERED) == {"/usr/sbin/lockgate"}
    assert rows_of(answer, Verdict.EXCUSED)
    assert held == {"signed", "record"}
    lacking = " ".join(gap.what for gap in answer.gaps)
    assert "brine-data" in lacking
    assert VANISHED not in lacking


def test_a_cached_archive_that_was_changed_vouches_for_nothing(own_heron: Path) -> None:
    folder = own_heron / places.ARCHIVES.lstrip("/")
    (path,) = folder.glob("siltmeter_*.deb")
    data = path.read_bytes()
    path.write_bytes(data + b"\n")
    with open_system(str(own_heron)) as system:
        answer = verify(system, ["siltmeter"], manner=Manner(least=Evidence.SIGNED))
    assert not answer.records
    assert any(
        "its digest is sha256:" in gap.why and "tells sha256:" in gap.why for gap in answer.gaps
    )
    assert answer.exit_status == 3


def test_records_at_curlew_bear_their_signatures(curlew: Path) -> None:
    with open_system(str(curlew)) as system:
        answer = verify(system, verdicts=EVERY)
        place = system.database.place_of(system.packages[0])
    assert answer.summary.record_signatures == {"bad": 1, "good": 64}
    (doctored,) = (row for row in answer.records if row.verdict is Verdict.DOCTORED)
    assert (doctored.package, doctored.path) == ("lockgate", place)
    assert doctored.reason == "the local record of this package was changed"
    judged = {row.path: row for row in answer.records}
    # The file is what the changed record says: only its evidence tells.
    assert (judged[FORGED].verdict, judged[FORGED].evidence) == (Verdict.INTACT, Evidence.RECORD)
    assert judged["/usr/bin/siltmeter"].evidence is Evidence.SIGNED


def test_signed_evidence_at_curlew_leaves_the_changed_record_out(curlew: Path) -> None:
    with open_system(str(curlew)) as system:
        answer = verify(system, ["lockgate"], verdicts=EVERY, manner=Manner(least=Evidence.SIGNED))
    assert {row.verdict for row in answer.records} == {Verdict.DOCTORED}
    assert "the record is not what its digest" in answer.gaps[0].why


def test_a_signed_record_goes_before_an_archive_that_is_not(curlew: Path, tmp_path: Path) -> None:
    ware = next(ware for ware in WARES if ware.name == "spindrift")  # offered by nobody
    other = replace(shipped(ware), goods=tuple(
        replace(good, mode=0o4755) if good.path == "/usr/bin/spindrift" else good
        for good in shipped(ware).goods
    ))  # fmt: skip
    for name, one, gaps in (("same", shipped(ware), 0), ("other", other, 1)):
        path = tmp_path / f"{name}.rpm"
        path.write_bytes(rpm.archive(one, sign=None))
        with open_system(str(curlew)) as system:
            answer = verify(system, [str(path)])
        assert answer.records == []
        assert len(answer.gaps) == gaps


def test_the_auditors_keys_take_the_place_of_the_roots(curlew: Path, tmp_path: Path) -> None:
    keys = tmp_path / "mine.asc"
    keys.write_bytes(public_key(STRANGER))
    with open_system(str(curlew)) as system:
        options = RepositoryOptions(keyring=(str(keys),))
        manner = Manner(least=Evidence.SIGNED)
        answer = verify(system, ["siltmeter"], manner=manner, options=options)
    assert answer.summary.keys_of == "auditor"
    assert answer.summary.record_signatures == {"unknown key": 1}
    assert not answer.records
    assert "only the root holds it, in gpg-pubkey-" in answer.gaps[0].why


# -- fetching -------------------------------------------------------------------------------


@pytest.fixture
def server(tmp_path: Path) -> Iterator[Server]:
    with serving(write_repositories(tmp_path / "offered")) as running:
        yield running


def fetched(heron: Path, server: Server, cache: Path, *subjects: str) -> Answer[FileVerdict, Any]:
    said: list[str] = []
    address = f"{server.address}/coast saltmarsh main"
    keys = str(heron / "usr/share/keyrings")
    with open_system(str(heron)) as system:
        return verify(
            system, subjects, EVERY,
            manner=Manner(Against(fetch=True, announce=said.append), Evidence.SIGNED),
            options=RepositoryOptions(cache=str(cache), addresses=(address,), keyring=(keys,)),
        )  # fmt: skip


def test_what_is_missing_is_fetched_and_held_against_its_digest(
    heron: Path, server: Server, tmp_path: Path
) -> None:
    answer = fetched(heron, server, tmp_path / "cache", "tidegauge", "brine-data")
    assert answer.summary.fetched == 2
    assert "/usr/bin/tidegauge" in rows_of(answer, Verdict.ALTERED)
    assert {row.evidence for row in answer.records} == {Evidence.SIGNED, Evidence.RECORD}
    asked = len(server.asked)
    again = fetched(heron, server, tmp_path / "cache", "tidegauge", "brine-data")
    assert again.summary.fetched == 0
    assert not any(one.path.endswith(".deb") for one in server.asked[asked:])


def test_a_server_that_sends_something_else(heron: Path, server: Server, tmp_path: Path) -> None:
    path = next(p for p in server.folder.rglob("tidegauge_2.1-3_amd64.deb"))
    server.manners.replaced[str(path.relative_to(server.folder))] = path.read_bytes()[:-1] + b"?"
    answer = fetched(heron, server, tmp_path / "cache", "tidegauge", "brine-data")
    assert not any(row.package == "tidegauge" for row in answer.records)
    assert any("could not be fetched" in gap.why for gap in answer.gaps)
    assert any(row.package == "brine-data" for row in answer.records)


def test_what_breaks_off_is_gone_on_with(heron: Path, server: Server, tmp_path: Path) -> None:
    fetched(heron, server, tmp_path / "cache", "foghorn")  # the indexes, once
    server.manners.breaks = 1
    answer = fetched(heron, server, tmp_path / "cache", "tidegauge")
    assert answer.summary.fetched == 1
    assert [one.status for one in server.asked if "tidegauge" in one.path][-1] == 206


def test_to_fetch_takes_a_place_to_keep_it(heron: Path) -> None:
    with open_system(str(heron)) as system, pytest.raises(BadQuestion, match="kept somewhere"):
        verify(system, ["tidegauge"], manner=Manner(Against(fetch=True)))


# -- earlier results, samples, sizes --------------------------------------------------------


def earlier(call: Run, root: Path, file: Path) -> None:
    done = call("verify", "--all", "--format", "json", "--root", str(root))
    file.write_text(done.stdout)


def test_only_what_changed_is_read_again(call: Run, tmp_path: Path) -> None:
    station = Station(tmp_path)
    root, file = station.disk.folder, tmp_path / "before.json"
    earlier(call, root, file)
    done = call("verify", "--since", str(file), "--format", "json", "--root", str(root))
    summary = json.loads(done.stdout)["summary"]
    assert (summary["reused"], summary["bytes_read"]) == (3, 0)
    assert "rests on that" in done.stderr
    # Somebody puts the time back: the inode's own does not go back with it.
    seen = station.disk.real("/usr/bin/cup").stat()
    station.disk.real("/usr/bin/cup").write_bytes(b"#!/bin/dsh\nexit 7\n")
    os.utime(station.disk.real("/usr/bin/cup"), ns=(seen.st_atime_ns, seen.st_mtime_ns))
    done = call("verify", "--since", str(file), "--format", "json", "--root", str(root))
    answer = json.loads(done.stdout)
    assert [row["path"] for row in answer["records"]] == ["/usr/bin/cup"]
    assert answer["summary"]["reused"] == 2


def test_a_record_that_changed_since_is_held_against_what_was_seen(
    call: Run, tmp_path: Path
) -> None:
    station = Station(tmp_path)
    file = tmp_path / "before.json"
    earlier(call, station.disk.folder, file)
    station.record("md5sums", CUP.goods[4].md5, "0" * 32)
    done = call("verify", "--since", str(file), "--root", str(station.disk.folder))
    assert done.returncode == 1
    assert "/usr/bin/cup" in done.stdout


@pytest.mark.parametrize(
    "text",
    ["", "no json\n", "[]\n", "{}\n", '{"schema": "filigree/1", "question": "census", "records": []}\n',
     '{"schema": "filigree/1", "question": "verify", "system": {"root": "/other"}, "records": []}\n',
     '{"schema": "filigree/1", "question": "verify", "system": [], "records": 7}\n', "[" * 100_000],
)  # fmt: skip
def test_what_is_no_earlier_result(heron: Path, tmp_path: Path, text: str) -> None:
    file = tmp_path / "before.json"
    file.write_text(text)
    with open_system(str(heron)) as system:
        with pytest.raises(BadQuestion):
            read_earlier(system, str(file))
        with pytest.raises(BadQuestion):
            read_earlier(system, str(tmp_path / "nowhere"))


def test_lines_that_make_no_sense_are_passed_over(heron: Path, tmp_path: Path) -> None:
    file = tmp_path / "before.json"
    head = {"schema": "filigree/1", "question": "verify", "system": {"root": str(heron)}}
    seen = {"size": 1, "modified": 2, "changed": 3, "inode": 4, "digest": "md5:00"}
    good = {"path": "/x", "seen": seen}
    odd = [
        {"path": 7, "seen": seen}, {"path": "/y", "seen": {"size": "1"}}, {"path": "/z"}, {"seen": []},
        {"path": "/w", "seen": {**seen, "size": True}},
    ]  # fmt: skip
    out = io.StringIO()
    out.write(json.dumps(head)[:-1] + ', "records": [\n')
    out.write(",\n".join(json.dumps(one) for one in (*odd, good)) + "\n{broken,\n]}\n")
    file.write_text(out.getvalue())
    with open_system(str(heron)) as system:
        assert read_earlier(system, str(file)) == {"/x": Seen(1, 2, 3, 4, "md5:00")}


def test_a_sample_is_said_to_be_one(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = verify(system, ["chartroom", "tidetables"], EVERY, manner=Manner(sample=30))
        judged, passed = len(answer.records), answer.gaps[-1]
        whole = len(verify(system, ["chartroom", "tidetables"], EVERY).records)
    assert 0 < judged < whole
    assert passed.why == "only a sample was asked for"
    assert int(passed.what.split()[0]) == whole - judged


def test_a_sample_of_everything_leaves_nothing_out(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = verify(system, ["gullwing"], manner=Manner(sample=100))
    assert answer.exit_status == 0
    assert answer.summary.sample == 100


@pytest.mark.parametrize("text", ["0", "-3", "101%", "much", "nan", ""])
def test_what_is_no_percentage(call: Run, heron: Path, text: str) -> None:
    done = call("verify", f"--sample={text}", "--root", str(heron))
    assert done.returncode == 2
    assert "is no percentage" in done.stderr


def test_a_file_of_another_size_need_not_be_read(tmp_path: Path) -> None:
    root = build_curlew(tmp_path / "curlew")
    path = root / "usr/sbin/mudflatd"
    path.write_bytes(path.read_bytes() + b"more")
    with open_system(str(root)) as system:
        (short,) = verify(system, ["mudflatd"]).records
        (read,) = verify(system, ["mudflatd"], manner=Manner(read_all=True)).records
    assert Aspect.CONTENT not in {one.aspect for one in short.differences}
    assert short.seen is None
    assert {Aspect.CONTENT, Aspect.SIZE} <= {one.aspect for one in read.differences}
    shutil.rmtree(root)


def test_times_of_the_station_are_those_that_it_was_built_with(station: Station) -> None:
    assert station.disk.real("/usr/bin/cup").stat().st_mtime == BUILT.timestamp()


@pytest.mark.parametrize(("count", "says"), [(3, ""), (4, " and 1 more")])
def test_programs_that_no_record_names_are_named_up_to_three(
    deb_root: DebRoot, count: int, says: str
) -> None:
    deb_root.package("a", files={"/usr/bin/a": b"a"})
    for number in range(count):
        deb_root.write(f"/usr/bin/x{number}", b"x", 0o755)
    with open_system(deb_root.path) as system:
        report_unknown_programs(system)
        (gap,) = (one for one in system.gaps if "no record names" in one.what)
    named = "/usr/bin/x0, /usr/bin/x1, /usr/bin/x2"
    assert gap.what == f"programs that no record names: {named}{says}"
