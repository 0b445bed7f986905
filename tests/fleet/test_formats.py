"""Answers of a fleet in every format: the promise of their fields, and tables that fit the window."""

import csv
import io
import json
from collections.abc import Callable
from dataclasses import fields
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

from filigree.demo.fleet import FIRST_DAY
from filigree.fleet.asked import FleetWish, asked, at_host
from filigree.fleet.gate import Gathering, GatherRow, gather
from filigree.fleet.questions.ask import ask
from filigree.fleet.questions.behind import FleetBehindRow, fleet_behind
from filigree.fleet.questions.census import FleetCensusRow, FleetVersionsRow, fleet_census
from filigree.fleet.questions.changed import ChangedRow, changed
from filigree.fleet.questions.differ import DifferRow, differ
from filigree.fleet.questions.hosts import HostRow, hosts
from filigree.fleet.questions.needed_by import FleetNeededByRow, fleet_needed_by
from filigree.fleet.questions.owner import FleetOwnerRow, fleet_owner
from filigree.fleet.questions.rare import RareRow, rare
from filigree.fleet.questions.timeline import FleetStepRow, fleet_timeline
from filigree.fleet.questions.told import (
    FleetFindingRow,
    FleetGapRow,
    FleetKeyRow,
    FleetRepositoryRow,
    fleet_findings,
    fleet_gaps,
    fleet_keys,
    fleet_repos,
)
from filigree.fleet.store import FleetStore
from filigree.fleet.tidying import Keeping, TidyRow, tidy
from filigree.model.answer import Answer
from filigree.views.options import FleetOptions
from filigree.views.page import Ink
from filigree.views.pictures.fleet import fleet_picture
from filigree.views.render import SCREENS, Format, render

# The promise. A field may be added; one that is here never goes.
SCHEMA: dict[str, tuple[type, str]] = {
    "gather": (GatherRow, "what host outcome why snapshot vouched taken_at packages paths"),
    "tidy": (TidyRow, "table files_before files rows size_before size damaged"),
    "hosts": (HostRow, "host family label seen_at age packages deviations gaps vouched cluster off"),
    "census": (FleetVersionsRow, "hosts name version architecture family first_host"),
    "census by host": (FleetCensusRow, "host name version architecture family state"),
    "behind": (
        FleetBehindRow,
        "hosts name installed candidate repository status security advisories first_host",
    ),
    "behind by host": (
        at_host(FleetBehindRow),
        "host name installed candidate repository status security advisories",
    ),
    "rare by host": (at_host(RareRow), "host hosts what subject detail"),
    "keys by host": (at_host(FleetKeyRow), "host fingerprint identity everywhere weakness expires_at"),
    "owner": (FleetOwnerRow, "hosts path package version verdict digest first_host"),
    "rare": (RareRow, "hosts what subject detail which"),
    "differ": (DifferRow, "hosts most of path package version how found usual which"),
    "changed": (ChangedRow, "host what change subject before after explained_by"),
    "findings": (FleetFindingRow, "hosts severity rule title pieces first_host"),
    "keys": (FleetKeyRow, "hosts fingerprint identity everywhere weakness expires_at first_host"),
    "repos": (
        FleetRepositoryRow, "hosts identity address enabled unsigned_allowed signature other_release "
        "made_first made_last first_host",
    ),
    "gaps": (FleetGapRow, "hosts what why first_host"),
    "needed-by": (FleetNeededByRow, "hosts depth name version need first_host"),
    "timeline": (FleetStepRow, "hosts on action package version first_host"),
}  # fmt: skip
QUESTIONS: dict[str, Callable[..., Answer[Any, Any]]] = {
    "hosts": hosts, "census": lambda fleet: fleet_census(fleet, ["tide*"]), "behind": fleet_behind,
    "owner": lambda fleet: fleet_owner(fleet, ["/usr/bin/tidegauge"]), "rare": rare, "differ": differ,
    "changed": lambda fleet: changed(fleet, FIRST_DAY + timedelta(hours=1), None),
    "findings": fleet_findings, "keys": fleet_keys, "repos": fleet_repos, "gaps": fleet_gaps,
    "needed-by": lambda fleet: fleet_needed_by(fleet, ["libsaltc6"]), "timeline": fleet_timeline,
}  # fmt: skip


