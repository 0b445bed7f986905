"""What is asked of a fleet, against the same read out of the rows in plain Python."""

import json
import subprocess
import sys
from collections import Counter
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest

from filigree.demo.fleet import (
    FIRST_DAY,
    HOSTS,
    NEWER,
    NIGHT,
    VISITED,
    made_up,
    next_version,
    one_host,
)
from filigree.fleet.asked import Fleet, FleetWish, asked
from filigree.fleet.gate import Gathering, take_in
from filigree.fleet.questions.ask import ask
from filigree.fleet.questions.behind import fleet_behind
from filigree.fleet.questions.census import FleetCensusRow, FleetVersionsRow, fleet_census
from filigree.fleet.questions.changed import Changed, ChangedRow, changed
from filigree.fleet.questions.differ import DifferRow, differ
from filigree.fleet.questions.hosts import hosts
from filigree.fleet.questions.needed_by import fleet_needed_by
from filigree.fleet.questions.owner import fleet_owner
from filigree.fleet.questions.rare import RareRow, Rarity, rare
from filigree.fleet.questions.timeline import fleet_timeline
from filigree.fleet.questions.told import fleet_findings, fleet_gaps, fleet_keys, fleet_repos
from filigree.fleet.store import FleetStore
from filigree.fleet.taking import Taken
from filigree.fleet.tidying import Keeping, tidy
from filigree.model.answer import Answer

LAST = datetime(2026, 3, 9, tzinfo=UTC)
Hosts = dict[str, Taken]
VISITED_HOST = f"gauge-{VISITED:02d}"


@pytest.fixture(scope="module")
def last(taken: Hosts) -> Hosts:
    """Every host of the demo as it was seen last."""
    quiet = {"heron": taken["settled"], "curlew": taken["curlew"]}
    return {one.host: one for one in made_up(quiet, taken["heron"])}


def of(
    store: FleetStore, question: Callable[..., Answer[Any, Any]], *more: Any, **named: Any
) -> Answer[Any, Any]:
    with asked(store, named.pop("wish", FleetWish())) as fleet:
        return question(fleet, *more, **named)


def packages(host: Taken) -> list[tuple[str, str, str]]:
    """The name, version and build of each package of a host."""
    rows = (host.builds[str(row[0])].row for row in host.parts["sets"])
    return [(str(row[2]), str(row[3]), str(row[0])) for row in rows]


def test_everybody_is_there_with_what_each_has(forty: FleetStore, last: Hosts) -> None:
    answer = of(forty, hosts)
    assert len(answer.records) == HOSTS == answer.summary.hosts
    for row in answer.records:
        one = last[row.host]
        assert (row.packages, row.family) == (len(one.parts["sets"]), one.family)
        assert row.deviations == len(set(one.parts["deviations"]))
        assert row.gaps == len(one.parts["gaps"])


def test_a_cluster_is_of_those_alike_and_its_middle_what_most_of_them_have(
    forty: FleetStore, last: Hosts
) -> None:
    answer = of(forty, hosts)
    groups: dict[int, list[str]] = {}
    for row in answer.records:
        groups.setdefault(row.cluster, []).append(row.host)
    assert {frozenset(last[host].family for host in group) for group in groups.values()} == {
        frozenset({"deb"}), frozenset({"rpm"}),
    }  # fmt: skip
    for row in answer.records:
        group = groups[row.cluster]
        counts = Counter(build for host in group for _, _, build in packages(last[host]))
        middle = {build for build, number in counts.items() if 2 * number > len(group)}
        mine = {build for _, _, build in packages(last[row.host])}
        assert row.off == len(mine ^ middle), row.host


@pytest.mark.parametrize("names", [["tidegauge"], ["lib*"], ["tide*", "foghorn"], ["*"]])
def test_where_a_package_is(forty: FleetStore, last: Hosts, names: list[str]) -> None:
    import fnmatch

    expected = {
        (host, name, version)
        for host, one in last.items()
        for name, version, _ in packages(one)
        if any(fnmatch.fnmatchcase(name, glob) for glob in names)
    }
    rows = [
        row
        for row in of(forty, fleet_census, names, wish=FleetWish(by_host=True)).records
        if isinstance(row, FleetCensusRow)
    ]
    assert {(row.host, row.name, row.version) for row in rows} == expected
    counts = Counter((name, version) for _, name, version in expected)
    grouped = of(forty, fleet_census, names).records
    found: Counter[tuple[str, str]] = Counter()
    for row in grouped:
        assert isinstance(row, FleetVersionsRow)
        assert last[row.first_host].family == row.family
        found[row.name, row.version] += row.hosts
    assert {key: found[key] for key in counts if key[0] == "tidegauge"} == {
        key: number for key, number in counts.items() if key[0] == "tidegauge"
    }


