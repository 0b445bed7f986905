"""A fleet asked of a real cluster: a master and two workers on the loopback address. Run by make peers.

Every question is asked of it and of the embedded engine, by the same text: the answers are the same.
"""

import shutil
from collections.abc import Callable, Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from tools.cluster import cluster, missing

from filigree.demo.fleet import FIRST_DAY
from filigree.fleet.asked import Fleet, FleetWish, asked
from filigree.fleet.engines import DuckEngine, Engine
from filigree.fleet.form import SNAPSHOTS
from filigree.fleet.identity import Value
from filigree.fleet.questions.behind import fleet_behind
from filigree.fleet.questions.census import fleet_census
from filigree.fleet.store import FleetStore
from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from tests.conftest import Run
from tests.fleet.conftest import forty, taken
from tests.fleet.test_formats import QUESTIONS
from tests.fleet.test_store import form_1

pytestmark = [
    pytest.mark.peers,
    pytest.mark.skipif(missing() is not None, reason=str(missing())),
]
__all__ = ["form_1", "forty", "taken"]


@pytest.fixture(scope="module")
def address() -> Iterator[str]:
    pytest.importorskip("pyspark", reason="the client is an extra")
    with cluster() as there:
        yield there


@pytest.fixture
def engine(address: str) -> Iterator[Engine]:
    from filigree.fleet.cluster_engine import SparkEngine

    made = SparkEngine(address)
    yield made
    made.close()


ASKED: dict[str, tuple[Callable[[Fleet], Answer[Any, Any]], FleetWish]] = {
    **{name: (question, FleetWish(now=FIRST_DAY)) for name, question in QUESTIONS.items()},
    **{
        f"{name} by host": (QUESTIONS[name], FleetWish(("gauge-1?",), by_host=True, now=FIRST_DAY))
        for name in ("owner", "rare", "timeline", "needed-by")
    },
    "census as of": (
        lambda fleet: fleet_census(fleet, ["*"], "2.1-3"),
        FleetWish(("gauge-?", "*_*"), FIRST_DAY + timedelta(hours=1), now=FIRST_DAY),
    ),
}


@pytest.mark.parametrize("name", ASKED)
def test_both_engines_answer_the_same(forty: FleetStore, engine: Engine, name: str) -> None:
    question, wish = ASKED[name]
    told = []
    for used in (None, engine):
        with asked(forty, wish, used) as fleet:
            told.append(question(fleet))
    here, there = told
    assert there.records == here.records
    assert (there.summary, there.notes) == (here.summary, here.notes)
    assert here.records or name == "census as of"
    (doubt,) = [gap for gap in there.gaps if gap not in here.gaps]
    assert doubt.what == "who vouches for what the engine answers"
    assert [gap for gap in there.gaps if gap is not doubt] == here.gaps


def test_values_go_where_they_belong(engine: Engine) -> None:
    """Also those within subqueries, and those that look like something of the language's."""
    odd = "it's ? :v0 -- \\x27 /* % _ !"
    for used in (DuckEngine([]), engine):
        used.register(SNAPSHOTS, [])
        used.keep("said", "SELECT ? AS word, ? AS number", [odd, 1 << 62])
        text = (
            "SELECT ?, word, number FROM said WHERE word IN (SELECT word FROM said WHERE number = ?) "
            "AND word = ? AND word LIKE ? ESCAPE '!'"
        )
        values: list[Value] = ["first", 1 << 62, odd, "it's%!_ !!"]
        assert used.run(text, values) == [("first", odd, 1 << 62)]
        assert used.run("SELECT host FROM snapshots") == []
        used.close()


def test_two_engines_of_one_cluster_do_not_meet(engine: Engine, address: str) -> None:
    from filigree.fleet.cluster_engine import SparkEngine

    other = SparkEngine(address)
    for used, number in ((engine, 1), (other, 2)):
        used.keep("said", "SELECT ? AS number", [number])
    assert (engine.run("SELECT * FROM said"), other.run("SELECT * FROM said")) == ([(1,)], [(2,)])
    engine.close()
    assert other.run("SELECT * FROM said") == [(2,)]
    other.close()


def test_numbers_come_back_as_numbers(engine: Engine) -> None:
    (row,) = engine.run(
        "SELECT sum(x) * 1.5, sum(x), 7 / 2.0 FROM (SELECT 4 AS x UNION ALL SELECT 2) t"
    )
    assert row == (9, 6, 3.5)
    assert not any(type(one).__name__ == "Decimal" for one in row)


def test_a_store_of_the_first_form(form_1: FleetStore, engine: Engine) -> None:
    with asked(form_1, FleetWish(), engine) as fleet:
        answer = fleet_behind(fleet)
    assert answer.records == []
    assert "what is behind at 2 hosts" in [gap.what for gap in answer.gaps]


def test_a_store_whose_name_has_odd_signs(
    forty: FleetStore, engine: Engine, tmp_path: Path
) -> None:
    place = tmp_path / "a {b,c} [d]*"
    shutil.copytree(forty.address, place)
    with asked(FleetStore(str(place)), FleetWish(), engine) as fleet:
        assert len(QUESTIONS["hosts"](fleet).records) == 40


def test_what_is_no_question_is_told_in_a_line(engine: Engine) -> None:
    with pytest.raises(BadQuestion) as told:
        engine.run("SELECT nothing FROM nowhere")
    assert "\n" not in str(told.value)
    with pytest.raises(BadQuestion):
        engine.run("SELECT * FROM parquet.`/etc/passwd`")


def test_the_program_asks_it(forty: FleetStore, address: str, run: Run) -> None:
    words = ("fleet", "keys", forty.address, "--format", "csv")
    here, there = run(*words), run(*words, "--engine", address)
    assert there.stdout == here.stdout
    assert "could have made up" in there.stderr


def test_where_nothing_answers(monkeypatch: pytest.MonkeyPatch) -> None:
    from filigree.fleet import cluster_engine

    monkeypatch.setattr(cluster_engine, "_CONNECT", 1.0)
    with pytest.raises(BadQuestion, match="nothing answered"):
        cluster_engine.SparkEngine("sc://127.0.0.1:1")
    with pytest.raises(BadQuestion):
        cluster_engine.SparkEngine("sc://127.0.0.1:none/;;")
