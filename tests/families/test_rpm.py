"""The `rpm` family, installed: containers, records, policy, history, and what is judged of files."""

import gc
import os
import shutil
import sqlite3
import stat
import weakref
from pathlib import Path

import pytest

from filigree.demo.rpm_bytes import header, sqlite_file
from filigree.families.protocol import Asked, Provided
from filigree.families.rpm.described import needs_of
from filigree.families.rpm.module_streams import followed_streams, needs_written
from filigree.families.rpm.rules import RpmRules
from filigree.formats.file_capabilities import ATTRIBUTE, parse_capabilities, write_attribute
from filigree.formats.rpm.header import Type
from filigree.formats.rpm.modules import ModuleStream, read_modules
from filigree.formats.rpm.relations import EQUAL, FORMAT, GREATER, LESS, MISSING_OK
from filigree.model.errors import DatabaseError
from filigree.model.files import Aspect, Kind, Role, Verdict
from filigree.model.needs import Capability, Comparison, Need, Relation, Term
from filigree.model.package import Package, Reason
from filigree.questions.commands.census import census
from filigree.questions.commands.contents import contents
from filigree.questions.commands.dossier import dossier
from filigree.questions.commands.needs import needs
from filigree.questions.commands.owner import owner
from filigree.questions.commands.verify import verify
from filigree.questions.verifying.verdicts import FileVerdict
from filigree.system import open_system
from tests.making import ALGORITHMS, F, RpmRoot, package_rows

CONTAINERS = ("rpmdb.sqlite", "Packages.db", "Packages")
PLACES = ("var/lib/rpm", "usr/lib/sysimage/rpm", "usr/share/rpm")


@pytest.fixture
def root(tmp_path: Path) -> RpmRoot:
    return RpmRoot(tmp_path / "root")


def names(root: RpmRoot) -> list[str]:
    return [row.name for row in census(open_system(root.path)).records]


def verdicts(root: RpmRoot) -> dict[str, FileVerdict]:
    answer = verify(open_system(root.path), None, frozenset(Verdict), workers=1)
    return {row.path: row for row in answer.records}


def aspects(row: FileVerdict) -> list[tuple[Aspect, str | None, str | None]]:
    return [(d.aspect, d.expected, d.found) for d in row.differences]


# -- containers -----------------------------------------------------------------------------


@pytest.mark.parametrize("container", CONTAINERS)
@pytest.mark.parametrize("place", PLACES)
def test_every_container_in_every_place(tmp_path: Path, container: str, place: str) -> None:
    root = RpmRoot(tmp_path / "root", container, place)
    for number in range(30):
        root.package(f"p{number:02d}", "1.0", "1", F(f"/usr/bin/p{number:02d}"))
    system = open_system(root.path)
    assert system.family.name == "rpm"
    assert [p.name for p in system.packages] == [f"p{number:02d}" for number in range(30)]
    assert [o.name for o in owner(system, ["/usr/bin/p17"]).records[0].owners] == ["p17"]
    assert verify(system).exit_status == 0
    assert not system.gaps


def test_what_was_opened_is_let_go(root: RpmRoot) -> None:
    root.package("a")
    with open_system(root.path) as system:
        census(system)
    file = weakref.ref(system.database)
    del system
    gc.collect()
    assert file() is None


def test_a_table_that_goes_round_in_a_circle_ends(root: RpmRoot) -> None:
    for number in range(400):
        root.package(f"p{number}", rows=[(1005, Type.STRING, "x" * 900)])
    path = root.folder / root.place
    data = bytearray(path.read_bytes())
    size = int.from_bytes(data[16:18], "big")
    # The inner page of the table: its cells point at leaves; let two of them be the same.
    for page in range(size, len(data), size):
        if data[page] == 5 and int.from_bytes(data[page + 3 : page + 5], "big") > 3:
            first, second = (
                page + int.from_bytes(data[page + 12 + 2 * n : page + 14 + 2 * n], "big")
                for n in (0, 2)
            )
            data[second : second + 4] = data[first : first + 4]
            break
    path.write_bytes(data)
    system = open_system(root.path)
    assert 0 < len(system.packages) < 400
    assert system.gaps


