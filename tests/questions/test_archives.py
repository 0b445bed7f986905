"""Archives as subjects: what they are, hold and need, and what is wrong with them."""

import hashlib
import os
from pathlib import Path

import pytest

from filigree.demo import deb, rpm
from filigree.demo.archives import CUT_OFF, MISNAMED, NEWER, TRICKY, UNMET
from filigree.demo.goods import Good, goods_of
from filigree.demo.rpm_bytes import PACKERS, PayloadMember, cpio, rpm_archive, stripped_cpio
from filigree.demo.rpm_wares import shipped
from filigree.demo.world import WARES
from filigree.formats.rpm.header import Type
from filigree.model.files import Kind, Role
from filigree.model.package import State
from filigree.questions.commands.contents import Content, contents
from filigree.questions.commands.dossier import dossier
from filigree.questions.commands.needs import needed_by, needs
from filigree.questions.commands.owner import owner
from filigree.questions.commands.verify import verify
from filigree.system import System, open_system
from tests.conftest import Run
from tests.making import F, package_rows

Archives = dict[str, Path]
GAUGE = next(ware for ware in WARES if ware.name == "tidegauge")


@pytest.fixture(scope="module")
def here(curlew: Path) -> System:
    return open_system(str(curlew))


@pytest.fixture(scope="module")
def there(heron: Path) -> System:
    return open_system(str(heron))


def by_path(system: System, *paths: Path) -> dict[str, Content]:
    return {row.path: row for row in contents(system, map(str, paths)).records}


# -- what is in it --------------------------------------------------------------------------


@pytest.mark.parametrize("packer", [packer for packer in PACKERS if packer != "lz4"])
@pytest.mark.parametrize("form", ["deb", "rpm"])
def test_every_compression_of_every_format(
    tmp_path: Path, heron: Path, form: str, packer: str
) -> None:
    path = tmp_path / f"x.{form}"
    owners: dict[str, str] = {}
    if form == "deb":
        goods = goods_of(GAUGE, "/usr/lib/x86_64-linux-gnu")
        path.write_bytes(deb.archive(deb.Installed(GAUGE, goods), packer))
    else:
        goods = goods_of(GAUGE, "/usr/lib64")
        path.write_bytes(rpm.archive(shipped(GAUGE), packer))
        owners = dict(shipped(GAUGE).owners)
    system = open_system(str(heron))
    rows = by_path(system, path)
    assert system.gaps == []
    for good in goods:
        row = rows[good.path]
        assert row.owner == owners.get(good.path, "root")
        if good.content is not None:
            algorithm, _, found = (row.digest or "").partition(":")
            expected = hashlib.new(algorithm, good.content).hexdigest()
            assert (row.size, row.mode, found) == (len(good.content), f"{good.mode:04o}", expected)
        else:
            assert row.kind is (Kind.LINK if good.target else Kind.DIRECTORY)
            assert row.link_target == good.target
    settings = [row.path for row in rows.values() if row.role is Role.CONFIG]
    assert settings == [good.path for good in goods if good.config]


def test_an_archive_without_digests_gets_them_from_its_payload(
    there: System, archives: Archives
) -> None:
    rows = by_path(there, archives[NEWER])
    config = rows["/etc/tidegauge/gauge.conf"].digest or ""
    assert config.startswith("sha256:")
    assert (rows["/usr/bin/tidegauge"].digest or "").startswith("md5:")


def test_escapes_are_shown_and_not_followed(there: System, heron: Path, archives: Archives) -> None:
    before = (heron / "etc/motd").read_bytes()
    answer = contents(there, [str(archives[TRICKY])])
    escapes = {row.path: row.escape for row in answer.records if row.escape}
    assert escapes == {
        "/usr/share/charts/station.conf":
            "its path goes through /usr/share/charts, a link in the same archive",
        "/../../etc/motd": "its path climbs out of its directory",
    }  # fmt: skip
    assert (answer.summary.escapes, answer.exit_status) == (2, 1)
    assert (heron / "etc/motd").read_bytes() == before


def test_what_was_cut_off_tells_what_could_be_read(here: System, archives: Archives) -> None:
    answer = contents(here, [str(archives[CUT_OFF])])
    reached = [
        row.path for row in answer.records if not row.remarks or "not" not in row.remarks[-1]
    ]
    assert "/usr/bin/foghorn" in reached
    assert "/usr/share/man/man8/foghornd.8" not in reached
    (gap,) = [gap for gap in here.gaps if CUT_OFF in gap.what]
    assert "cut off (at byte" in gap.why


