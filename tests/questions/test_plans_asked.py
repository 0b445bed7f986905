"""The questions about what could be: on the stations, on archives, and over the installed program."""

import json
from pathlib import Path
from typing import Any

import pytest

from filigree.demo import deb
from filigree.demo.goods import goods_of
from filigree.demo.world import Ware
from filigree.model.package import Package
from filigree.questions.asking.scopes import Scope, looking
from filigree.questions.commands.needs import needs
from filigree.questions.commands.obstacles import ObstacleRow, obstacles
from filigree.questions.commands.whatif import WhatifRow, whatif
from filigree.questions.planning.outcomes import PlanAction, Wishes
from filigree.questions.planning.plans import Planner
from filigree.questions.planning.world import SystemWorld
from filigree.system import System, open_system
from tests.conftest import Run
from tests.planning.checking import checked


def acts(rows: list[WhatifRow]) -> dict[str, list[str]]:
    found: dict[str, list[str]] = {}
    for row in rows:
        found.setdefault(row.action.value, []).append(row.name)
    return found


def judged(root: Path, *subjects: str) -> list[ObstacleRow]:
    with open_system(str(root)) as system:
        return obstacles(system, subjects).records


def sentences(row: ObstacleRow) -> list[tuple[int, str]]:
    return [(reason.set, reason.sentence) for reason in row.reasons]