def test_nothing_is_created_beside_the_database(root: RpmRoot) -> None:
    root.package("a", "1.0", "1", F("/usr/bin/a"))
    folder = (root.folder / root.place).parent
    before = {path.name: path.stat() for path in folder.iterdir()}
    os.utime(folder, (1, 1))
    verify(open_system(root.path))
    assert {path.name: path.stat() for path in folder.iterdir()} == before
    assert folder.stat().st_mtime == 1


def test_what_is_only_in_the_write_ahead_log_is_read_from_a_copy(root: RpmRoot) -> None:
    root.package("a")
    path = root.folder / root.place
    blob = header(package_rows("b", "1.0", "1"))
    writer = sqlite3.connect(path)
    writer.execute("PRAGMA journal_mode = WAL")
    writer.execute("INSERT INTO Packages (blob) VALUES (?)", (blob,))
    writer.commit()
    # As a machine that lost its power leaves it: the log beside the database, and nobody to merge it.
    left = root.folder / "left"
    left.mkdir()
    for name in ("rpmdb.sqlite", "rpmdb.sqlite-wal"):
        shutil.copy(path.parent / name, left / name)
    writer.close()
    shutil.rmtree(path.parent)
    shutil.move(left, path.parent)
    before = {p.name: p.read_bytes() for p in path.parent.iterdir()}
    assert names(root) == ["a", "b"]
    assert {p.name: p.read_bytes() for p in path.parent.iterdir()} == before


def test_a_link_between_the_places_is_no_second_database(tmp_path: Path) -> None:
    root = RpmRoot(tmp_path / "root", place="usr/lib/sysimage/rpm")
    root.package("a")
    root.link("var/lib/rpm", "../../usr/lib/sysimage/rpm")
    system = open_system(root.path)
    assert ([p.name for p in system.packages], system.gaps) == (["a"], [])


def test_a_second_database_is_pointed_out(root: RpmRoot) -> None:
    root.package("a")
    sqlite_file(root.folder / "usr/share/rpm/rpmdb.sqlite", root.blobs)
    (gap,) = open_system(root.path).gaps
    assert gap.what == "/usr/share/rpm/rpmdb.sqlite"
    assert "second database" in gap.why


@pytest.mark.parametrize("content", [b"", b"no database at all", b"SQLite format 3\0" + bytes(200)])
def test_a_database_that_is_none(root: RpmRoot, content: bytes) -> None:
    root.write(root.place, content)
    with pytest.raises(DatabaseError) as caught:
        open_system(root.path)
    assert caught.value.where == "/var/lib/rpm/rpmdb.sqlite"


def test_a_schema_that_is_no_text(root: RpmRoot) -> None:
    path = root.folder / root.place
    path.write_bytes(
        path.read_bytes().replace(b"CREATE TABLE Packages", b"CREATE T\xfc\xfcLE Packages")
    )
    with pytest.raises(DatabaseError, match="cannot be read"):
        open_system(root.path)


def test_a_view_in_the_place_of_the_table_is_not_asked(root: RpmRoot) -> None:
    path = root.folder / root.place
    path.unlink()
    connection = sqlite3.connect(path)
    connection.execute(
        "CREATE VIEW Packages AS WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) "
        "SELECT x AS hnum, zeroblob(100000) AS blob FROM n"
    )
    connection.commit()
    connection.close()
    with pytest.raises(DatabaseError):
        open_system(root.path)


@pytest.mark.parametrize("container", CONTAINERS)
def test_a_damaged_record_costs_itself(tmp_path: Path, container: str) -> None:
    root = RpmRoot(tmp_path / "root", container)
    root.package("a")
    root.blobs.append(b"\0\0\x01\0 no header")
    root.package("b")
    system = open_system(root.path)
    assert [p.name for p in system.packages] == ["a", "b"]
    assert len(system.gaps) == 1


def test_keys_are_no_software(root: RpmRoot) -> None:
    root.package("gpg-pubkey", "7ide", "0ff1")
    root.package("a")
    assert names(root) == ["a"]


# -- packages -------------------------------------------------------------------------------