@pytest.fixture(scope="module")
def answers(
    forty: FleetStore, tmp_path_factory: pytest.TempPathFactory
) -> dict[str, Answer[Any, Any]]:
    place = tmp_path_factory.mktemp("told")
    (place / "none.snapshot").write_bytes(b"none\x1b[2J")
    own = FleetStore(str(place / "store"), make=True)
    found: dict[str, Answer[Any, Any]] = {
        "gather": gather(own, [str(place / "none.snapshot")], Gathering())
    }
    found["tidy"] = tidy(own, Keeping())
    with asked(forty, FleetWish()) as fleet:
        for name, question in QUESTIONS.items():
            found[name] = question(fleet)
    with asked(forty, FleetWish(by_host=True)) as fleet:
        for name, question in QUESTIONS.items():
            if f"{name} by host" in SCHEMA:
                found[f"{name} by host"] = question(fleet)
    return found


def names_of(question: str) -> tuple[str, ...]:
    return tuple(one.name for one in fields(SCHEMA[question][0]))


def text_of(
    answer: Answer[Any, Any], form: Format, names: tuple[str, ...], width: int = 100
) -> str:
    return "".join(
        f"{one}\n" for one in render(answer, form, Ink(False, width), FleetOptions(names))
    )


def test_every_question_is_held_to_the_promise() -> None:
    promised = {f"fleet {name.partition(' ')[0]}" for name in SCHEMA}
    assert promised == {one for one in SCREENS if one.startswith("fleet ")} - {"fleet ask"}


@pytest.mark.parametrize("question", SCHEMA)
def test_the_schema_is_kept_and_every_field_documented(
    answers: dict[str, Answer[Any, Any]], question: str
) -> None:
    whole = json.loads(text_of(answers[question], Format.JSON, names_of(question)))
    assert list(whole) == ["schema", "question", "system", "records", "summary", "gaps"]
    assert (whole["schema"], whole["system"]["family"]) == ("filigree/1", "fleet")
    assert whole["question"] == f"fleet {question.partition(' ')[0]}"
    assert whole["records"]
    for record in whole["records"]:
        assert list(record) == SCHEMA[question][1].split()
    page = (Path(__file__).parents[2] / "docs/output.md").read_text()
    section = page.partition("## `fleet …`")[2].partition("\n## ")[0]
    assert all(name in section for name in SCHEMA[question][1].split())


@pytest.mark.parametrize("question", SCHEMA)
def test_lines_and_csv_hold_the_same(answers: dict[str, Answer[Any, Any]], question: str) -> None:
    names = names_of(question)
    lines = text_of(answers[question], Format.LINES, names).splitlines()
    rows = list(csv.reader(io.StringIO(text_of(answers[question], Format.CSV, names))))
    assert [text.split("\t") for text in lines] == rows[1:]
    assert rows[0] == list(names)


@pytest.mark.parametrize("question", SCHEMA)
@pytest.mark.parametrize("width", [0, 40, 80, 158])
def test_tables_fit_the_window(
    answers: dict[str, Answer[Any, Any]], question: str, width: int
) -> None:
    shown = text_of(answers[question], Format.TABLE, names_of(question), width)
    assert shown
    assert "\x1b" not in shown
    if width >= 80:
        assert [text for text in shown.splitlines() if len(text) > width] == []


def test_whatever_columns_are_asked_for_are_told(forty: FleetStore) -> None:
    answer = ask(
        forty, "SELECT host, host, 1.5 AS x, DATE '2026-03-01' AS d FROM snapshots LIMIT 1"
    )
    assert answer.summary.columns == ["host", "host_1", "x", "d"]
    names = tuple(answer.summary.columns)
    (record,) = json.loads(text_of(answer, Format.JSON, names))["records"]
    assert record == {
        "host": record["host"],
        "host_1": record["host"],
        "x": record["x"],
        "d": "2026-03-01",
    }
    assert text_of(answer, Format.CSV, names).startswith("host,host_1,x,d\n")
    nothing = ask(forty, "SELECT host FROM snapshots WHERE false")
    assert text_of(nothing, Format.CSV, ("host",)) == "host\n"
    assert "Nothing" in text_of(nothing, Format.TABLE, ("host",))


@pytest.mark.parametrize(("form", "head"), [("png", b"\x89PNG"), ("svg", b"<?xml")])
def test_a_fleet_is_drawn_the_same_at_every_run(
    answers: dict[str, Answer[Any, Any]], form: str, head: bytes
) -> None:
    pytest.importorskip("matplotlib", reason="the library that draws is an extra")
    one = fleet_picture(answers["hosts"], form)
    assert one.startswith(head)
    assert one == fleet_picture(answers["hosts"], form)
    if form == "svg":
        assert b"<text" not in one  # words are drawn as shapes: no font is needed