@pytest.mark.parametrize("share", [0.0, 0.001, 0.01, 0.02, 0.05, 0.3, 0.6, 0.95, 0.999])
@pytest.mark.parametrize("name", [NEWER, UNMET])
def test_an_archive_cut_anywhere_ends_in_words(
    tmp_path: Path, heron: Path, archives: Archives, name: str, share: float
) -> None:
    data = archives[name].read_bytes()
    path = tmp_path / name
    path.write_bytes(data[: int(len(data) * share)])
    system = open_system(str(heron))
    answer = contents(system, [str(path)])
    assert answer.exit_status != 0
    assert answer.notes or any(name in gap.what for gap in answer.gaps)


def test_a_payload_that_is_not_what_the_header_says_is_told(tmp_path: Path, heron: Path) -> None:
    said, held = F("/usr/bin/a"), F("/usr/bin/b", b"abc")
    rows = package_rows("a", "1", "1", (said, held))
    payload = cpio([
        PayloadMember("./usr/bin/a", said.mode, b"AS SHIPPED\n"),
        PayloadMember("./usr/bin/c", said.mode, b"more"),
    ])  # fmt: skip
    path = tmp_path / "a-1-1.none.rpm"
    path.write_bytes(rpm_archive("a", sorted(rows, key=lambda row: row[0]), payload))
    system = open_system(str(heron))
    assert [row.path for row in contents(system, [str(path)]).records] == [
        "/usr/bin/a", "/usr/bin/b", "/usr/bin/c",
    ]  # fmt: skip
    assert {gap.what.partition(" in ")[0]: gap.why for gap in system.gaps} == {
        "/usr/bin/a": "what the payload holds is not what the header says",
        "/usr/bin/b": "it is not in the payload",
        "/usr/bin/c": "it is in the payload, but the header says nothing of it",
    }


def test_a_payload_for_very_large_files(tmp_path: Path, heron: Path) -> None:
    files = (F("/usr/bin/a"), F("/usr/bin/b", b"abc"))
    rows = package_rows("a", "1", "1", files)
    payload = stripped_cpio([(0, files[0].content), (1, files[1].content)])
    path = tmp_path / "a-1-1.none.rpm"
    path.write_bytes(rpm_archive("a", sorted(rows, key=lambda row: row[0]), payload, "zstd"))
    system = open_system(str(heron))
    assert [row.size for row in contents(system, [str(path)]).records] == [11, 3]
    assert system.gaps == []


def test_an_archives_own_digests_that_are_wrong_are_told(tmp_path: Path, heron: Path) -> None:
    goods = (Good("/usr/bin/a", 0o755, b"as shipped"),)
    data = deb.archive(deb.Installed(GAUGE, goods), "none")
    path = tmp_path / "tidegauge_2.1-3_amd64.deb"
    path.write_bytes(data.replace(b"as shipped", b"AS SHIPPED"))
    system = open_system(str(heron))
    answer = contents(system, [str(path)])
    assert answer.exit_status == 3
    (gap,) = system.gaps
    assert "own list of digests" in gap.why


# -- what it is -----------------------------------------------------------------------------


def test_an_archive_and_what_is_installed(here: System, archives: Archives) -> None:
    (row,) = dossier(here, [str(archives["tidegauge-2.2-1.x86_64.rpm"])]).records
    assert (row.state, row.version, row.reason) == (State.ARCHIVE, "1:2.2-1", None)
    assert row.archive is not None
    assert (row.archive.form, row.archive.compression) == ("rpm 3.0", "zstd")
    assert [(other.version, other.order) for other in row.installed_here] == [("1:2.1-3", "older")]
    assert row.archive_size == os.path.getsize(archives["tidegauge-2.2-1.x86_64.rpm"])
    assert row.misnamed == []