def test_several_versions_stand_side_by_side(root: RpmRoot) -> None:
    for version in ("6.1", "6.9"):
        root.package("bedrock", version, "1", F(f"/usr/share/bedrock-{version}"))
    system = open_system(root.path)
    assert [row.version for row in census(system).records] == ["6.1-1", "6.9-1"]
    assert [row.version for row in dossier(system, ["bedrock=6.9-1"]).records] == ["6.9-1"]
    assert {row.version for row in contents(system, ["bedrock"]).records} == {"6.1-1", "6.9-1"}
    (found,) = owner(system, ["/usr/share/bedrock-6.1"]).records
    assert [one.version for one in found.owners] == ["6.1-1"]
    (root.folder / "usr/share/bedrock-6.9").unlink()
    (lost,) = verify(open_system(root.path), ["bedrock"]).records
    assert (lost.package, lost.version) == ("bedrock", "6.9-1")


def test_every_fact_of_a_record(root: RpmRoot) -> None:
    root.package("a", "1.0~rc1", "2", rows=[
        (1003, Type.INT32, 3), (1004, Type.TRANSLATED, ["First", "Zuerst"]), (1005, Type.STRING, "All"),
        (1006, Type.INT32, 1_600_000_000), (1007, Type.STRING, "slip"), (1011, Type.STRING, "Office"),
        (1014, Type.STRING, "Free"), (1015, Type.STRING, "Who"), (1016, Type.STRING, "Coast"),
        (1020, Type.STRING, "https://a.example"), (1024, Type.STRING, "exit 0\n"),
        (1044, Type.STRING, "a-all-1.0~rc1-2.src.rpm"), (5009, Type.INT64, 1 << 33), (4242, Type.INT8, 7),
    ])  # fmt: skip
    (row,) = dossier(open_system(root.path), ["a"], full=True).records
    assert (row.version, row.parts) == ("3:1.0~rc1-2", ("3", "1.0~rc1", "2"))
    assert (row.summary, row.description, row.license) == ("First", "All", "Free")
    assert (row.vendor, row.maintainer, row.section) == ("Office", "Who", "Coast")
    assert (row.source, row.source_version) == ("a-all", "1.0~rc1-2")
    assert row.installed_size == 1 << 33
    assert [(script.name, script.size) for script in row.scripts] == [("post-install", 7)]
    assert row.built_at is not None
    assert row.installed_at is not None
    assert row.other_fields is not None
    assert row.other_fields["Tag4242"] == "7"
    assert row.other_fields["Summary"] == "First, Zuerst"


def history_database(path: Path, rows: list[tuple[str, int, str]]) -> None:
    """The older form of the history: name, number of the reason, repository."""
    path.parent.mkdir(parents=True)
    connection = sqlite3.connect(path)
    connection.executescript(
        "CREATE TABLE rpm (item_id INTEGER, name, epoch INTEGER, version, release, arch);"
        "CREATE TABLE repo (id INTEGER, repoid);"
        "CREATE TABLE trans_item (id INTEGER PRIMARY KEY, item_id, repo_id, reason INTEGER);"
    )
    for number, (name, reason, repository) in enumerate(rows):
        connection.execute("INSERT INTO rpm VALUES (?, ?, 0, '1.0', '1', 'x86_64')", (number, name))
        connection.execute("INSERT INTO repo VALUES (?, ?)", (number, repository))
        connection.execute(
            "INSERT INTO trans_item (item_id, repo_id, reason) VALUES (?, ?, ?)",
            (number, number, reason),
        )
    connection.commit()
    connection.close()


def standings(root: RpmRoot) -> dict[str, tuple[Reason | None, str | None]]:
    return {p.name: (p.reason, p.repository) for p in open_system(root.path).packages}


def test_reasons_and_repositories_out_of_the_new_history(root: RpmRoot) -> None:
    for name in "abcd":
        root.package(name)
    folder = "usr/lib/sysimage/libdnf5"
    root.write(
        f"{folder}/packages.toml",
        '[packages]\n"a.x86_64" = {reason = "User"}\n"b.x86_64" = {reason = "Weak Dependency"}\n'
        '"c.x86_64" = {reason = "Group"}\n',
    )
    root.write(f"{folder}/nevras.toml", '[nevras]\n"a-0:1.0-1.x86_64" = {from_repo = "coast"}\n')
    assert standings(root) == {
        "a": (Reason.CHOSEN, "coast"),
        "b": (Reason.DEPENDENCY, None),
        "c": (Reason.CHOSEN, None),
        "d": (None, None),
    }


