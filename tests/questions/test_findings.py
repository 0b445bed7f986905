"""What is wrong, told once and worst first: each rule where it fires and where it must not."""

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterable
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import NamedTuple

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from filigree.demo.repository import STRANGER, detached, public_key
from filigree.formats.office_files import (
    OfficeFileError,
    Waiver,
    read_settings,
    read_waivers,
    waiver_text,
)
from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.model.findings import Finding, Part, Severity
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.rules import observed
from filigree.questions.rules.findings import (
    FindingsSummary,
    FindingsWish,
    every_rule,
    findings,
    rules,
)
from filigree.questions.rules.waivers import load_waivers, proposed
from filigree.system import open_system
from tests.making import INFO, STATUS, DebRoot, md5

NOW = datetime(2026, 3, 1, 12, tzinfo=UTC)
LOG = "var/log/dpkg.log"
HIDES = "var/lib/dpkg/diversions"


def told(root: Path | str, wish: FindingsWish | None = None) -> Answer[Finding, FindingsSummary]:
    with open_system(str(root)) as system:
        return findings(system, wish or FindingsWish(now=NOW))


def built(folder: Path) -> DebRoot:
    """A sound root: nothing is to be found in it."""
    root = DebRoot(folder)
    root.package(
        "chart", files={"/usr/bin/plot": b"chart", "/usr/share/chart/data": b"data",
                        "/usr/lib/libchart.so.1": b"code",
                        "/usr/lib/systemd/system/chart.service": b"[S]"},
        config={"/etc/chart.conf": b"a = 1\n", "/etc/cron.d/chart": b"x"},
    )  # fmt: skip
    root.package("bell", "2.0-1", files={"/usr/bin/bell": b"bell"}, Depends="chart (>= 1.0)")
    for path in ("usr/bin/plot", "usr/bin/bell"):
        (folder / path).chmod(0o755)
    root.write("var/lib/dpkg/statoverride", "root root 0755 /usr/bin/bell\n")
    root.write("etc/passwd", f"root:x:{os.getuid()}:0::/root:/bin/dsh\n")
    root.write("etc/group", f"root:x:{os.getgid()}:\n")
    root.write(LOG, "".join(
        f"2026-01-01 10:00:00 install {name}:amd64 <none> {version}\n"
        for name, version in (("chart", "1.0-1"), ("bell", "2.0-1"))
    ))  # fmt: skip
    for name in ("chart", "bell"):
        stamp = datetime(2026, 1, 1, 10, 1, tzinfo=UTC).timestamp()
        os.utime(folder / f"{INFO}/{name}.list", (stamp, stamp))
    return root


class Case(NamedTuple):
    """What is done to a sound root, and the rules that then find something: each, and no other."""

    do: Callable[[DebRoot], object]
    fires: frozenset[str]


def _status(root: DebRoot, was: str, is_: str) -> None:
    root.write(STATUS, (root.folder / STATUS).read_text().replace(was, is_))


def _unlink(path: str) -> Callable[[DebRoot], object]:
    return lambda root: (root.folder / path).unlink()


def _swap(path: str, content: bytes = b"other", mode: int = 0o755) -> Callable[[DebRoot], object]:
    return lambda root: root.write(path, content, mode)


def _mode(path: str, mode: int) -> Callable[[DebRoot], object]:
    return lambda root: (root.folder / path).chmod(mode)


def _link(path: str, target: str) -> Callable[[DebRoot], object]:
    def do(root: DebRoot) -> None:
        (root.folder / path).unlink(missing_ok=True)
        root.link(path, target)

    return do


def _source(text: str) -> Callable[[DebRoot], object]:
    return lambda root: root.write("etc/apt/sources.list", text)


def _package(name: str, at: str = "") -> Callable[[DebRoot], object]:
    def do(root: DebRoot) -> None:
        root.package(name, files={f"/usr/share/{name}": b"x"})
        if at:
            root.append(LOG, f"{at} install {name}:amd64 <none> 1.0-1\n")
        stamp = NOW.timestamp()
        os.utime(root.folder / f"{INFO}/{name}.list", (stamp, stamp))

    return do


def _both(*told: Callable[[DebRoot], object]) -> Callable[[DebRoot], object]:
    def do(root: DebRoot) -> None:
        for one in told:
            one(root)

    return do


def _fires(*names: str) -> frozenset[str]:
    return frozenset(names)