@pytest.mark.parametrize(
    ("source", "name", "misnamed"),
    [
        (NEWER, "tidegauge_1%3a2.2-1_amd64.deb", []),
        (NEWER, "tidegauge_2%3a2.2-1_amd64.deb",
         ["the file is called after the version 2:2.2-1, but holds 1:2.2-1"]),
        (NEWER, "tidegauge_2.2-1_arm64.deb",
         ["the file is called after the architecture arm64, but holds amd64"]),
        (NEWER, "foghorn_2.2-1_amd64.deb",
         ["the file is called after the name foghorn, but holds tidegauge"]),
        (NEWER, "gauge.deb",
         ["gauge.deb does not say what it is: it would be called tidegauge_2.2-1_amd64.deb"]),
        (NEWER, "tidegauge-2.2-1.x86_64.rpm",
         ["tidegauge-2.2-1.x86_64.rpm is not called as an archive of the deb format is"]),
        (UNMET, "lanternfish-0.3-1.noarch.rpm",
         ["the file is called after the architecture noarch, but holds x86_64"]),
        (UNMET, "lanternfish.rpm",
         ["lanternfish.rpm does not say what it is: it would be called lanternfish-0.3-1.x86_64.rpm"]),
    ],
)  # fmt: skip
def test_a_name_that_disagrees_with_what_is_in_it(
    tmp_path: Path, heron: Path, archives: Archives, source: str, name: str, misnamed: list[str]
) -> None:
    path = tmp_path / name
    path.write_bytes(archives[source].read_bytes())
    answer = dossier(open_system(str(heron)), [str(path)])
    assert answer.records[0].misnamed == misnamed
    assert answer.exit_status == (1 if misnamed else 3 if source == UNMET else 0)


def test_full_tells_every_tag_by_name(here: System, archives: Archives) -> None:
    (row,) = dossier(here, [str(archives[UNMET])], full=True).records
    assert row.other_fields is not None
    assert row.other_fields["PayloadCompressor"] == "gzip"
    assert row.other_fields["before the header: SHA256Header"]
    assert row.other_fields["RequireName"].startswith("/usr/bin/dsh, ")


# -- what it needs --------------------------------------------------------------------------


def test_needs_are_judged_on_this_system(here: System, archives: Archives) -> None:
    answer = needs(here, [str(archives[UNMET])])
    told = {row.requirement: (row.name, row.status) for row in answer.records}
    assert told["/usr/bin/dsh"] == ("dulse", "met")
    assert told["config(lanternfish) = 0.3-1"] == ("lanternfish", "met")
    assert told["libglow1 >= 2"] == (None, "unmet")
    assert told["libbrine2 >= 3"] == (None, "unmet")
    assert told["(dulse or station-shell)"] == ("dulse", "met")
    assert answer.exit_status == 1


def test_needs_of_the_other_family_are_not_judged(there: System, archives: Archives) -> None:
    answer = needs(there, [str(archives[UNMET])])
    assert {row.status for row in answer.records} == {None}
    assert any("lanternfish" in gap.what for gap in answer.gaps)
    assert answer.exit_status == 3


def test_what_is_only_installed_is_not_asked_of_archives(here: System, archives: Archives) -> None:
    answer = verify(here, [str(archives[UNMET])])
    assert answer.exit_status == 1
    assert not answer.records
    assert answer.notes == [f"lanternfish:x86_64=0.3-1 of {archives[UNMET]} is not installed"]
    assert needed_by(here, [str(archives[UNMET])]).notes == ["lanternfish is not installed"]


# -- whose it is, and how it is named -------------------------------------------------------


@pytest.mark.parametrize(
    ("asked", "paths"),
    [
        ("tidegauge", ["/usr/bin/tidegauge", "/etc/tidegauge", "/usr/share/doc/tidegauge",
                       "/usr/share/tidegauge"]),
        ("/usr/bin/tidegauge", ["/usr/bin/tidegauge"]),
        ("/bin/tidegauge", ["/bin/tidegauge"]),
        ("/etc/tidegauge/**", ["/etc/tidegauge/gauge.conf", "/etc/tidegauge/stations.d",
                               "/etc/tidegauge/stations.d/heron.conf"]),
    ],
)  # fmt: skip
def test_paths_in_an_archive(
    there: System, archives: Archives, asked: str, paths: list[str]
) -> None:
    answer = owner(there, [asked], [str(archives[NEWER])])
    assert [row.path for row in answer.records] == paths
    for row in answer.records:
        assert [(one.version, one.archive) for one in row.owners] == [
            ("1:2.2-1", str(archives[NEWER]))
        ]


def test_a_path_that_is_installed_but_not_in_the_archive(there: System, archives: Archives) -> None:
    answer = owner(there, ["/usr/bin/foghorn"], [str(archives[NEWER])])
    assert [row.owners for row in answer.records] == [[]]
    assert answer.exit_status == 1