def test_reasons_and_repositories_out_of_the_old_history(root: RpmRoot) -> None:
    for name in "abc":
        root.package(name)
    history_database(
        root.folder / "var/lib/dnf/history.sqlite",
        [("a", 1, "old"), ("b", 1, "coast"), ("c", 0, "@System"), ("a", 2, "coast")],
    )
    assert standings(root) == {
        "a": (Reason.CHOSEN, "coast"),
        "b": (Reason.DEPENDENCY, "coast"),
        "c": (None, None),
    }


def test_reasons_and_repositories_out_of_the_oldest_history(root: RpmRoot) -> None:
    root.package("a-b")
    folder = "var/lib/yum/yumdb/a/5eed-a-b-1.0-1-x86_64"
    root.write(f"{folder}/reason", "dep")
    root.write(f"{folder}/from_repo", "coast\n")
    assert standings(root) == {"a-b": (Reason.DEPENDENCY, "coast")}


@pytest.mark.parametrize(
    ("path", "content"),
    [
        ("usr/lib/sysimage/libdnf5/packages.toml", "[packages\n"),
        ("usr/lib/sysimage/libdnf5/packages.toml", b"\xff"),
        ("var/lib/dnf/history.sqlite", "no database"),
        ("etc/dnf/versionlock.toml", "= ="),
    ],
)
def test_a_damaged_history_is_a_gap(root: RpmRoot, path: str, content: str | bytes) -> None:
    root.package("a")
    root.write(path, content)
    system = open_system(root.path)
    assert [p.name for p in system.packages] == ["a"]
    assert [gap.what for gap in system.gaps] == [f"/{path}"]


@pytest.mark.parametrize(
    ("enabled", "told", "followed", "lacking"),
    [
        ({}, ["tide:1"], {"tide": "1"}, {}),
        ({"tide": "2"}, ["tide:1"], {"tide": "2"}, {}),
        ({"tide": ""}, ["tide:1"], {}, {}),
        ({}, ["tide:1", "tide:1 needs salt:3 platform:el9"], {"tide": "1", "salt": "3"}, {}),
        ({}, ["tide:1", "tide:1 needs salt:3", "salt:3 needs foam:x"],
         {"tide": "1", "salt": "3", "foam": "x"}, {}),
        ({"salt": "2"}, ["tide:1", "tide:1 needs salt:3"],
         {"tide": "1", "salt": "2"}, {"tide:1": "salt:3"}),
        ({"salt": ""}, ["tide:1", "tide:1 needs salt:"], {"tide": "1"}, {"tide:1": "salt"}),
        ({"salt": "2"}, ["tide:1", "tide:1 needs salt:3", "tide:1 needs salt:2 foam:x"],
         {"tide": "1", "salt": "2", "foam": "x"}, {}),
        ({}, ["tide:1", "tide:1 needs salt:3,4"], {"tide": "1"}, {}),
        ({}, ["tide:1", "salt:4", "tide:1 needs salt:3,4"], {"tide": "1", "salt": "4"}, {}),
        ({}, ["tide:1", "tide:1 needs salt:3", "salt:3 needs tide:1"], {"tide": "1", "salt": "3"}, {}),
        ({}, ["other:9 needs salt:3"], {}, {}),
    ],
)  # fmt: skip
def test_streams_that_others_need_are_followed(
    enabled: dict[str, str], told: list[str], followed: dict[str, str], lacking: dict[str, str]
) -> None:
    assert followed_streams(enabled, told) == (followed, lacking)


