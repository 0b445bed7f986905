"""A host of a store handed over: the same as of the root itself, as far as tables go."""

import json
from pathlib import Path
from typing import Any

import pytest

from filigree.demo.fleet import NEWER, VISITED
from filigree.fleet.handing import audit_of_held, findings_of_held, inventory_of
from filigree.fleet.held import Held, HostPlace, held_host
from filigree.fleet.store import FleetStore
from filigree.questions.reporting.audit import AuditPart
from filigree.questions.reporting.inventory import inventory
from filigree.questions.rules.findings import findings
from filigree.system import open_system
from tests.conftest import Run

HOST = f"gauge-{VISITED:02d}"


@pytest.fixture(scope="module")
def held(forty: FleetStore) -> Held:
    """The visited host: heron after the night, but for one upgrade."""
    return held_host(forty, HostPlace(forty.address, HOST, None))


def plain(component: Any) -> tuple[Any, ...]:
    package = component.package
    return package.name, package.architecture, package.state, package.reason, package.source


def test_its_inventory_is_that_of_the_root(held: Held, heron: Path) -> None:
    told = inventory_of(held, with_files=True)
    with open_system(str(heron)) as system:
        there = inventory(system, with_files=True)
    assert [plain(one) for one in told.records] == [plain(one) for one in there.records]
    mine = {one.package.name: one for one in told.records}
    for one in there.records:
        other = mine[one.package.name] if one.package.name != NEWER else None
        if other is None or one.package.architecture != other.package.architecture:
            continue
        assert other.package.version == one.package.version
        assert {file.path for file in other.files} == {file.path for file in one.files}
        assert set(other.unmet) <= set(one.unmet)  # by names alone
        named = {url.partition("@")[0].rpartition("/")[2] for url in one.needs}
        assert {url.partition("@")[0].rpartition("/")[2] for url in other.needs} >= named


def test_its_findings_are_those_of_the_root(held: Held, heron: Path) -> None:
    told = findings_of_held(held)
    with open_system(str(heron)) as system:
        there = findings(system)
    lasting = {(one.rule, one.title) for one in there.records}
    assert {(one.rule, one.title) for one in told.records} & lasting
    assert told.records[0].severity == "critical"
    grave = {(one.rule, one.title) for one in there.records if one.severity == "critical"}
    assert {(one.rule, one.title) for one in told.records if one.severity == "critical"} == grave


def test_what_tables_do_not_hold_is_a_gap(held: Held) -> None:
    told = audit_of_held(held, tuple(AuditPart))
    assert set(told.parts) == {
        AuditPart.FINDINGS, AuditPart.FILES, AuditPart.PACKAGES, AuditPart.BEHIND,
    }  # fmt: skip
    silent = {gap.what for gap in told.gaps if gap.why == "tables do not hold that"}
    assert silent == {f"{part} of it" for part in AuditPart if part not in told.parts}
    files = {row.path: row for row in told.parts[AuditPart.FILES].records}
    assert files["/usr/bin/tidegauge"].verdict == "altered"


@pytest.mark.parametrize("form", ["page", "cyclonedx", "spdx", "sarif", "mtree"])
def test_the_program_hands_it_over(run: Run, forty: FleetStore, tmp_path: Path, form: str) -> None:
    out = tmp_path / "out"
    done = run("report", str(out), "--as", form, "--root", f"{forty.address}#{HOST}")
    assert done.returncode == 3, done.stderr
    assert "anybody could have made it up" in done.stderr
    assert out.stat().st_size > 1000
    if form == "cyclonedx":
        assert len(json.loads(out.read_text())["components"]) > 50


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("--as", "junit"), "only what is not as it came"),
        (("--as", "spdx", "--stated"), "no such report"),
    ],
)  # fmt: skip
def test_what_tables_cannot_tell_is_refused(
    run: Run, forty: FleetStore, tmp_path: Path, words: tuple[str, ...], says: str
) -> None:
    out = tmp_path / "out"
    done = run("report", str(out), "--root", f"{forty.address}#{HOST}", *words)
    assert (done.returncode, out.exists()) == (2, False)
    assert says in done.stderr


def test_other_questions_take_no_host_of_a_store(run: Run, forty: FleetStore) -> None:
    done = run("verify", "--root", f"{forty.address}#{HOST}")
    assert done.returncode == 2
    assert "cannot be opened" in done.stderr