def test_a_glob_takes_every_archive_and_says_what_is_none(
    tmp_path: Path, heron: Path, archives: Archives
) -> None:
    for name in (NEWER, "brine-data_2.1.4-3_all.deb"):
        (tmp_path / name).write_bytes(archives[name].read_bytes())
    (tmp_path / "empty_1_all.deb").write_bytes(b"")
    answer = dossier(open_system(str(heron)), [f"{tmp_path}/*.deb"])
    assert [row.name for row in answer.records] == ["brine-data", "tidegauge"]
    assert [gap.why for gap in answer.gaps] == [
        f"{tmp_path}/empty_1_all.deb is no archive that can be read: it is empty"
    ]


def test_subjects_that_are_no_archives(
    tmp_path: Path, heron: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "notes.deb").write_text("no archive")
    os.mkfifo(tmp_path / "pipe.rpm")
    system = open_system(str(heron))
    answer = dossier(
        system, [f"{tmp_path}/notes.deb", f"{tmp_path}/pipe.rpm", f"{tmp_path}/gone.deb"]
    )
    assert [note.removeprefix(str(tmp_path)) for note in answer.notes] == [
        "/notes.deb is no archive that can be read: it is no archive of a known family",
        "/pipe.rpm cannot be read: it is not a regular file: pipe",
        f"there is no archive {tmp_path}/gone.deb",
    ]
    monkeypatch.chdir(tmp_path)
    assert dossier(system, ["notes.deb"]).notes[0].endswith("did you mean ./notes.deb?")


def test_an_archive_by_another_name_is_told_by_its_contents(
    tmp_path: Path, heron: Path, archives: Archives
) -> None:
    (tmp_path / "download").write_bytes(archives[NEWER].read_bytes())
    answer = dossier(open_system(str(heron)), [f"{tmp_path}/download"])
    assert [row.name for row in answer.records] == ["tidegauge"]
    assert answer.records[0].misnamed


def test_the_installed_program_reads_archives(run: Run, curlew: Path, archives: Archives) -> None:
    done = run("dossier", str(archives[MISNAMED]), "--root", str(curlew), "--format", "table")
    assert done.returncode == 1
    assert "the file is called after the version 6.2-1, but holds 6.1-2" in done.stdout
    done = run("owner", "lanternfish", "--in", str(archives[UNMET]), "--root", str(curlew))
    assert done.stdout.endswith(f"lanternfish\t0.3-1\tx86_64\tlisted\t{archives[UNMET]}\n")


def test_sizes_that_reach_out_of_the_header_are_a_gap(tmp_path: Path, curlew: Path) -> None:
    data = rpm.archive(shipped(GAUGE))
    entry = data.rindex((1028).to_bytes(4, "big") + (4).to_bytes(4, "big"))
    path = tmp_path / "tidegauge-2.1-3.x86_64.rpm"
    path.write_bytes(data[: entry + 8] + b"\x01\xff\xff\xff" + data[entry + 12 :])
    answer = contents(open_system(str(curlew)), [str(path)])
    assert answer.exit_status == 3
    assert any("reach out of the store" in gap.why for gap in answer.gaps)


def test_an_archive_can_be_looked_at_where_there_is_no_system(
    run: Run, tmp_path: Path, archives: Archives
) -> None:
    for name in (NEWER, UNMET):
        subject = str(archives[name])
        assert run("contents", subject, "--root", str(tmp_path)).returncode == 0
        done = run("needs", subject, "--root", str(tmp_path), "--format", "table")
        assert done.returncode == 3
        assert "the system at" in done.stdout
    done = run("dossier", "tidegauge", "--root", str(tmp_path))
    assert done.returncode == 2
    assert "no package database" in done.stderr


def test_a_source_package_has_bare_names(tmp_path: Path, curlew: Path) -> None:
    files = (F("gauge.spec", b"abc"), F("gauge.tgz", b"abcd", digest=""))
    rows = [
        row
        for row in package_rows("gauge", "1", "2", files)
        if row[0] not in (1116, 1118)  # its files lie in no directory
    ]
    rows += [(1116, Type.INT32, [0, 0]), (1118, Type.STRINGS, [""])]
    payload = cpio(PayloadMember(f.path, f.mode, f.content) for f in files)
    path = tmp_path / "gauge-1-2.src.rpm"
    path.write_bytes(rpm_archive("gauge", sorted(rows, key=lambda r: r[0]), payload, source=True))
    system = open_system(str(curlew))
    (row,) = dossier(system, [str(path)]).records
    assert (row.architecture, row.misnamed) == ("src", [])
    found = contents(system, [str(path)]).records
    assert [row.path for row in found] == ["gauge.spec", "gauge.tgz"]
    expected = hashlib.sha256(b"abcd").hexdigest()
    assert found[1].digest == f"sha256:{expected}"
    assert system.gaps == []