def test_who_lags_behind(forty: FleetStore, last: Hosts) -> None:
    """Four in five had the newer build: the others are told, and nobody else."""
    versions = {
        host: version
        for host, one in last.items()
        for name, version, _ in packages(one)
        if name == NEWER
    }
    newest = max(versions.values(), key=len)
    rows = of(forty, fleet_census, [NEWER], newest, wish=FleetWish(by_host=True)).records
    assert {row.host for row in rows} == {host for host, told in versions.items() if told != newest}
    assert rows


def test_what_nobody_has_is_a_note_and_bad_news(forty: FleetStore) -> None:
    answer = of(forty, fleet_census, ["quaysider"])
    assert answer.notes == ["no host has a package called quaysider"]
    assert answer.exit_status == 1
    assert of(forty, fleet_owner, ["/usr/bin/none"]).notes == ["no host has /usr/bin/none"]
    wish = FleetWish(("none-*",))
    assert of(forty, hosts, wish=wish).notes == ["no host is called none-*"]


def test_whose_a_path_and_a_digest_is(forty: FleetStore, last: Hosts) -> None:
    path = "/usr/bin/tidegauge"
    answer = of(forty, fleet_owner, [path])
    on_record = [row for row in answer.records if row.verdict == "on-record"]
    expected = [
        host
        for host, one in last.items()
        if any(name == "tidegauge" for name, _, _ in packages(one))
    ]
    assert sum(row.hosts for row in on_record) == len(expected)
    (altered,) = (row for row in answer.records if row.verdict == "altered")
    assert (altered.hosts, altered.first_host) == (1, VISITED_HOST)
    by_digest = of(forty, fleet_owner, [altered.digest]).records
    assert [(row.path, row.hosts, row.verdict) for row in by_digest] == [(path, 1, "altered")]
    bare = of(forty, fleet_owner, [str(altered.digest).partition(":")[2]]).records
    assert [row.path for row in bare] == [path]


def test_the_intruder_is_found_by_what_only_one_has(forty: FleetStore) -> None:
    rows: list[RareRow] = of(forty, rare, 1).records
    assert {row.which[0] for row in rows if row.what in (Rarity.FILE, Rarity.KEY)} == {VISITED_HOST}
    first = rows[0]
    assert (first.what, first.subject, first.which) == (
        Rarity.FILE,
        "/usr/sbin/gullcheck",
        [VISITED_HOST],
    )
    assert any(row.what is Rarity.KEY for row in rows)
    assert [row.which for row in rows if row.what is Rarity.BUILD] == [[VISITED_HOST]]


def test_what_is_rare_is_what_the_plain_count_says(forty: FleetStore, last: Hosts) -> None:
    most = 10
    counts: dict[str, set[str]] = {}
    for host, one in last.items():
        for name, _, _ in packages(one):
            counts.setdefault(f"{name} {one.family}", set()).add(host)
    families = Counter(one.family for one in last.values())
    expected = {
        key: found for key, found in counts.items()
        if len(found) <= most and families[key.rpartition(" ")[2]] > most
    }  # fmt: skip
    answer = of(forty, rare, most, frozenset({Rarity.PACKAGE}))
    assert {f"{row.subject} {row.detail}": set(row.which) for row in answer.records} == expected
    assert any("rare" in gap.what for gap in answer.gaps) == (min(families.values()) <= most)


def test_the_intruder_is_found_by_what_is_unlike_the_rest(forty: FleetStore, last: Hosts) -> None:
    rows: list[DifferRow] = of(forty, differ).records
    assert {host for row in rows for host in row.which} == {VISITED_HOST}
    told = {row.path: row for row in rows}
    siltmeter = told["/usr/bin/siltmeter"]
    # Its record was made to fit: by that alone nothing is wrong, but the others' is another.
    assert (siltmeter.how, siltmeter.hosts) == ("record", 1)
    holders = [
        host for host, one in last.items()
        if one.family == "deb" and any(name == "siltmeter" for name, _, _ in packages(one))
    ]  # fmt: skip
    assert (siltmeter.most, siltmeter.of) == (len(holders) - 1, len(holders))
    assert told["/usr/bin/tidegauge"].how == "altered: content"
    assert told["/usr/sbin/lockgate"].how == "altered: mode"


