"""Questions about what is only offered: dossier, contents, owner, needs, needed-by, groups."""

import hashlib
from pathlib import Path
from typing import Any

import pytest

from filigree.demo.offered_wares import GROUPS, NEW
from filigree.demo.offering import pooled
from filigree.demo.rpm import package_name
from filigree.demo.rpm_repository import rpm_archive, rpm_shipped
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.contents import contents
from filigree.questions.commands.dossier import Dossier, dossier
from filigree.questions.commands.groups import groups
from filigree.questions.commands.needs import needed_by, needs
from filigree.questions.commands.owner import owner
from filigree.questions.dependencies.need_status import NeedStatus
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System, open_system
from tests.conftest import Run

OFFERED = Scope.AVAILABLE
KITTIWAKE = next(ware for ware in NEW if ware.name == "kittiwake")


@pytest.fixture(params=["heron", "curlew"])
def station(request: pytest.FixtureRequest) -> Any:
    with open_system(str(request.getfixturevalue(request.param))) as system:
        yield system


def one(system: System, subject: str, scope: Scope = OFFERED) -> Dossier:
    (row,) = dossier(system, [subject], scope=scope).records
    return row


def test_a_dossier_of_what_is_not_installed(station: System) -> None:
    row = one(station, "kittiwake")
    assert (row.state, row.version, row.installed_here) == ("available", "3.4.2-1", [])
    assert row.choices is not None
    (choice,) = row.choices
    assert (choice.taken, choice.installed, choice.verdict) == (True, False, "it would be taken")
    assert row.offered_by == choice.repositories
    assert {need.status for need in row.needs if need.kind.hard} == {NeedStatus.MET}
    assert row.description is not None
    assert "kittiwake" in row.description
    deb = station.family.name == "deb"
    archive = (
        pooled(KITTIWAKE)[1]
        if deb
        else next(rpm_archive(one) for one in rpm_shipped() if one.name == "kittiwake")
    )
    assert row.digest == f"sha256:{hashlib.sha256(archive).hexdigest()}"
    assert row.archive_size == len(archive)
    assert row.address is not None
    assert row.address.startswith("https://packages.tides.example/")
    assert (row.changes is None) is deb


def test_all_versions_and_why(heron: Path, curlew: Path) -> None:
    with open_system(str(heron)) as system:
        row = one(system, "quayside")
        assert row.choices is not None
        told = [(c.version, c.priority, c.taken, c.installed) for c in row.choices]
        assert told == [("20.4-1+fix2", -1, False, False), ("20.4-1", 500, True, True)]
        assert row.choices[0].why == "by /etc/apt/preferences.d/quayside:1"
        trial = one(system, "tidegauge=1:3.0~trial1-1")
        assert trial.version == "1:3.0~trial1-1"
        assert trial.choices is not None
        assert trial.choices[0].priority == 1
        assert [o.order for o in trial.installed_here] == ["older"]
    with open_system(str(curlew)) as system:
        row = one(system, "tidegauge")
        assert row.choices is not None
        assert "stream tide:2" in row.choices[0].verdict
        assert (row.version, row.choices[0].version) == ("1:2.1-3", "1:3.0-1")


def test_any_takes_what_is_installed_first(station: System) -> None:
    row = one(station, "tidetables", Scope.ANY)
    assert (row.state, row.version) == ("installed", "2026.2-1")
    assert row.choices is not None
    assert row.choices[0].version == "2026.3-1"
    assert one(station, "saltwort", Scope.ANY).state == "available"
    several = dossier(station, ["tide*"], scope=Scope.ANY).records
    states = {row.name: row.state.value for row in several}
    assert states == {"tidegauge": "installed", "tidetables": "installed",
                      "tidetables-calc": "installed", "tide-essentials": "available"}  # fmt: skip


@pytest.mark.parametrize(
    ("subject", "said"),
    [("kitiwake", "did you mean kittiwake"), ("mail-courier", "a name that others provide"),
     ("kittiwake=9", "nothing that is offered is kittiwake=9"),
     ("/usr/bin/halibut", "nothing that is offered has the path")],
)  # fmt: skip
def test_what_is_not_offered(station: System, subject: str, said: str) -> None:
    answer = dossier(station, [subject], scope=OFFERED)
    assert (answer.records, answer.exit_status) == ([], 1)
    assert said in answer.notes[0]


def test_a_path_as_a_subject(station: System) -> None:
    assert one(station, "/usr/bin/kittiwake").name == "kittiwake"
    assert one(station, "/usr/bin/kittiwa?e", Scope.ANY).name == "kittiwake"


def test_what_would_bring_a_path(station: System) -> None:
    asked = ["/usr/bin/kittiwake", "/usr/sbin/weirgate", "/etc/weir*"]
    answer = owner(station, asked, scope=OFFERED)
    told = [(row.path, [(o.name, o.how.value) for o in row.owners]) for row in answer.records]
    assert told == [
        ("/usr/bin/kittiwake", [("kittiwake", "offered")]),
        ("/usr/sbin/weirgate", [("weirgate", "offered")]),
        ("/etc/weirgate.conf", [("weirgate", "offered")]),
    ]
    by_name = owner(station, ["weirgate"], scope=OFFERED).records
    assert by_name[0].path == "/usr/sbin/weirgate"
    assert {row.path.rpartition("/")[2] for row in by_name} == {"weirgate"}
    both = owner(
        station, ["/usr/bin/tidegauge", "kittiwake", "/usr/sbin/gullcheck"], scope=Scope.ANY
    )
    hows = {row.path: [o.how.value for o in row.owners] for row in both.records}
    assert hows["/usr/bin/tidegauge"] == ["listed"]
    assert hows["/usr/bin/kittiwake"] == ["offered"]
    assert hows.get("/usr/sbin/gullcheck", []) == []
    assert both.exit_status == 1