@pytest.mark.parametrize(
    ("dependencies", "lines"),
    [
        ("{requires: {salt: '3', platform: el9}}", ["tide:1 needs salt:3 platform:el9"]),
        ("[{requires: {salt: [3, 4]}}, {requires: {foam: []}}]",
         ["tide:1 needs salt:3,4", "tide:1 needs foam:"]),
        ("[]", []), ("nothing", []), ("[{buildrequires: {salt: [3]}}]", []), ("[{requires: [salt]}]", []),
    ],
)  # fmt: skip
def test_what_a_stream_needs(dependencies: str, lines: list[str]) -> None:
    text = (
        "document: modulemd\ndata:\n  name: tide\n  stream: 1\n"
        f"  dependencies: {dependencies}\n  artifacts:\n    rpms: [a-0:1-1.noarch]\n"
    )
    (one,) = read_modules([text.encode()])
    assert isinstance(one, ModuleStream)
    assert list(needs_written(one)) == lines


def test_what_is_held_and_what_is_protected(root: RpmRoot) -> None:
    for name in "abcd":
        root.package(name)
    root.write("etc/dnf/plugins/versionlock.list", "# no\na-0:1.0-1.*\n!b-0:1.0-1.*\nd-0:2.*\n")
    root.write("etc/dnf/versionlock.toml", '[[packages]]\nname = "c"\n')
    root.write("etc/dnf/protected.d/x.conf", "b\n")
    packages = open_system(root.path).packages
    assert [p.name for p in packages if p.held] == ["a", "c"]
    assert [p.name for p in packages if p.protected] == ["b"]


# -- needs ----------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("asked", "offered", "met"),
    [
        ("x", "x", True),
        ("x", "y", False),
        ("x >= 2", "x", True),
        ("x", "x = 2", True),
        ("x >= 2", "x = 2-1", True),
        ("x = 2", "x = 2-7", True),
        ("x = 2-1", "x = 2-7", False),
        ("x > 2", "x = 2-7", False),
        ("x > 2", "x >= 1", True),
        ("x < 2", "x >= 2", False),
        ("x <= 2", "x >= 2", True),
        ("x < 2", "x < 9", True),
        ("x > 2", "x < 2", False),
        ("x >= 1:1", "x = 2", False),
        ("x >= 0:1", "x = 2", True),
        ("x < 1.0", "x = 1.0~rc1", True),
        ("x > 1.0", "x = 1.0^git1", True),
    ],
)
def test_what_meets_a_need(root: RpmRoot, asked: str, offered: str, met: bool) -> None:
    root.package("a")
    database = open_system(root.path).database
    package = Package("p", "1", "x86_64", "rpm")
    name, sign, version = (*asked.split(), "", "")[:3]
    term = Term(name, Comparison(sign) if sign else None, version or None)
    name, sign, version = (*offered.split(), "", "")[:3]
    capability = Capability(name, version, Comparison(sign)) if sign else Capability(name)
    assert database.rules.satisfies(Asked(term, package), Provided(capability, package)) is met


def test_needs_of_every_kind(root: RpmRoot) -> None:
    root.write("usr/bin/.keep", b"")
    root.link("bin", "usr/bin")
    root.package("shell", "1", "1", F("/usr/bin/dsh"))
    root.package(
        "lib",
        provides=[("libx.so.1()(64bit)", 0, ""), ("lib", EQUAL, "1.0-1"), ("gauge", EQUAL, "3")],
    )
    root.package(
        "app",
        requires=[
            ("/bin/dsh", 1 << 9, ""),
            ("libx.so.1()(64bit)", 0, ""),
            ("lib", GREATER | EQUAL, "1.0"),
            ("lib", LESS, "0.5"),
            ("rpmlib(TildeInVersions)", LESS | EQUAL | FORMAT, "4.10.0-1"),
            ("rpmlib(FromTheFuture)", LESS | EQUAL | FORMAT, "9-1"),
            ("(gauge >= 2 if shell else nothing)", 0, ""),
            ("(nothing if nobody)", 0, ""),
            ("(lib with gauge < 2)", 0, ""),
            ("wish", MISSING_OK, ""),
        ],
        recommends=[("gauge", GREATER, "2")],
        supplements=[("shell", 0, "")],
        obsoletes=[("old", LESS, "2")],
    )
    system = open_system(root.path)
    found = {r.requirement: r for r in needs(system, ["app"], kinds=frozenset(Relation)).records}
    told = {text: (row.kind, row.name, row.status) for text, row in found.items()}
    assert told == {
        "/bin/dsh": (Relation.REQUIRES_FIRST, "shell", "met"),
        "libx.so.1()(64bit)": (Relation.REQUIRES, "lib", "met"),
        "lib >= 1.0": (Relation.REQUIRES, "lib", "met"),
        "lib < 0.5": (Relation.REQUIRES, None, "unmet"),
        "rpmlib(TildeInVersions) <= 4.10.0-1": (Relation.FORMAT, None, "met"),
        "rpmlib(FromTheFuture) <= 9-1": (Relation.FORMAT, None, "unmet"),
        "(gauge >= 2 if shell else nothing)": (Relation.REQUIRES, "lib", "met"),
        "(nothing if nobody)": (Relation.REQUIRES, None, "met"),
        "(lib with gauge < 2)": (Relation.REQUIRES, None, "unmet"),
        "wish": (Relation.RECOMMENDS, None, "unmet"),
        "gauge > 2": (Relation.RECOMMENDS, "lib", "met"),
        "shell": (Relation.SUPPLEMENTS, "shell", "met"),
    }
    assert found["(nothing if nobody)"].reason == "its condition does not arise here"