def test_a_majority_is_a_count_and_not_the_truth(tmp_path: Path, taken: Hosts) -> None:
    """Where most were changed the few that were not are told as unlike them, with both counts."""
    store = FleetStore(str(tmp_path / "store"), make=True)
    told = [one_host(taken["heron"], f"a{n}", LAST, 2) for n in range(3)]
    told += [one_host(taken["settled"], "b", LAST, 2)]
    take_in(store, told, Gathering(now=LAST))
    rows: list[DifferRow] = of(store, differ).records
    (row,) = (row for row in rows if row.path == "/usr/bin/siltmeter")
    assert (row.which, row.hosts, row.most, row.of) == (["b"], 1, 3, 4)


def test_the_intruder_is_found_by_what_nothing_explains(forty: FleetStore, last: Hosts) -> None:
    since = FIRST_DAY + timedelta(days=NIGHT - 1, hours=1)
    rows: list[ChangedRow] = of(forty, changed, since, None).records
    assert {row.host for row in rows} == {VISITED_HOST}
    assert all(row.explained_by is None for row in rows)
    whole: list[ChangedRow] = of(forty, changed, FIRST_DAY + timedelta(hours=1), None).records
    moved = {row.host for row in whole if row.what is Changed.PACKAGE and row.subject == NEWER}
    assert moved == {
        host for host, one in last.items()
        if any(name == NEWER and version.endswith(".1") for name, version, _ in packages(one))
    }  # fmt: skip
    assert all(
        row.explained_by == "upgraded by the history" for row in whole if row.subject == NEWER
    )


def test_a_version_that_did_not_change_is_explained_by_no_history(
    tmp_path: Path, taken: Hosts
) -> None:
    """Other files under the same version, and a log that tells of an upgrade to it: no explanation."""
    store = FleetStore(str(tmp_path / "store"), make=True)
    before = one_host(taken["settled"], "a", FIRST_DAY, 2)
    old = next(one for one in before.builds.values() if one.row[2] == NEWER)
    new = next_version(old)
    new.row = (new.row[0], *old.row[1:])  # the same name and version, by other contents
    after = one_host(taken["settled"], "a", FIRST_DAY + timedelta(days=1), 2)
    after.builds = {**after.builds, new.identity: new}
    after.parts["sets"] = [
        (new.identity, *row[1:]) if row[0] == old.identity else row for row in after.parts["sets"]
    ]
    at = int((FIRST_DAY + timedelta(hours=9)).timestamp())
    after.parts["events"] = [
        *after.parts["events"], ("upgraded", NEWER, old.row[3], old.row[5], "/var/log/history", at),
    ]  # fmt: skip
    take_in(store, [before, after], Gathering(now=LAST))
    (row,) = of(store, changed, FIRST_DAY + timedelta(hours=1), None).records
    assert (row.subject, row.before, row.after, row.explained_by) == (
        NEWER, old.row[3], old.row[3], None,
    )  # fmt: skip


def test_as_of_a_day_everything_is_as_it_was_then(forty: FleetStore) -> None:
    wish = FleetWish(as_of=FIRST_DAY + timedelta(days=NIGHT - 1, hours=1))
    assert of(forty, differ, wish=wish).records == []
    early = of(forty, hosts, wish=FleetWish(as_of=FIRST_DAY - timedelta(days=1)))
    assert early.records == []
    assert any(gap.what == f"{HOSTS} hosts" for gap in early.gaps)


def test_globs_of_hosts(forty: FleetStore) -> None:
    told = of(forty, hosts, wish=FleetWish(("gauge-1?", "gauge-40"))).records
    assert {row.host for row in told} == {*(f"gauge-1{n}" for n in range(10)), "gauge-40"}


def test_keys_repositories_findings_and_gaps(forty: FleetStore, last: Hosts) -> None:
    keys = of(forty, fleet_keys).records
    assert {row.fingerprint: row.hosts for row in keys} == Counter(
        print_ for one in last.values() for print_ in {row[0] for row in one.parts["keys"]}
    )
    repos = of(forty, fleet_repos).records
    assert {(row.identity, row.address): row.hosts for row in repos} == Counter(
        pair
        for one in last.values()
        for pair in {(row[0], row[1]) for row in one.parts["repositories"]}
    )
    found = of(forty, fleet_findings)
    assert {row.rule: row.hosts for row in found.records} == Counter(
        rule for one in last.values() for rule in {row[0] for row in one.parts["findings"]}
    )
    assert found.records[0].severity == "critical"
    assert found.exit_status == 1
    each = of(forty, fleet_findings, wish=FleetWish(by_host=True)).records
    assert len(each) == sum(len(one.parts["findings"]) for one in last.values())
    gaps = of(forty, fleet_gaps).records
    assert {(row.what, row.why): row.hosts for row in gaps} == Counter(
        pair for one in last.values() for pair in set(one.parts["gaps"])
    )