def test_what_goes_with_a_library_and_what_is_left_over(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = whatif(system, drop=["libbrine2"])
    assert acts(answer.records) == {
        "drop": ["libbrine2", "chartroom", "libbrine-dev", "siltmeter", "station-report", "tidegauge",
                 "tidetables", "tidetables-calc"],
        "leftover": ["brine-data", "chart-data", "estuary-fonts", "gullpost", "gullpost-config",
                     "libgannet6", "libperiwinkle12"],
    }  # fmt: skip
    reasons = {row.name: row.reason for row in answer.records}
    assert reasons["tidetables-calc"] == "it needs libbrine2 (>= 2.1), which would be gone"
    assert reasons["tidetables"] == "it needs tidetables-calc (>= 2026), which would be gone"
    assert reasons["brine-data"] == "only libbrine2 needed it"
    summary = answer.summary
    assert summary.chosen_lost == [
        "chartroom", "siltmeter", "station-report", "tidegauge", "tidetables",
    ]  # fmt: skip
    gone = sum(row.installed_size or 0 for row in answer.records if row.action is PlanAction.DROP)
    assert summary.disk_change == -gone
    assert summary.room
    assert answer.exit_status == 1


def test_what_is_protected_is_said_loudest(heron: Path, call: Run) -> None:
    done = call("whatif", "--drop", "coastbase", "--root", str(heron), "--format", "table")
    assert done.stdout.startswith("This system is not meant to be without: coastbase")
    assert done.returncode == 1


def test_what_comes_and_who_asks_for_it(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = whatif(system, ["weirgate"])
        assert acts(answer.records) == {
            "drop": ["lockgate", "lockgate-firmware"], "add": ["weirgate"],
        }  # fmt: skip
        assert answer.summary.chosen_lost == ["lockgate"]
        again = whatif(system, ["tidegauge"])
        assert again.summary.remarks == ["tidegauge 1:2.1-3 is installed already"]
        assert again.records == []


@pytest.mark.parametrize("station", ["heron", "curlew"])
def test_everything_as_new_as_can_be(station: str, request: pytest.FixtureRequest) -> None:
    with open_system(str(request.getfixturevalue(station))) as system:
        answer = whatif(system, upgrade=["*"])
        assert set(acts(answer.records)) == {"upgrade"}
        assert "foghorn is held at 3.2.0-1, and stays" in answer.summary.remarks
        ways = answer.summary.ways
        assert ways is not None
        assert ways.without_dropping.dropped == []
        freer = whatif(system, upgrade=["*"], may_drop=True)
        assert len(acts(freer.records)["upgrade"]) == ways.with_dropping.upgraded
        assert ways.with_dropping.upgraded >= ways.without_dropping.upgraded
        if station == "curlew":
            rows = {row.name: row for row in freer.records}
            assert rows["ropewalk-common"].replaced
            assert rows["ropewalk-common"].reason == "ropewalk-patterns takes its place"
            assert ways.with_dropping.dropped == freer.summary.chosen_lost == ["ropewalk"]


def test_one_upgraded_by_name(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = whatif(system, upgrade=["whelk", "tidegauge"])
        assert acts(answer.records) == {"upgrade": ["whelk", "libwhelk2"]}
        assert answer.summary.remarks == ["nothing newer of tidegauge would be taken"]
        against = whatif(system, upgrade=["foghorn"])
        assert against.summary.remarks == ["foghorn is held at 3.2.0-1: this goes against it"]


def test_recommendations_come_where_they_are_asked_for(heron: Path) -> None:
    with open_system(str(heron)) as system:
        plain = whatif(system, ["tide-essentials"])
        more = whatif(system, ["tide-essentials"], recommends=True)
    assert set(acts(plain.records)["add"]) < set(acts(more.records)["add"]) or plain.records == (
        more.records
    )


def test_obstacles_in_sentences(heron: Path, archives: dict[str, Path]) -> None:
    lantern = next(str(p) for n, p in archives.items() if n.startswith("lanternfish_"))
    weirgate, foghorn, fish, quayside = judged(heron, "weirgate", "foghorn", lantern, "quayside")
    assert sentences(weirgate) == [
        (1, "weirgate 0.9-4 conflicts with lockgate: lockgate 1.8-5 (installed)"),
        (1, "lockgate 1.8-5 is installed, chosen by a person, and is not to be dropped"),
    ]
    assert weirgate.helps == ["dropping lockgate, lockgate-firmware would make way"]
    assert sentences(foghorn) == [(1, "foghorn is held at 3.2.0-1")]
    assert foghorn.helps == ["letting go of the hold on foghorn would make way"]
    assert {one for _, one in sentences(fish)} == {
        "lanternfish 0.3-1 needs libglow1 (>= 2), and nothing that is here or offered has that",
        "lanternfish 0.3-1 needs libbrine2 (>= 3), and there is only libbrine2 2.1.4-3 (installed)",
        "lanternfish 0.3-1 conflicts with foghorn (<< 4): foghorn 3.2.0-1 (installed and held)",
        "foghorn is held at 3.2.0-1",
    }
    assert {number for number, _ in sentences(fish)} == {1, 2, 3}
    assert fish.helps == []
    assert quayside.installable is True


def test_an_archive_of_another_family_or_machine(heron: Path, archives: dict[str, Path]) -> None:
    strange = next(str(p) for n, p in archives.items() if n.endswith(".rpm"))
    (row,) = judged(heron, strange)
    assert [reason.kind for reason in row.reasons] == ["family"]
    with open_system(str(heron)) as system:
        world = SystemWorld(system)
        assert system.database.rules.machines[0] == "amd64"
        assert world.machine_of(Package("a", "1", "all", "deb")) == "amd64"


def test_the_archives_of_a_family_at_its_station(curlew: Path, archives: dict[str, Path]) -> None:
    paths = sorted(str(path) for name, path in archives.items() if name.endswith(".rpm"))
    rows = judged(curlew, *paths)
    assert {row.subject: row.installable for row in rows} == {
        "foghorn": False, "harbourlog": True, "jetty": True, "lanternfish": False, "ropewalk": True,
        "siltmeter": True, "tidegauge": True, "weatherglass": True,
    }  # fmt: skip
    with open_system(str(curlew)) as system:
        gauge = next(path for path in paths if "tidegauge" in path)
        answer = whatif(system, [gauge])
    (row,) = answer.records
    assert (row.action, row.before, row.repository) == (PlanAction.UPGRADE, "1:2.1-3", None)


@pytest.mark.parametrize("station", ["heron", "curlew"])
def test_every_offer_gets_a_plan_that_checks_out_or_obstacles(
    station: str, request: pytest.FixtureRequest
) -> None:
    with (
        open_system(str(request.getfixturevalue(station))) as system,
        looking(system, Scope.AVAILABLE) as lookup,
    ):
        assert lookup.offered is not None
        world = SystemWorld(system, lookup)
        before = set(checked(world, world.installed()))
        for name in sorted(lookup.offered.names()):
            for one in world.versions(name):
                outcome = Planner(world, Wishes(add=[one.package])).decide()
                if outcome.found:
                    assert set(checked(world, [i.package for i in outcome.final])) <= before, name
                else:
                    assert outcome.obstacles, name


def test_the_program_takes_a_bare_upgrade(run: Run, heron: Path, tmp_path: Path) -> None:
    def ask(*words: str) -> tuple[int, Any]:
        done = run("whatif", *words, "--root", str(heron), "--format", "json",
                   XDG_CACHE_HOME=str(tmp_path))  # fmt: skip
        return done.returncode, json.loads(done.stdout) if done.stdout else done.stderr

    status, bare = ask("--upgrade")
    assert status == 3, "one repository was never fetched"
    assert ask("--upgrade", "*")[1]["records"] == bare["records"]
    status, both = ask("--upgrade", "--drop", "foghorn")
    assert {"drop", "upgrade"} <= {record["action"] for record in both["records"]}
    status, words = ask()
    assert status == 2
    assert "give --add, --drop or --upgrade" in words
    status, unknown = ask("--add", "wiergate")
    assert status == 1
    assert unknown["records"] == []


def test_what_is_not_offered_and_what_is_not_installed(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = whatif(system, drop=["weirgate", "wiergate"])
        assert answer.exit_status == 1
        assert any("weirgate" in note for note in answer.notes)


def test_without_repositories_an_archive_is_judged_by_what_is_here(
    own_heron: Path, archives: dict[str, Path]
) -> None:
    import shutil

    shutil.rmtree(own_heron / "var/lib/apt/lists")
    gauge = next(str(p) for n, p in archives.items() if n == "tidegauge_2.2-1_amd64.deb")
    (row,) = judged(own_heron, gauge)
    assert row.installable is not None
    assert row.installable or row.reasons


def test_nothing_is_written_below_the_root(heron: Path) -> None:
    before = {path: path.lstat().st_mtime_ns for path in heron.rglob("*")}
    with open_system(str(heron)) as system:
        _everything(system)
    assert before == {path: path.lstat().st_mtime_ns for path in heron.rglob("*")}


def _everything(system: System) -> None:
    whatif(system, ["weirgate"], ["tidegauge"], ["*"], True, True)
    obstacles(system, ["weirgate"])


def _archive(folder: Path, ware: Ware, machine: str = "amd64") -> str:
    path = folder / f"{ware.name}_{ware.version}_{machine}.deb"
    one = deb.Installed(ware, goods_of(ware, "/usr/lib"), architecture=machine)
    path.write_bytes(deb.archive(one))
    return str(path)


def test_archives_that_are_given_together_meet_each_others_needs(
    heron: Path, tmp_path: Path
) -> None:
    first = _archive(tmp_path, Ware("foamfleck", "1-1", "net", "Foam", needs="libspume1 (>= 2)"))
    other = _archive(tmp_path, Ware("libspume1", "2-1", "libs", "More foam"))
    with open_system(str(heron)) as system:
        alone = whatif(system, [first])
        assert alone.summary.possible is False
        assert alone.summary.obstacles == [
            "foamfleck 1-1 needs libspume1 (>= 2), and nothing that is here or offered has that"
        ]
        assert acts(whatif(system, [first, other]).records) == {"add": ["foamfleck", "libspume1"]}
        (row,) = needs(system, [first]).records
        assert row.status == "unmet"
        (row,) = needs(system, [first, other]).records
        assert (row.name, row.status, row.repository) == ("libspume1", "available", None)
        judged_ = obstacles(system, [first, other]).records
        assert [row.installable for row in judged_] == [True, True]


def test_an_archive_for_another_machine(heron: Path, tmp_path: Path) -> None:
    path = _archive(tmp_path, Ware("foamfleck", "1-1", "net", "Foam"), "riscv64")
    (row,) = judged(heron, path)
    assert sentences(row) == [
        (1, "it is made for riscv64, and this system takes amd64, arm64, all")
    ]
    assert row.helps == []