def test_a_need_that_does_not_parse_costs_itself(root: RpmRoot) -> None:
    root.package("a", requires=[("(b and", 0, ""), ("a", 0, "")])
    system = open_system(root.path)
    assert [row.requirement for row in needs(system, ["a"]).records] == ["a"]
    assert len(system.gaps) == 1


# -- files ----------------------------------------------------------------------------------


@pytest.mark.parametrize("algorithm", ALGORITHMS)
def test_content_by_every_algorithm(root: RpmRoot, algorithm: int) -> None:
    root.package("a", "1", "1", F("/a"), F("/b"), algorithm=algorithm)
    root.write("b", b"AS SHIPPED\n")
    os.utime(root.folder / "b", (1_700_000_000, 1_700_000_000))
    found = verdicts(root)
    assert found["/a"].verdict is Verdict.INTACT
    ((aspect, expected, _),) = aspects(found["/b"])
    assert aspect is Aspect.CONTENT
    assert expected is not None
    assert expected.startswith(f"{ALGORITHMS[algorithm]}:")


def test_old_names_and_old_digests(root: RpmRoot) -> None:
    root.package("a", "1", "1", F("/usr/bin/a"), algorithm=1, old_names=True)
    assert verdicts(root)["/usr/bin/a"].verdict is Verdict.INTACT
    system = open_system(root.path)
    assert [o.name for o in owner(system, ["a"]).records[0].owners] == ["a"]


@pytest.mark.parametrize(
    ("record", "change", "verdict", "difference"),
    [
        (F("/f", mode=stat.S_IFREG | 0o755), "mode", Verdict.ALTERED, (Aspect.MODE, "0755", "4755")),
        (F("/f", owner="tide"), "", Verdict.ALTERED, (Aspect.OWNER, "tide", "root")),
        (F("/f", group="tide"), "", Verdict.ALTERED, (Aspect.GROUP, "tide", "root")),
        (F("/f", owner="nobody-here"), "", Verdict.ALTERED, (Aspect.OWNER, "nobody-here", "root")),
        (F("/f", flags=1), "longer", Verdict.EDITED, (Aspect.SIZE, "11", "12")),
        (F("/f"), "longer", Verdict.ALTERED, (Aspect.SIZE, "11", "12")),
        (F("/f", checks=0xFFFFFFFF ^ 0x23), "longer", Verdict.EXCUSED, (Aspect.SIZE, "11", "12")),
        (F("/f"), "time", Verdict.INTACT,
         (Aspect.MODIFIED, "2023-11-14T22:13:20Z", "2001-09-09T01:46:40Z")),
        (F("/f", mode=stat.S_IFLNK | 0o777, target="g"), "target", Verdict.ALTERED,
         (Aspect.LINK_TARGET, "g", "/etc")),
        (F("/f"), "kind", Verdict.ALTERED, (Aspect.KIND, "file", "directory")),
        (F("/f"), "gone", Verdict.MISSING, (Aspect.PRESENCE, "file", None)),
        (F("/f", capabilities="cap_net_raw=ep"), "", Verdict.ALTERED,
         (Aspect.CAPABILITIES, "cap_net_raw=ep", "none")),
    ],
)  # fmt: skip
def test_every_aspect_is_judged(
    root: RpmRoot,
    record: F,
    change: str,
    verdict: Verdict,
    difference: tuple[Aspect, str | None, str | None],
) -> None:
    root.package("a", "1", "1", record)
    real = root.folder / "f"
    match change:
        case "mode":
            real.chmod(0o4755)
        case "longer":
            real.write_bytes(record.content + b"\n")
        case "time":
            os.utime(real, (1_000_000_000, 1_000_000_000))
        case "target":
            real.unlink()
            real.symlink_to("/etc")
        case "kind":
            real.unlink()
            real.mkdir()
        case "gone":
            real.unlink()
    found = verdicts(root)["/f"]
    assert found.verdict is verdict
    assert difference in aspects(found)