_LIST = "deb https://packages.example/coast saltmarsh main\n"
_PRESERVED = "etc/apt/sources.list"
CASES: dict[str, Case] = {
    "nothing": Case(lambda _: None, _fires()),
    # -- files of packages
    "a program is swapped": Case(_swap("usr/bin/plot"), _fires("code-altered")),
    "one of the same size": Case(_swap("usr/bin/plot", b"CHART"), _fires("code-altered")),
    "a library is swapped": Case(
        _swap("usr/lib/libchart.so.1", mode=0o644), _fires("code-altered")
    ),
    "a time alone is another": Case(
        lambda root: os.utime(root.folder / "usr/bin/plot", (10**9, 10**9)), _fires()
    ),
    "a unit is swapped": Case(
        _swap("usr/lib/systemd/system/chart.service", mode=0o644), _fires("start-altered")
    ),
    "data are swapped": Case(_swap("usr/share/chart/data", mode=0o644), _fires("data-altered")),
    "a setting is edited": Case(_swap("etc/chart.conf", mode=0o644), _fires()),
    "a job is edited": Case(_swap("etc/cron.d/chart", b"y", 0o644), _fires("start-edited")),
    "a program is gone": Case(_unlink("usr/bin/plot"), _fires("code-missing")),
    "a library is gone": Case(_unlink("usr/lib/libchart.so.1"), _fires("code-missing")),
    "data are gone": Case(_unlink("usr/share/chart/data"), _fires("data-missing")),
    "a setting is gone": Case(_unlink("etc/chart.conf"), _fires("data-missing")),
    "a program leads elsewhere": Case(
        _link("usr/bin/plot", "/var/tmp/plot"), _fires("leads-elsewhere")
    ),
    "data lead elsewhere": Case(
        _link("usr/share/chart/data", "/srv/data"), _fires("leads-elsewhere")
    ),
    "a program runs with others' rights": Case(
        _mode("usr/bin/bell", 0o4755), _fires("rights-came")
    ),
    "a program whose mode nothing tells has others' rights": Case(
        _mode("usr/bin/plot", 0o4755), _fires("rights-untold")
    ),
    "a program may be written by its group": Case(
        _mode("usr/bin/bell", 0o775), _fires("form-altered")
    ),
    "one may be written by anybody": Case(
        _mode("usr/bin/bell", 0o757), _fires("form-altered", "writable-by-anybody")
    ),
    "a directory of programs may be": Case(
        _mode("usr/bin", 0o777), _fires("writable-by-anybody")
    ),
    "a sticky one may be": Case(_mode("usr/bin", 0o1777), _fires()),
    # -- of nobody's
    "a program of nobody's": Case(_swap("usr/bin/new"), _fires("program-of-nobody")),
    "a file that cannot be run": Case(_swap("usr/bin/new", mode=0o644), _fires()),
    "one that runs with others' rights": Case(
        _swap("usr/bin/new", mode=0o4755), _fires("rights-came")
    ),
    "one that is found before a package's": Case(
        _swap("usr/local/bin/plot"), _fires("shadowing-program")
    ),
    "one that is found after it": Case(_swap("bin/plot"), _fires("program-of-nobody")),
    "one elsewhere": Case(_swap("usr/lib/chart/helper"), _fires("runnable-of-nobody")),
    "one outside of packages' places": Case(_swap("srv/helper"), _fires()),
    "a unit of nobody's": Case(
        _swap("etc/systemd/system/new.service", mode=0o644), _fires("start-of-nobody")
    ),
    "a job of nobody's": Case(
        _swap("etc/cron.d/new", mode=0o644), _fires("start-of-nobody")
    ),
    "what is loaded before all": Case(
        _swap("etc/ld.so.preload", mode=0o644), _fires("start-of-nobody")
    ),
    "a setting of nobody's": Case(_swap("etc/new.conf", mode=0o644), _fires()),
    "byte-compiled": Case(
        _swap("usr/lib/__pycache__/plot.cpython-311.pyc", mode=0o644), _fires()
    ),
    # -- packages
    "a need is unmet": Case(
        lambda root: _status(root, "chart (>= 1.0)", "chart (>= 1.1)"), _fires("need-unmet")
    ),
    "a need of nothing": Case(
        lambda root: _status(root, "chart (>= 1.0)", "quay"), _fires("need-unmet")
    ),
    "a package breaks": Case(
        lambda root: _status(root, "Package: bell\nStatus: install ok installed",
                             "Package: bell\nStatus: install ok half-configured"),
        _fires("package-broken"),
    ),
    "a package awaits triggers": Case(
        lambda root: _status(root, "Package: bell\nStatus: install ok installed",
                             "Package: bell\nStatus: install ok triggers-awaited"),
        _fires(),
    ),
    "a package is held": Case(
        lambda root: _status(root, "Package: bell\nStatus: install", "Package: bell\nStatus: hold"),
        _fires(),
    ),
    # -- trust
    "what the package system is told to run": Case(
        _swap("etc/apt/apt.conf.d/99quay", b"x", 0o644), _fires("hook-of-nobody")
    ),
    "what it is told besides": Case(
        _swap("etc/dpkg/dpkg.cfg.d/quay", b"x", 0o644), _fires("hook-of-nobody")
    ),
    "a key for everything": Case(
        lambda root: root.write("etc/apt/trusted.gpg.d/quay.asc", public_key(STRANGER)),
        _fires("key-for-everything"),
    ),
    "a repository need not be signed": Case(
        _source("deb [trusted=yes] https://packages.example/coast saltmarsh main\n"),
        _fires("unsigned-allowed"),
    ),
    "one is to be signed": Case(_source(_LIST), _fires()),
    "one is fetched in the clear": Case(
        _source("deb http://packages.example/coast saltmarsh main\n"), _fires("fetched-in-the-clear")
    ),
    "one that is switched off": Case(
        _source("# deb http://packages.example/coast saltmarsh main\n"), _fires()
    ),
    # -- policy
    "a diversion hides a program": Case(
        _both(
            lambda root: root.write(HIDES, "/usr/bin/plot\n/usr/bin/plot.away\n:\n"),
            _unlink("usr/bin/plot"),
        ),
        _fires("code-missing"),
    ),
    "a diversion that anybody could declare": Case(
        _both(
            lambda root: root.write(HIDES, "/usr/bin/plot\n/usr/bin/plot.away\nbell\n"),
            lambda root: (root.folder / "usr/bin/plot").rename(root.folder / "usr/bin/plot.away"),
            _swap("usr/bin/plot", b"mine"),
        ),
        _fires("policy-came-late", "program-of-nobody"),
    ),
    "a diversion for a package's own file": Case(
        _both(
            lambda root: root.write(HIDES, "/usr/bin/plot\n/usr/bin/plot.away\nquay\n"),
            lambda root: (root.folder / "usr/bin/plot").rename(root.folder / "usr/bin/plot.away"),
            lambda root: root.package("quay", files={"/usr/bin/plot": b"quay"}),
            _mode("usr/bin/plot", 0o755),
            lambda root: root.append(LOG, "2026-02-01 10:00:00 install quay:amd64 <none> 1.0-1\n"),
        ),
        _fires("policy-hides"),
    ),
    "an exclusion hides a program": Case(
        _both(
            lambda root: root.write("etc/dpkg/dpkg.cfg.d/quay", "path-exclude=/usr/bin/plot\n"),
            _unlink("usr/bin/plot"),
        ),
        _fires("policy-came-late", "hook-of-nobody"),
    ),
    "an exclusion hides papers": Case(
        _both(
            lambda root: root.write("etc/dpkg/dpkg.cfg.d/quay", "path-exclude=/usr/share/chart/*\n"),
            _unlink("usr/share/chart/data"),
        ),
        _fires("policy-came-late", "hook-of-nobody"),
    ),
    "an exclusion that hides nothing": Case(
        lambda root: root.write("etc/dpkg/dpkg.cfg.d/quay", "path-exclude=/usr/share/chart/*\n"),
        _fires("hook-of-nobody"),
    ),
    "an override hides another mode": Case(
        _both(
            lambda root: root.write(
                "var/lib/dpkg/statoverride",
                "root root 0755 /usr/bin/bell\nroot root 4755 /usr/bin/plot\n",
            ),
            _mode("usr/bin/plot", 0o4755),
        ),
        _fires("rights-untold"),
    ),
    # -- releases
    "a repository of another release": Case(
        _both(
            lambda root: root.write("etc/os-release", "ID=coast\nVERSION_CODENAME=saltmarsh\n"),
            _source(_LIST + "deb https://packages.example/coast driftwood main\n"),
        ),
        _fires("other-release"),
    ),
    "one of this release's fixes": Case(
        _both(
            lambda root: root.write("etc/os-release", "ID=coast\nVERSION_CODENAME=saltmarsh\n"),
            _source(_LIST + "deb https://packages.example/coast saltmarsh-security main\n"),
        ),
        _fires(),
    ),
    "one of somebody's who has no releases": Case(
        _both(
            lambda root: root.write("etc/os-release", "ID=coast\nVERSION_CODENAME=saltmarsh\n"),
            _source(_LIST + "deb https://quay.example/all stable main\n"),
        ),
        _fires(),
    ),
    "one of a release of a like name": Case(
        _both(
            lambda root: root.write("etc/os-release", "ID=coast\nVERSION_CODENAME=salt\n"),
            _source(_LIST + "deb https://packages.example/coast salt main\n"),
        ),
        _fires("other-release"),
    ),
    "a system that tells no release": Case(
        _source(_LIST + "deb https://packages.example/coast driftwood main\n"), _fires()
    ),
    # -- histories
    "a package that no history tells": Case(_package("quay"), _fires("history-hole")),
    "one that it tells": Case(_package("quay", "2026-03-01 10:00:00"), _fires()),
    "one that is not on record": Case(
        lambda root: root.append(LOG, "2026-03-01 10:00:00 install quay:amd64 <none> 1.0-1\n"),
        _fires("history-contradicted"),
    ),
    "another version than on record": Case(
        lambda root: root.append(LOG, "2026-03-01 10:00:00 upgrade bell:amd64 2.0-1 2.1-1\n"),
        _fires("history-contradicted"),
    ),
    "one that was removed again": Case(
        lambda root: root.append(
            LOG, "2026-03-01 10:00:00 install quay:amd64 <none> 1.0-1\n"
            "2026-03-01 11:00:00 remove quay:amd64 1.0-1 <none>\n",
        ),
        _fires(),
    ),
    "a log that goes back": Case(
        lambda root: root.append(LOG, "2025-06-01 10:00:00 remove quay:amd64 1.0-1 <none>\n"),
        _fires("history-impossible"),
    ),
    "a log of the future": Case(
        lambda root: root.append(LOG, "2031-06-01 10:00:00 remove quay:amd64 1.0-1 <none>\n"),
        _fires("history-impossible"),
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_each_rule_fires_where_it_is_to_and_nowhere_else(tmp_path: Path, name: str) -> None:
    root = built(tmp_path)
    CASES[name].do(root)
    answer = told(root.path)
    assert {one.rule for one in answer.records} == CASES[name].fires
    bad = any(one.severity.at_least(Severity.HIGH) for one in answer.records)
    assert answer.exit_status == (1 if bad else 3 if answer.gaps else 0)


@pytest.mark.parametrize(("days", "rule"), [(20, "policy-came-late"), (40, "policy-hides")])
def test_policy_that_hides_a_program_came_lately_or_long_ago(
    tmp_path: Path, days: int, rule: str
) -> None:
    """Its own time says that it is of 2001: on a disk that was not copied the inode's counts."""
    root = built(tmp_path)
    place = root.write("etc/dpkg/dpkg.cfg.d/quay", "path-exclude=/usr/bin/plot\n")
    os.utime(place, (10**9, 10**9))
    os.utime(root.folder / f"{INFO}/chart.list")  # installed today: nobody copied it
    (root.folder / "usr/bin/plot").unlink()
    wish = FindingsWish(now=datetime.now(UTC) + timedelta(days=days))
    assert rule in {row.rule for row in told(root.path, wish).records}
    told_of = FindingsWish(now=wish.now, policy_days=days + 1)
    assert "policy-came-late" in {row.rule for row in told(root.path, told_of).records}


def test_on_a_disk_that_was_copied_a_file_tells_its_time_itself(tmp_path: Path) -> None:
    root = built(tmp_path)
    place = root.write("etc/dpkg/dpkg.cfg.d/quay", "path-exclude=/usr/bin/plot\n")
    os.utime(place, (10**9, 10**9))
    (root.folder / "usr/bin/plot").unlink()
    rules = {row.rule for row in told(root.path, FindingsWish(now=datetime.now(UTC))).records}
    assert "policy-hides" in rules
    assert "policy-came-late" not in rules


def test_a_record_that_was_made_to_fit_is_only_seen_by_better_evidence(tmp_path: Path) -> None:
    """Without any archive at hand it is clean by its record, and no rule says otherwise."""
    root = built(tmp_path)
    root.write("usr/bin/plot", b"other", 0o755)
    sums = f"{INFO}/chart.md5sums"
    root.write(sums, (root.folder / sums).read_text().replace(md5(b"chart"), md5(b"other")))
    assert not told(root.path).records


# -- the stations ---------------------------------------------------------------------------

TRACES = {
    "heron": {"/usr/bin/tidegauge", "/usr/bin/siltmeter", "/usr/sbin/lockgate", "/usr/bin/foghorn-test",
              "/usr/sbin/gullcheck", "/etc/apt/trusted.gpg.d/quayside.asc",
              "/usr/share/tidetables/fog-05.tbl"},
    "curlew": {"/usr/sbin/mudflatd", "/usr/bin/ropewalk", "/usr/bin/weatherglass",
               "/var/lib/rpm/rpmdb.sqlite", "/usr/share/tidegauge/depth-02.tbl"},
    "plover": {"/usr/bin/foghorn", "/usr/bin/siltmeter", "/usr/lib/libbrine.so.2", "/usr/bin/gullcheck",
               "/usr/share/tidetables/buoy-14.tbl"},
    "dunlin": {"/usr/bin/siltmeter", "/usr/lib64/libbrine.so.2", "/usr/sbin/gullcheck",
               "/usr/bin/weatherglass", "/usr/share/tidetables/buoy-14.tbl"},
    "sanderling": {"/usr/bin/foghorn", "/usr/bin/siltmeter", "/usr/lib/libbrine.so.2",
                   "/usr/bin/gullcheck", "/usr/share/tidetables/buoy-14.tbl"},
}  # fmt: skip
CRITICAL = {
    "heron": {"record-made-to-fit", "code-altered", "rights-came", "leads-elsewhere"},
    "curlew": {"record-made-to-fit", "code-altered", "rights-came"},
    "plover": {"code-altered", "rights-came", "leads-elsewhere"},
    "dunlin": {"code-altered", "rights-came", "leads-elsewhere"},
    "sanderling": {"code-altered", "rights-came", "leads-elsewhere"},
}


@pytest.fixture(scope="module")
def at_stations(
    request: pytest.FixtureRequest,
) -> dict[str, Answer[Finding, FindingsSummary]]:
    return {name: told(request.getfixturevalue(name)) for name in TRACES}


@pytest.mark.parametrize("station", TRACES)
def test_every_trace_is_in_the_first_screen_and_nothing_else_is_critical(
    at_stations: dict[str, Answer[Finding, FindingsSummary]], station: str
) -> None:
    rows = at_stations[station].records
    first = {path for row in rows[:14] for path in row.paths}
    assert TRACES[station] <= first
    critical = [row for row in rows if row.severity is Severity.CRITICAL]
    assert {row.rule for row in critical} == CRITICAL[station]
    assert {path for row in critical for path in row.paths} <= TRACES[station]
    assert at_stations[station].exit_status == 1


def test_before_the_night_nothing_is_critical(settled: Path) -> None:
    rows = told(settled).records
    assert not [row for row in rows if row.severity is Severity.CRITICAL]
    assert {row.rule for row in rows} >= {"fix-missing", "fix-kept-back", "outsider", "left-over"}


def test_what_is_told_is_told_once_worst_first(
    at_stations: dict[str, Answer[Finding, FindingsSummary]],
) -> None:
    order = list(Severity)
    for answer in at_stations.values():
        ranks = [order.index(row.severity) for row in answer.records]
        assert ranks == sorted(ranks)
        seen = [(row.rule, path) for row in answer.records for path in row.paths]
        assert len(seen) == len(set(seen))
        assert sum(answer.summary.by_rule.values()) == answer.summary.findings


def test_a_tree_that_was_replaced_is_one_finding_and_hides_no_program(tmp_path: Path) -> None:
    tree = {f"/usr/lib/node/part-{number}": b"x" for number in range(40)}
    root = built(tmp_path)
    root.package("node", files={**tree, "/usr/bin/node": b"program"})
    (root.folder / "usr/bin/node").chmod(0o755)
    came, later = NOW - timedelta(days=9), NOW - timedelta(days=2)
    os.utime(root.folder / f"{INFO}/node.list", (came.timestamp(), came.timestamp()))
    root.append(LOG, f"{came:%Y-%m-%d %H:%M:%S} install node:amd64 <none> 1.0-1\n")
    for number, path in enumerate(tree):
        if number % 4 == 3:
            (root.folder / path[1:]).unlink()
            continue
        os.utime(root.write(path, b"newer"), (later.timestamp(), later.timestamp()))
    assert [row.rule for row in told(root.path).records] == ["tree-replaced"]
    root.write("usr/bin/node", b"swapped", 0o755)
    rows = told(root.path).records
    assert [row.rule for row in rows] == ["code-altered", "tree-replaced"]
    assert rows[1].count == 40
    assert rows[1].since == later


# -- what is asked, and what is not ---------------------------------------------------------


def test_parts_that_are_left_out_are_gaps(heron: Path) -> None:
    without = frozenset({Part.FILES, Part.REPOSITORIES})
    answer = told(heron, FindingsWish(without=without, now=NOW))
    assert {"files", "repositories"} <= {gap.what for gap in answer.gaps}
    assert not {"code-altered", "fix-missing"} & {row.rule for row in answer.records}
    assert "program-of-nobody" in {row.rule for row in answer.records}


def test_settings_change_severities_and_leave_rules_out(heron: Path) -> None:
    wish = FindingsWish(
        severities=(("outsider", Severity.CRITICAL),), left_out=frozenset({"code-altered"}), now=NOW
    )
    answer = told(heron, wish)
    severities = {row.rule: row.severity for row in answer.records}
    assert severities["outsider"] is Severity.CRITICAL
    assert "code-altered" not in severities
    assert answer.summary.left_out == ["code-altered"]


@pytest.mark.parametrize("wish", [
    FindingsWish(rules=frozenset({"code-alterd"})), FindingsWish(left_out=frozenset({"x"})),
    FindingsWish(severities=(("y", Severity.LOW),)),
])  # fmt: skip
def test_a_rule_that_is_none_is_a_bad_question(heron: Path, wish: FindingsWish) -> None:
    with pytest.raises(BadQuestion) as error:
        told(heron, wish)
    if "code-alterd" in wish.rules:
        assert error.value.advice == "did you mean code-altered?"


def test_only_the_worst(heron: Path) -> None:
    answer = told(heron, FindingsWish(least=Severity.HIGH, fail_at=Severity.CRITICAL, now=NOW))
    assert {row.severity for row in answer.records} == {Severity.CRITICAL, Severity.HIGH}
    assert answer.summary.findings > answer.summary.told == len(answer.records)
    assert answer.exit_status == 1


def test_every_rule_declares_what_it_is(heron: Path) -> None:
    every = [rule.facts for rule in every_rule()]
    assert len({one.identity for one in every}) == len(every) >= 41
    for one in every:
        assert all((one.title, one.looks_at, one.why, one.mistaken, one.ask))
        assert one.parts
    with open_system(str(heron)) as system:
        assert rules(system).summary.rules == len(every)
        assert rules(system, "code-altered").records[0].identity == "code-altered"
        with pytest.raises(BadQuestion):
            rules(system, "nothing")


# -- waivers --------------------------------------------------------------------------------


def _proposals(rows: Iterable[Finding]) -> tuple[Waiver, ...]:
    text = "\n\n".join(waiver_text(one) for one in proposed(rows, "the keeper"))
    return tuple(read_waivers(text.encode()))


def _accepted(root: Path) -> tuple[Waiver, ...]:
    return _proposals(told(root, FindingsWish(now=NOW, exact=True)).records)


@pytest.mark.parametrize("station", TRACES)
def test_accepting_all_leaves_nothing_open(station: str, request: pytest.FixtureRequest) -> None:
    root: Path = request.getfixturevalue(station)
    answer = told(root, FindingsWish(now=NOW, waivers=_accepted(root)))
    assert not answer.records
    assert answer.summary.waived == answer.summary.findings
    assert answer.exit_status in (0, 3)


def _troubled(folder: Path) -> DebRoot:
    """A root with something of every sort: of a package, of nobody's, of many files."""
    root = built(folder)
    root.write("usr/bin/plot", b"other", 0o755)
    root.write("usr/bin/new", b"new", 0o755)
    root.write("etc/cron.d/new", b"new")
    for number in range(9):
        root.write(f"usr/lib/own/tool-{number}", b"x", 0o755)
    (root.folder / "usr/share/chart/data").unlink()
    root.append(LOG, "2026-03-01 10:00:00 install quay:amd64 <none> 1.0-1\n")
    return root


CHANGES: dict[str, tuple[Callable[[DebRoot], object], str]] = {
    "its content": (_swap("usr/bin/plot", b"yet another"), "code-altered"),
    "a content of nobody's, of the same size": (_swap("usr/bin/new", b"NEW"), "program-of-nobody"),
    "its mode": (_mode("usr/bin/new", 0o711), "program-of-nobody"),
    "one of many": (_swap("usr/lib/own/tool-4", b"y"), "runnable-of-nobody"),
    "one more of many": (_swap("usr/lib/own/tool-9", b"x"), "runnable-of-nobody"),
    "one less of many": (_unlink("usr/lib/own/tool-4"), "runnable-of-nobody"),
    "what starts something": (_swap("etc/cron.d/new", b"NEW", 0o644), "start-of-nobody"),
    "it is there again, and another": (
        _swap("usr/share/chart/data", b"date", 0o644), "data-altered"
    ),
    "another version in the history": (
        lambda root: root.append(LOG, "2026-03-01 11:00:00 upgrade quay:amd64 1.0-1 1.1-1\n"),
        "history-contradicted",
    ),
}  # fmt: skip


@pytest.mark.parametrize("name", CHANGES)
def test_any_change_of_what_was_accepted_brings_exactly_its_finding_back(
    tmp_path: Path, name: str
) -> None:
    root = _troubled(tmp_path)
    accepted = _accepted(root.folder)
    assert not told(root.path, FindingsWish(now=NOW, waivers=accepted)).records
    do, rule = CHANGES[name]
    do(root)
    back = told(root.path, FindingsWish(now=NOW, waivers=accepted)).records
    assert [one.rule for one in back] == [rule]


def test_a_waiver_that_ran_out_is_none(tmp_path: Path) -> None:
    root = _troubled(tmp_path)
    accepted = _accepted(root.folder)
    late = tuple(one._replace(until=NOW - timedelta(days=1)) for one in accepted)
    with open_system(root.path) as system:
        answer = findings(system, FindingsWish(now=NOW, waivers=late))
        assert len(answer.records) == answer.summary.findings
        assert "ran out on 2026-02-28" in (answer.records[0].explained_by or "")
        assert len(system.asides) == len(late)
    soon = tuple(one._replace(until=NOW + timedelta(days=1)) for one in accepted)
    assert not told(root.path, FindingsWish(now=NOW, waivers=soon)).records


@pytest.mark.parametrize("accepted", ["anything", "*", "", "set sha256:", f"set sha256:{'0' * 64}"])
def test_no_glob_accepts_what_it_was_not_made_of(tmp_path: Path, accepted: str) -> None:
    root = _troubled(tmp_path)
    rules_there = {one.rule for one in told(root.path).records}
    wide = tuple(
        Waiver(number, rule, "*", None, accepted, "a stranger", "x", None)
        for number, rule in enumerate(sorted(rules_there), 1)
    )
    with open_system(root.path) as system:
        answer = findings(system, FindingsWish(now=NOW, waivers=wide))
        assert {one.rule for one in answer.records} == rules_there
        if not accepted.startswith("set sha256:"):
            assert any("too wide" in words for words in system.asides)


def test_a_waiver_that_fits_nothing_is_told(tmp_path: Path) -> None:
    root = built(tmp_path)
    waiver = Waiver(1, "program-of-nobody", "/usr/bin/gone", None, "x", "the keeper", "x", None)
    with open_system(root.path) as system:
        findings(system, FindingsWish(now=NOW, waivers=(waiver,)))
        assert any("fits nothing any more" in words for words in system.asides)


def test_one_of_several_that_is_accepted_leaves_the_others_open(tmp_path: Path) -> None:
    root = built(tmp_path)
    for name in ("one", "two"):
        root.write(f"usr/bin/{name}", name, 0o755)
    some = [one for one in _accepted(root.folder) if one.what.endswith("one")]
    (row,) = told(root.path, FindingsWish(now=NOW, waivers=tuple(some))).records
    assert row.explained_by == "1 of 2 are accepted"
    assert not row.waived_by


def test_signed_waivers_count_and_others_do_not(tmp_path: Path) -> None:
    root = _troubled(tmp_path / "root")
    text = "\n\n".join(waiver_text(one) for one in _accepted(root.folder)).encode()
    path, keyring = tmp_path / "waivers.toml", tmp_path / "keys.asc"
    path.write_bytes(text)
    keyring.write_bytes(public_key())
    with open_system(root.path) as system:
        now = datetime.now(UTC)
        assert load_waivers(system, str(path), [str(keyring)], now) == ()  # unsigned
        (tmp_path / "waivers.toml.asc").write_bytes(detached(text))
        assert len(load_waivers(system, str(path), [str(keyring)], now)) > 4
        path.write_bytes(text.replace(b"the keeper", b"a stranger"))
        assert load_waivers(system, str(path), [str(keyring)], now) == ()
        assert findings(system, FindingsWish(now=NOW)).exit_status == 1


@given(st.text(min_size=1), st.text(min_size=1), st.text(min_size=1))
def test_waivers_are_written_as_they_are_read(what: str, accepted: str, why: str) -> None:
    if not all(one.strip() for one in (what, accepted, why)):
        return
    waiver = Waiver(1, "code-altered", what, None, accepted, "the keeper", why, None)
    try:
        text = waiver_text(waiver)
        data = text.encode()
    except UnicodeEncodeError:
        return
    assert text.replace("\n", "").isprintable()
    assert read_waivers(data) == [waiver]


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("x = ", "it is no TOML"), ("[[wavier]]\n", "nothing is called 'wavier'"),
        ("waiver = 3", "list of tables"), ("waiver = [3]", "list of tables"),
        ('[[waiver]]\nrule = "x"\n', "waiver 1: `what`"),
        ('[[waiver]]\nrule = "x"\nwhat = "y"\naccepted = " "\n', "waiver 1: `accepted`"),
        ('[[waiver]]\nwhy = "x"\nsince = "y"\n', "waiver 1: nothing is called 'since'"),
        ('[[waiver]]\nrule="a"\nwhat="b"\naccepted="c"\nby="d"\nwhy="e"\nuntil="soon"\n',
         "`until` is to be a date"),
        ('[[waiver]]\nrule="a"\nwhat="b"\naccepted="c"\nby="d"\nwhy="e"\npackage=1\n', "`package`"),
        ("\xff", "it is no TOML"), (f"x = {'[' * 5000}", "it is no TOML"),
    ],
)  # fmt: skip
def test_waivers_that_are_none(text: str, why: str) -> None:
    with pytest.raises(OfficeFileError, match=why.replace("`", ".")):
        read_waivers(text.encode("latin-1"))