BY_HOST: dict[str, Callable[[Fleet], Answer[Any, Any]]] = {
    "behind": fleet_behind, "owner": lambda fleet: fleet_owner(fleet, ["/usr/bin/tidegauge"]),
    "needed-by": lambda fleet: fleet_needed_by(fleet, ["libsaltc6"]), "timeline": fleet_timeline,
    "keys": fleet_keys, "repos": fleet_repos, "findings": fleet_findings, "gaps": fleet_gaps,
    "rare": lambda fleet: rare(fleet, 10), "differ": differ,
}  # fmt: skip


@pytest.mark.parametrize("name", BY_HOST)
def test_each_host_by_itself_is_the_question_asked_of_it_alone(
    forty: FleetStore, last: Hosts, name: str
) -> None:
    """What is grouped counts what is told by host; where it does not hang on the others, a host's records
    are those of a fleet that is that host."""
    grouped = of(forty, BY_HOST[name])
    each = of(forty, BY_HOST[name], wish=FleetWish(by_host=True)).records
    assert [row.host for row in each] == sorted(row.host for row in each)
    assert {row.host for row in each} <= set(last)
    if name != "findings":  # there one record of all hosts stands for several of each
        assert len(each) == sum(row.hosts for row in grouped.records)
    if name in ("rare", "differ"):
        return
    for host in ("gauge-04", VISITED_HOST):
        alone = of(forty, BY_HOST[name], wish=FleetWish((host,), by_host=True)).records
        assert alone == [row for row in each if row.host == host]


def test_what_is_behind_is_what_each_host_was_told(forty: FleetStore, last: Hosts) -> None:
    expected: Counter[tuple[str, str, str]] = Counter()
    urgent = set()
    for one in last.values():
        for package, _, version, candidate, _, status, _, security in set(one.parts["behind"]):
            if status != "ahead":
                expected[str(package), str(version), str(candidate)] += 1
            if security:
                urgent.add((package, version, candidate))
    answer = of(forty, fleet_behind)
    found: Counter[tuple[str, str, str]] = Counter()
    for row in answer.records:  # one for each repository that offers it
        found[row.name, row.installed, str(row.candidate)] += row.hosts
    assert found == expected
    assert answer.exit_status == 1
    only = of(forty, fleet_behind, True).records
    assert {(row.name, row.installed, row.candidate) for row in only} == urgent != set()


def test_a_store_that_was_compacted_answers_the_same(tmp_path: Path, taken: Hosts) -> None:
    store = FleetStore(str(tmp_path / "store"), make=True)
    for number in range(4):
        take_in(store, [one_host(taken["heron"], f"a{number}", LAST, number)], Gathering(now=LAST))
    questions: tuple[Callable[[Fleet], Answer[Any, Any]], ...] = (hosts, differ, rare, fleet_keys)
    before = [of(store, one).records for one in questions]
    tidy(store, Keeping())
    assert [of(FleetStore(store.address), one).records for one in questions] == before


# -- the program --------------------------------------------------------------------------------


def run(*words: str) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        [sys.executable, "-m", "filigree", "fleet", *words],
        check=False,
        capture_output=True,
        text=True,
    )


def test_the_program_gathers_asks_and_tells_it_in_every_format(tmp_path: Path, heron: Path) -> None:
    store = str(tmp_path / "store")
    done = run("gather", store, "--root", str(heron), "--name", "gauge-1")
    assert (done.returncode, done.stderr) == (0, "")
    assert done.stdout.startswith(f"{heron}\tgauge-1\tgathered\t")
    told = json.loads(run("census", store, "tidegauge", "--format", "json").stdout)
    assert (told["question"], told["schema"]) == ("fleet census", "filigree/1")
    assert told["records"][0]["hosts"] == 1
    assert told["gaps"][0]["what"] == "who vouches for 1 host"
    by_host = run("census", store, "tidegauge", "--group-by", "host", "--format", "csv").stdout
    assert by_host.splitlines()[0] == "host,name,version,architecture,family,state"
    assert by_host.splitlines()[1].startswith("gauge-1,tidegauge,1:2.1-3,")
    assert "gauge-1" in run("hosts", store, "--format", "table").stdout
    asked_ = run("ask", store, "SELECT host, packages AS n FROM snapshots", "--format", "csv")
    assert asked_.stdout == f"host,n\ngauge-1,{len(packages_of(store))}\n"
    assert asked_.returncode == 0