@pytest.mark.parametrize(
    ("record", "verdict", "reason"),
    [
        (F("/f", flags=64, down=False), Verdict.EXCUSED, "the package only claims its place"),
        (F("/f", flags=64), Verdict.UNRECORDED, None),
        (F("/f", flags=8, down=False), Verdict.EXCUSED, "the package can do without it"),
        (F("/f", state=1, digest="0" * 64), Verdict.ALTERED,
         "another package's file has taken its place"),
        (F("/f", state=1, down=False), Verdict.EXCUSED, "another package's file has taken its place"),
        (F("/f", state=2, down=False), Verdict.EXCUSED, "it was not installed, by choice"),
        (F("/f", state=3, down=False), Verdict.EXCUSED, "it is shared over the network"),
        (F("/f", state=4, down=False), Verdict.EXCUSED,
         "it was not installed: it is for another kind of machine code"),
        (F("/f", state=9, down=False), Verdict.MISSING, None),
        (F("/f", mode=stat.S_IFDIR | 0o755), Verdict.INTACT, None),
        (F("/f", digest=""), Verdict.UNRECORDED, None),
    ],
)  # fmt: skip
def test_what_may_be_absent_and_what_is_not_compared(
    root: RpmRoot, record: F, verdict: Verdict, reason: str | None
) -> None:
    root.package("a", "1", "1", record)
    found = verdicts(root)["/f"]
    assert (found.verdict, found.reason) == (verdict, reason)


def test_numbers_are_looked_up_in_the_roots_own_files(root: RpmRoot) -> None:
    root.package("a", "1", "1", F("/f"))
    root.write("etc/passwd", f"tide:x:{os.getuid()}:0::/:\nroot:x:4711:0::/:\n")
    assert aspects(verdicts(root)["/f"]) == [(Aspect.OWNER, "root", "tide")]


def test_two_names_of_one_user_are_one_user(root: RpmRoot) -> None:
    root.package("a", "1", "1", F("/f", owner="second"))
    root.write("etc/passwd", f"root:x:{os.getuid()}:0::/:\nsecond:x:{os.getuid()}:0::/:\n")
    assert verdicts(root)["/f"].verdict is Verdict.INTACT


def test_capabilities_are_read_from_the_disk(root: RpmRoot) -> None:
    root.package(
        "a", "1", "1", F("/plain"), F("/able", capabilities="cap_net_admin,cap_net_raw+ep")
    )
    try:
        for name, text in (("plain", "cap_chown=ep"), ("able", "cap_net_raw,cap_net_admin=pe")):
            os.setxattr(root.folder / name, ATTRIBUTE, write_attribute(parse_capabilities(text)))
    except OSError as error:
        pytest.skip(f"this user cannot give a file capabilities here: {error.strerror}")
    found = verdicts(root)
    assert found["/able"].verdict is Verdict.INTACT
    assert aspects(found["/plain"]) == [(Aspect.CAPABILITIES, "none", "cap_chown=ep")]


def test_devices_are_compared_by_number(root: RpmRoot) -> None:
    mode = stat.S_IFCHR | 0o600
    root.package(
        "a", "1", "1", F("/null", mode=mode, device=0x103), F("/zero", mode=mode, device=0x103)
    )
    try:
        for name, device in (("null", os.makedev(1, 3)), ("zero", os.makedev(1, 5))):
            os.mknod(root.folder / name, mode, device)
    except OSError as error:
        pytest.skip(f"this user cannot make devices here: {error.strerror}")
    found = verdicts(root)
    assert found["/null"].verdict is Verdict.INTACT
    assert aspects(found["/zero"]) == [(Aspect.DEVICE, "1:3", "1:5")]