@pytest.mark.parametrize(
    ("text", "why"),
    [
        ("[severity]\noutsider = 'worst'\n", "cannot be 'worst'"), ("[severities]\n", "'severities'"),
        ("severity = 1", "is to be a table"), ("[limits]\nindex-days = 0\n", "number of days"),
        ("[limits]\nindex-days = true\n", "number of days"),
        ("[limits]\npolicy-days = '7'\n", "policy-days"), ("[limits]\ndays = 1\n", "'days'"),
        ("[leave-out]\nrules = 'x'\n", "list of texts"),
        ("[leave-out]\nparts = ['x']\n", "cannot be 'x'"), ("[places]\nstarts = 'x'\n", "list of texts"),
    ],
)  # fmt: skip
def test_settings_that_are_none(text: str, why: str) -> None:
    with pytest.raises(OfficeFileError, match=why):
        read_settings(text.encode())


def test_settings() -> None:
    found = read_settings(
        b"[severity]\noutsider = 'high'\n[limits]\nindex-days = 30\npolicy-days = 7\n"
        b"[leave-out]\nrules = ['left-over']\nparts = ['history']\n[places]\nstarts = ['/opt/*']\n"
    )
    assert found.starting == ("/opt/*",)
    assert found.severities == (("outsider", Severity.HIGH),)
    assert (found.index_days, found.policy_days, found.left_out, found.without) == (
        30, 7, frozenset({"left-over"}), frozenset({Part.HISTORY}),
    )  # fmt: skip


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.binary(max_size=200))
def test_any_bytes_are_waivers_or_a_reason(data: bytes) -> None:
    for read in (read_waivers, read_settings):
        try:
            read(data)
        except OfficeFileError:
            continue