def packages_of(store: str) -> list[dict[str, object]]:
    return ask(FleetStore(store), "SELECT build FROM sets").records


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (["hosts", "none"], "no such folder"), (["gather", "store"], "nothing to gather"),
        (["gather", "store", "x.snapshot", "--name", "a"], "--name is of one root"),
        (["census", "none", "a", "--group-by", "colour"], "'colour'"),
        (["rare", "none", "--only", "colour"], "'colour'"),
        (["hosts", "none", "--as-of", "soon"], "'soon'"),
        (["gather", "store", "x.snapshot", "--hosts", "none.toml"], "cannot be read"),
    ],
)  # fmt: skip
def test_bad_input_is_a_clear_error(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, words: list[str], why: str
) -> None:
    monkeypatch.chdir(tmp_path)
    done = run(*words)
    assert done.returncode == 2
    assert why in done.stderr
    assert "Traceback" not in done.stderr


# -- what would be lost, and what was done --------------------------------------------------------


def _clauses(host: Taken) -> dict[str, dict[int, set[str]]]:
    """The hard clauses of each build of a host: of each one name has to be there."""
    found: dict[str, dict[int, set[str]]] = {}
    for row in host.parts["sets"]:
        for _, kind, _, name, clause in host.builds[str(row[0])].needs:
            if kind in ("requires", "requires-first") and name is not None:
                found.setdefault(str(row[0]), {}).setdefault(int(str(clause)), set()).add(str(name))
    return found


def lost_of(host: Taken, name: str) -> set[str]:
    """What would not work any more without a package, in plain steps."""
    there = {str(row[0]) for row in host.parts["sets"]}
    gives = {one: {str(row[1]) for row in host.builds[one].gives} for one in there}
    for one in there:
        gives[one] |= {str(row[1]) for row in host.builds[one].files}
    clauses = _clauses(host)
    every = set().union(*gives.values())
    gone = {one for one in there if host.builds[one].row[2] == name}
    first = set(gone)
    while True:
        left = set().union(*(gives[one] for one in there - gone)) if there - gone else set()
        more = {
            one for one in there - gone
            for names in clauses.get(one, {}).values()
            if not names & left and names & every  # met before, and not any more
        }  # fmt: skip
        if not more:
            return {str(host.builds[one].row[2]) for one in gone - first}
        gone |= more


@pytest.mark.parametrize(
    "name", ["libbrine2", "brine-data", "libsaltc6", "dsh", "foghorn", "cockle"]
)
def test_what_would_be_lost_is_what_plain_steps_find(
    forty: FleetStore, last: Hosts, name: str
) -> None:
    expected: Counter[str] = Counter()
    for one in last.values():
        expected.update(lost_of(one, name))
    rows = of(forty, fleet_needed_by, [name]).records
    found: Counter[str] = Counter()
    for row in rows:
        found[row.name] += row.hosts
        assert row.depth >= 1
        assert row.need
    assert found == expected


def test_steps_of_all_histories_day_by_day(forty: FleetStore, last: Hosts) -> None:
    expected: Counter[tuple[str, str, str]] = Counter()
    for one in last.values():
        steps = {
            (f"{datetime.fromtimestamp(int(str(row[5])), UTC):%Y-%m-%d}", str(row[0]), str(row[1]))
            for row in one.parts["events"] if row[5] is not None
        }  # fmt: skip
        expected.update(steps)
    answer = of(forty, fleet_timeline)
    found: Counter[tuple[str, str, str]] = Counter()
    for row in answer.records:
        if row.on is not None:
            found[row.on, row.action, row.package] += row.hosts
    assert set(found) == set(expected)
    assert found["2026-03-02", "upgraded", NEWER] == expected["2026-03-02", "upgraded", NEWER] > 20
    day = of(forty, fleet_timeline, FIRST_DAY, FIRST_DAY + timedelta(days=1)).records
    assert {(row.on, row.package) for row in day} == {("2026-03-02", NEWER)}