def test_contents_of_what_is_not_installed(station: System) -> None:
    rows = contents(station, ["kittiwake"], scope=OFFERED).records
    roles = {row.path: row.role.value for row in rows}
    assert roles["/usr/bin/kittiwake"] == "program"
    assert roles["/usr/share/man/man1/kittiwake.1"] == "manual"
    assert all(row.size is None and row.mode is None for row in rows)


def test_without_an_index_of_paths_that_is_a_gap(own_heron: Path) -> None:
    for path in (own_heron / "var/lib/apt/lists").glob("*Contents*"):
        path.write_bytes(path.read_bytes()[:-9] + b"forgotten")
    with open_system(str(own_heron)) as system:
        answer = contents(system, ["kittiwake"], scope=OFFERED)
        assert answer.records == []
        assert any("the paths of kittiwake" in gap.what for gap in answer.gaps)
        assert any("Contents" in gap.what for gap in answer.gaps)
        asked = owner(system, ["/usr/bin/kittiwake"], scope=OFFERED)
        assert asked.exit_status == 1


def test_needs_of_what_is_not_installed(station: System) -> None:
    answer = needs(station, ["tide-essentials"], scope=OFFERED)
    told = {row.name: row.status.value for row in answer.records if row.status}
    assert told == {"tidegauge": "met", "tidetables": "met", "weatherglass": "met",
                    "saltwort": "available", "siltmeter": "met"}  # fmt: skip
    (fetched,) = [row for row in answer.records if row.repository]
    assert fetched.name == "saltwort"
    assert (answer.summary.to_fetch, answer.summary.unmet) == (1, 0)
    deep = needs(station, ["tide-essentials"], None, scope=Scope.ANY)
    assert {row.via for row in deep.records if row.name == "libfathom1"} >= {"saltwort"}
    # What is installed and lacks a need is told who would meet it.
    lacking = needs(station, ["lockgate-firmware"], scope=Scope.ANY)
    sluice = [row for row in lacking.records if row.status is NeedStatus.AVAILABLE]
    assert {(row.name, row.version) for row in sluice} == {("libsluice3", "3.2.0-1")}


def test_what_is_offered_and_needs_it(station: System) -> None:
    offered = needed_by(station, ["libgannet6"], scope=OFFERED).records
    assert {row.name for row in offered} == {"chartroom", "kittiwake", "mudflat-window"}
    both = needed_by(station, ["libgannet6"], scope=Scope.ANY).records
    here = {row.name for row in both if row.repository is None}
    assert (here, {row.name for row in both} - here) == (
        {"chartroom"},
        {"kittiwake", "mudflat-window"},
    )
    assert needed_by(station, ["kittiwake"], scope=OFFERED).records == []


def test_groups(station: System) -> None:
    answer = groups(station)
    by_name = {row.identity: row for row in answer.records}
    for group in GROUPS:
        row = by_name[group.identity]
        expected = {*group.mandatory, *group.default, *group.optional}
        assert {member.name for member in row.members} == {package_name(n) for n in expected}
        installed = {p.name for p in station.packages if p.state.present}
        assert {m.name for m in row.members if m.installed} == expected & installed
    if station.family.name == "rpm":
        house = by_name["gauge-house"]
        assert house.groups == [group.identity for group in GROUPS]
        assert len(house.members) == 13
        (row,) = groups(station, ["Gauge station"]).records
        kinds = {member.name: member.membership.value for member in row.members}
        assert (kinds["tidegauge"], kinds["kittiwake"]) == ("mandatory", "optional")
        assert (row.name, row.missing) == ("Gauge station", 1)
    wrong = groups(station, ["gauge-staton"])
    assert "did you mean gauge-station" in wrong.notes[0]
    assert wrong.exit_status == 1


def test_one_repository_alone(heron: Path) -> None:
    with open_system(str(heron)) as system:
        urgent = RepositoryOptions(("saltmarsh-urgent",))
        row = dossier(system, ["jetty"], scope=OFFERED, options=urgent).records[0]
        assert row.choices is not None
        assert [choice.version for choice in row.choices] == ["1.1.0-2+fix1", "1.1.0-2"]
        assert [choice.repositories for choice in row.choices][1] == []
        assert dossier(system, ["kittiwake"], scope=OFFERED, options=urgent).exit_status == 1


@pytest.mark.parametrize(
    "words",
    [("dossier", "kittiwake"), ("contents", "saltwort"), ("owner", "weirgate"),
     ("needs", "kittiwake"), ("needed-by", "libgannet6"), ("census", "kittiwake")],
)  # fmt: skip
def test_the_program_takes_scopes(
    call: Run, heron: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, words: tuple[str, ...]
) -> None:
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    for scope in ("--available", "--any"):
        done = call(*words, scope, "--root", str(heron), "--format", "jsonl")
        assert done.returncode in (0, 3)
        assert done.stdout
    done = call(*words, "--any", "--available", "--root", str(heron))
    assert done.returncode == 2


def test_scopes_and_archives_cannot_go_together(call: Run, heron: Path) -> None:
    done = call("owner", "x", "--in", "./x.deb", "--any", "--root", str(heron))
    assert done.returncode == 2