def test_an_office_says_what_else_starts_things(tmp_path: Path) -> None:
    root = built(tmp_path)
    root.write("etc/harbour/jobs/new", b"x")
    assert not told(root.path).records
    wish = FindingsWish(now=NOW, starting=("/etc/harbour/jobs/*",))
    assert [row.rule for row in told(root.path, wish).records] == ["start-of-nobody"]


def test_an_index_is_old_after_so_many_days(heron: Path) -> None:
    for days, fires in ((3, True), (400, False)):
        wish = FindingsWish(now=NOW, index_days=days, rules=frozenset({"index-old"}))
        titles = [row.title for row in told(heron, wish).records]
        assert any("not fetched for long" in title for title in titles) is fires


def test_a_keyring_of_the_auditors_own_says_which_key_is_the_offices(
    curlew: Path, tmp_path: Path
) -> None:
    keyring = tmp_path / "keys.asc"
    keyring.write_bytes(public_key())
    with open_system(str(curlew)) as system:
        options = RepositoryOptions(keyring=(str(keyring),))
        found = findings(system, FindingsWish(now=NOW), options).records
    assert "key-for-everything" not in {row.rule for row in found}
    assert "key-for-everything" in {row.rule for row in told(curlew).records}


def test_a_copy_of_a_station_in_another_place_has_the_same_findings(
    plover: Path, tmp_path: Path
) -> None:
    root = Path(shutil.copytree(plover, tmp_path / "copy", symlinks=True))
    there, here = (told(one).records for one in (plover, root))
    assert [(one.rule, one.paths, one.state) for one in here] == [
        (one.rule, one.paths, one.state) for one in there
    ]


