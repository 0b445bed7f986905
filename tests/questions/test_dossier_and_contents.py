"""What is known of a package, and what is in it."""

from pathlib import Path

import pytest

from filigree.model.files import Kind, Role, Verdict
from filigree.model.roles import role_of
from filigree.questions.commands.contents import contents
from filigree.questions.commands.dossier import dossier
from filigree.system import open_system
from tests.making import DebRoot


def test_every_fact(heron: Path) -> None:
    (row,) = dossier(open_system(str(heron)), ["tidegauge"]).records
    assert tuple(row.parts) == ("1", "2.1", "3")
    assert row.version == "1:2.1-3"
    settings = {one.path: one.verdict for one in row.configuration}
    assert settings == {
        "/etc/tidegauge/gauge.conf": Verdict.EDITED,
        "/etc/tidegauge/stations.d/heron.conf": Verdict.INTACT,
    }
    assert [script.name for script in row.scripts] == ["preinst", "postinst", "prerm", "postrm"]
    courier = next(need for need in row.needs if need.requirement == "mail-courier")
    assert courier.met_by == ["gullpost"]
    assert row.other_fields is None


def test_what_must_be_away_is_neither_met_nor_unmet(heron: Path) -> None:
    (row,) = dossier(open_system(str(heron)), ["libbrine2"]).records
    breaks = next(need for need in row.needs if need.kind.value == "breaks")
    assert (breaks.requirement, breaks.status) == ("libbrine1 (<< 2)", None)


def test_full_shows_the_record_itself(deb_root: DebRoot) -> None:
    deb_root.package("a", Priority="optional", X_Tide_Mark="high", Section="net")
    (row,) = dossier(open_system(deb_root.path), ["a"], full=True).records
    assert row.other_fields is not None
    assert row.other_fields.items() >= {"Priority": "optional", "X-Tide-Mark": "high"}.items()


@pytest.mark.parametrize(
    ("subject", "found"),
    [
        ("tidegauge", ["tidegauge"]),
        ("libkelp1", ["libkelp1:amd64", "libkelp1:arm64"]),
        ("libkelp1:arm64", ["libkelp1:arm64"]),
        ("tidegauge=1:2.1-3", ["tidegauge"]),
        ("libkelp1:amd64=1.2.13-5", ["libkelp1:amd64"]),
        ("tide*", ["tidegauge", "tidetables", "tidetables-calc"]),
        ("/usr/bin/tidegauge", ["tidegauge"]),
        ("/bin/dsh", ["dulse"]),
        ("oldgauge", ["oldgauge"]),
    ],
)
def test_subjects(heron: Path, subject: str, found: list[str]) -> None:
    rows = dossier(open_system(str(heron)), [subject]).records
    labels = [f"{row.name}:{row.architecture}" for row in rows]
    assert [label if ":" in name else label.partition(":")[0]
            for label, name in zip(labels, found, strict=True)] == found  # fmt: skip


@pytest.mark.parametrize(
    ("subject", "note"),
    [
        ("tidegage", "no package on record is called tidegage; did you mean tidegauge?"),
        (
            "mail-courier",
            "mail-courier is no package, but a name that others provide; did you mean gullpost?",
        ),
        (
            "tidegauge=1:9",
            "no package on record is tidegauge=1:9; did you mean tidegauge:amd64=1:2.1-3?",
        ),
        ("/usr/sbin/gullcheck", "no package on record has the path /usr/sbin/gullcheck"),
    ],
)
def test_subjects_that_match_nothing(heron: Path, subject: str, note: str) -> None:
    answer = dossier(open_system(str(heron)), [subject, "foghorn"])
    assert answer.notes == [note]
    assert [row.name for row in answer.records] == ["foghorn"]
    assert answer.exit_status == 1


def test_contents_as_they_are_found(heron: Path) -> None:
    answer = contents(open_system(str(heron)), ["tidegauge"])
    rows = {row.path: row for row in answer.records}
    program = rows["/usr/sbin/tidegauged"]
    real = (heron / "usr/sbin/tidegauged").stat()
    assert (program.role, program.kind, program.size) == (Role.PROGRAM, Kind.FILE, real.st_size)
    assert (program.mode, program.owner) == ("0755", "root")
    assert program.digest is not None
    assert rows["/usr"].role is Role.DIRECTORY
    assert answer.summary.observed == ["size", "mode", "owner", "group", "link-target"]


def test_a_file_that_something_else_stands_for_has_no_size(heron: Path) -> None:
    answer = contents(open_system(str(heron)), ["foghorn"], [Role.PROGRAM])
    swapped = next(row for row in answer.records if row.path == "/usr/bin/foghorn-test")
    assert (swapped.kind, swapped.size, swapped.mode) == (Kind.FILE, None, None)


def test_roles_and_totals(heron: Path) -> None:
    system = open_system(str(heron))
    every = contents(system, ["tidegauge"])
    some = contents(system, ["tidegauge"], [Role.CONFIG, Role.LOCALE])
    assert {row.role for row in some.records} == {Role.CONFIG, Role.LOCALE}
    totals = every.summary.roles
    assert totals["config"].paths == 2
    assert totals["locale"].paths == 4
    assert sum(total.paths for total in totals.values()) == len(every.records)
    assert contents(system, ["seaholly"], [Role.HEADER]).exit_status == 1


@pytest.mark.parametrize(
    ("path", "kind", "mode", "role"),
    [
        ("/usr/bin/a", Kind.FILE, 0o755, Role.PROGRAM),
        ("/bin/a", None, None, Role.PROGRAM),
        ("/usr/games/a", Kind.LINK, None, Role.PROGRAM),
        ("/usr/lib/x86_64/liba.so.1.2", Kind.FILE, 0o644, Role.LIBRARY),
        ("/lib64/ld.so", Kind.LINK, None, Role.LIBRARY),
        ("/usr/lib/a/helper", Kind.FILE, 0o755, Role.PROGRAM),
        ("/usr/lib/a/table", Kind.FILE, 0o644, Role.DATA),
        ("/usr/libexec/a", Kind.FILE, 0o755, Role.PROGRAM),
        ("/usr/share/doc/a/README", Kind.FILE, 0o644, Role.DOC),
        ("/usr/share/doc/a/copyright", Kind.FILE, 0o644, Role.LICENSE),
        ("/usr/share/doc/a/LICENSE.txt", Kind.FILE, 0o644, Role.LICENSE),
        ("/usr/share/licenses/a/x", Kind.FILE, 0o644, Role.LICENSE),
        ("/usr/share/man/man1/a.1.gz", Kind.FILE, 0o644, Role.MANUAL),
        ("/usr/share/locale/cy/LC_MESSAGES/a.mo", Kind.FILE, 0o644, Role.LOCALE),
        ("/usr/include/a.h", Kind.FILE, 0o644, Role.HEADER),
        ("/etc/a", Kind.FILE, 0o644, Role.CONFIG),
        ("/usr/share/a", Kind.LINK, None, Role.LINK),
        ("/usr/share/a", Kind.FILE, 0o644, Role.DATA),
        ("/usr/share/doc/a", Kind.DIRECTORY, 0o755, Role.DIRECTORY),
    ],
)
def test_roles(path: str, kind: Kind | None, mode: int | None, role: Role) -> None:
    assert role_of(path, kind, mode) is role


def test_the_packages_own_mark_goes_before_the_path() -> None:
    assert role_of("/usr/share/a/settings", Kind.FILE, 0o644, Role.CONFIG) is Role.CONFIG
