"""Answers whose records flow: the same records, the same words, and none of them held."""

import csv
import io
import json
from collections.abc import Generator
from pathlib import Path

import pytest

from filigree.access.store import Store
from filigree.access.tables import OfferTable
from filigree.model.answer import Answer, Flow, SystemLabel
from filigree.model.errors import BadQuestion
from filigree.model.package import State
from filigree.model.repositories import Offer
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.census import (
    Filter,
    Matching,
    Order,
    Shape,
    census,
    census_flow,
)
from filigree.questions.commands.contents import contents, contents_flow
from filigree.questions.offers.catalogue import open_catalogue
from filigree.system import System, open_system
from filigree.views.page import Ink
from filigree.views.render import FLOWING, Format, render, render_flow
from tests.conftest import Run

STATIONS = ("heron", "curlew", "plover", "dunlin", "sanderling")


def plainly(system: System, scope: Scope) -> list[tuple[str, str, str, list[str]]]:
    """A census by name as the plain rule has it: everything in one list, which is then sorted."""
    with open_catalogue(system) as catalogue:
        offers = list(catalogue.packages())
    by: dict[tuple[str, str, str], list[str]] = {}
    for offer in offers:
        who = by.setdefault((offer.name, offer.architecture, offer.version), [])
        if offer.repository not in who:
            who.append(str(offer.repository))
    recorded = [] if scope is Scope.AVAILABLE else list(system.packages)
    mine = [p for p in recorded if p.state is not State.NOT_INSTALLED]
    here = {(p.name, p.architecture, p.version) for p in recorded if p.state.present}
    rows = [(p.name, p.architecture, p.version) for p in mine if p.state.present]
    rows += [key for key in by if key not in here]
    rows.sort(key=lambda row: row[:2])
    return [(*row, by.get(row, [])) for row in rows]


@pytest.mark.parametrize("scope", [Scope.AVAILABLE, Scope.ANY])
@pytest.mark.parametrize("station", STATIONS)
def test_what_is_merged_by_name_is_what_sorting_gives(
    request: pytest.FixtureRequest, station: str, scope: Scope
) -> None:
    with open_system(str(request.getfixturevalue(station))) as system:
        expected = plainly(system, scope)
        rows = census(system, scope=scope).records
    assert [(r.name, r.architecture, r.version, r.offered_by) for r in rows] == expected
    assert len(expected) > 60


@pytest.mark.parametrize("form", FLOWING)
@pytest.mark.parametrize("station", STATIONS)
def test_what_flows_is_written_as_what_is_held(
    request: pytest.FixtureRequest, station: str, form: Format
) -> None:
    root = str(request.getfixturevalue(station))
    with open_system(root) as one, open_system(root) as other:
        held = list(render(census(one, scope=Scope.ANY), form, Ink(False, 0)))
        flown = list(render_flow(census_flow(other, scope=Scope.ANY), form))
    assert flown == held
    with open_system(root) as one, open_system(root) as other:
        held = list(render(contents(one, ["lib*", "tide*"]), form, Ink(False, 0)))
        flown = list(render_flow(contents_flow(other, ["lib*", "tide*"]), form))
    assert flown == held
    assert len(held) > 100


@pytest.mark.parametrize("shape", [Shape(limit=0), Shape(limit=3), Shape(Order.SIZE, limit=4)])
def test_what_is_not_shown_is_counted(heron: Path, shape: Shape) -> None:
    with open_system(str(heron)) as system:
        whole = census(system, scope=Scope.ANY)
        flow = census_flow(system, shape=shape, scope=Scope.ANY)
        assert len(list(flow)) == shape.limit
    assert flow.rest.summary.count == whole.summary.count == len(whole.records)
    assert flow.rest.summary.installed_size == whole.summary.installed_size
    assert flow.rest.summary.shown == shape.limit


def test_a_question_that_is_none_is_refused_before_anything_is_written(heron: Path) -> None:
    wanted = Filter(patterns=("(",), match=Matching.REGEX)
    with open_system(str(heron)) as system, pytest.raises(BadQuestion):
        census_flow(system, wanted)


def test_what_stands_beside_the_records_waits_for_the_last(heron: Path) -> None:
    with open_system(str(heron)) as system:
        flow = census_flow(system)
        with pytest.raises(ValueError, match="not all"):
            _ = flow.rest
        count = len(list(flow))
        assert flow.rest.summary.count == count
        assert list(flow) == [], "it can be gone through once"


def test_no_record_is_held_once_it_has_passed() -> None:
    """Whoever goes through a flow sees one record at a time: no view draws more than it writes."""
    drawn = 0

    def records() -> Generator[tuple[int], None, Answer[tuple[int], None]]:
        nonlocal drawn
        for drawn in range(1, 1001):
            yield (drawn,)
        return Answer("census", SystemLabel("/", "deb", "x"), [], None)

    for form in (Format.JSON, Format.JSONL):
        flow: Flow[tuple[int], None] = Flow("census", SystemLabel("/", "deb", "x"), records())
        lines = render_flow(flow, form)
        for _ in range(10):
            next(lines)
        assert drawn < 14, form
        list(lines)
        assert drawn == 1000


def test_a_table_for_people_is_no_flow(heron: Path) -> None:
    with open_system(str(heron)) as system, pytest.raises(ValueError, match="all records at once"):
        list(render_flow(census_flow(system), Format.TABLE))


ODD = ["zz", "a\udcff", "a\ue000", "a", "\udc80b", "a\U0001f41f", "a\u00e9", "a\udc80"]


@pytest.mark.parametrize("kept", [True, False])
def test_names_that_are_no_utf8_have_the_order_of_texts(tmp_path: Path, kept: bool) -> None:
    """A table orders bytes; where a byte stands for no sign that is another order."""
    offers = [Offer(name, "1", "all", None, None, f"record {at}") for at, name in enumerate(ODD)]
    store = Store(str(tmp_path / "cache") if kept else None, lambda _: None)
    for again in range(2):
        table = store.table(OfferTable, "sha256:1", "an index", lambda _: offers)
        assert table.kept is bool(kept and again)
        assert [offer.name for offer in table.by_name()] == sorted(ODD)
        chosen = [offer.name for offer in table.by_name(lambda name: name > "a")]
        assert chosen == [name for name in sorted(ODD) if name > "a"]
        table.close()


def test_the_program_writes_what_flows_whole(heron: Path, run: Run) -> None:
    """Formats that are read by others: an object that ends, rows under their titles."""
    found = json.loads(run("census", "--any", "--format", "json", "--root", str(heron)).stdout)
    rows = list(csv.DictReader(io.StringIO(
        run("census", "--any", "--format", "csv", "--root", str(heron)).stdout
    )))  # fmt: skip
    assert found["summary"]["count"] == len(found["records"]) == len(rows)
    assert [row["name"] for row in rows] == [record["name"] for record in found["records"]]
    nothing = json.loads(run("census", "zzq", "--format", "json", "--root", str(heron)).stdout)
    assert (nothing["records"], nothing["summary"]["count"]) == ([], 0)