def test_flags_are_roles_and_remarks(root: RpmRoot) -> None:
    root.package(
        "a", "1", "1",
        F("/etc/a.conf", flags=1 | 16), F("/usr/share/a/x", flags=2), F("/usr/share/a/y", flags=128),
        F("/usr/share/man/man1/a.1", flags=2), F("/usr/share/a/z", flags=256), F("/run/a", flags=64),
        F("/usr/lib64/a.so", colour=2), F("/usr/bin/a", inode=7), F("/usr/bin/b", inode=7),
    )  # fmt: skip
    found = {row.path: row for row in contents(open_system(root.path), ["a"]).records}
    assert {path: row.role for path, row in found.items()} == {
        "/etc/a.conf": Role.CONFIG, "/usr/share/a/x": Role.DOC, "/usr/share/a/y": Role.LICENSE,
        "/usr/share/man/man1/a.1": Role.MANUAL, "/usr/share/a/z": Role.DOC, "/run/a": Role.DATA,
        "/usr/lib64/a.so": Role.LIBRARY, "/usr/bin/a": Role.PROGRAM, "/usr/bin/b": Role.PROGRAM,
    }  # fmt: skip
    assert found["/usr/bin/a"].remarks == ("the same file as /usr/bin/b",)
    assert found["/run/a"].remarks == ("not shipped: only its place is claimed",)
    assert found["/usr/lib64/a.so"].remarks == ("64-bit code",)
    assert found["/etc/a.conf"].kind is Kind.FILE


def test_names_and_directories_that_do_not_fit_are_a_gap(root: RpmRoot) -> None:
    root.blobs.append(header([
        (1000, Type.STRING, "a"), (1001, Type.STRING, "1"), (1022, Type.STRING, "noarch"),
        (1116, Type.INT32, [5]), (1117, Type.STRINGS, ["f"]), (1118, Type.STRINGS, ["/"]),
    ]))  # fmt: skip
    root.save()
    system = open_system(root.path)
    assert verify(system).exit_status == 3
    assert contents(system, ["a"]).records == []


def test_a_count_of_paths_is_a_claim(root: RpmRoot) -> None:
    blob = header([
        (1000, Type.STRING, "a"), (1001, Type.STRING, "1"), (1022, Type.STRING, "noarch"),
        (1117, Type.STRINGS, ["f"]), (1118, Type.STRINGS, ["/"]),
    ])  # fmt: skip
    entry = blob.index((1117).to_bytes(4, "big"))
    root.blobs.append(blob[: entry + 12] + b"\xff\xff\xff\xff" + blob[entry + 16 :])
    root.save()
    answer = verify(open_system(root.path))
    assert answer.exit_status == 3
    assert answer.summary.paths_in_all < 1000


@pytest.mark.parametrize(
    ("native", "taken"),
    [
        ("i686", ("i686", "i586", "i486", "i386", "noarch")),
        ("i386", ("i386", "noarch")),
        ("x86_64", ("x86_64", "x86_64_v4", "x86_64_v3", "x86_64_v2", "i686", "i586", "i486", "i386",
            "noarch")),
        ("aarch64", ("aarch64", "noarch")),
        (None, ()),
    ],
)  # fmt: skip
def test_the_machines_that_a_system_takes(native: str | None, taken: tuple[str, ...]) -> None:
    assert RpmRules(native, lambda _: False).machines == taken


def test_versions_of_what_is_recommended_count() -> None:
    rows = {"recommends": [("gull", 12, "2-1")], "suggests": [("plover-like", 2, "1:3")]}
    needs = list(needs_of(lambda kind: rows.get(kind, [])))
    assert [(one.kind.value, one.text) for one in needs if isinstance(one, Need)] == [
        ("recommends", "gull >= 2-1"), ("suggests", "plover-like < 1:3"),
    ]  # fmt: skip