def test_a_rule_from_another_distribution_package(tmp_path: Path, heron: Path) -> None:
    """Found by its entry point; one that takes a name that is taken is not asked."""
    from tests.conftest import beside

    site = tmp_path / "site"
    metadata = site / "tide_rules-1.dist-info"
    metadata.mkdir(parents=True)
    (site / "tide_rules.py").write_text(
        "from filigree.model.findings import Part, RuleFacts, Severity\n"
        "from filigree.questions.rules.protocol import FindingRule\n"
        "def judge(rule, seen):\n"
        "    yield rule.finding('the water is high', paths=['/usr/bin/tidegauge'])\n"
        "def facts(name):\n"
        "    return RuleFacts(name, Severity.LOW, 't', (Part.FILES,), 'l', 'w', 'm', 'verify {path}')\n"
        "RULES = [FindingRule(facts('water-high'), judge), FindingRule(facts('code-altered'), judge)]\n"
    )
    (metadata / "METADATA").write_text("Metadata-Version: 2.1\nName: tide-rules\nVersion: 1\n")
    (metadata / "entry_points.txt").write_text("[filigree.rules]\ntide = tide_rules:RULES\n")
    done = subprocess.run(
        [sys.executable, "-m", "filigree", "findings", "--root", str(heron), "--format", "jsonl"],
        env={**os.environ, "PYTHONPATH": beside(site)}, capture_output=True, text=True, check=False,
    )  # fmt: skip
    rows = [json.loads(line) for line in done.stdout.splitlines()]
    (ours,) = [row for row in rows if row["rule"] == "water-high"]
    assert (ours["title"], ours["advice"]) == ("the water is high", "verify /usr/bin/tidegauge")
    assert all(row["title"] != "the water is high" for row in rows if row["rule"] == "code-altered")


def test_who_fills_a_disk_fills_no_memory(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Of paths that a walk comes by so many are listed; the rest are counted, and a gap."""
    monkeypatch.setattr(observed, "NOTICED", 3)
    root = built(tmp_path)
    for number in range(8):
        root.write(f"usr/lib/open-{number}", b"x", 0o666)
    answer = told(tmp_path)
    (found,) = [one for one in answer.records if one.rule == "writable-by-anybody"]
    assert len(found.paths) == 3
    (gap,) = [gap for gap in answer.gaps if "written by anybody" in gap.what]
    assert gap.what.startswith("5 paths")
