"""What people are told of plans and versions: a row a reason, the sentence as it is read."""

from dataclasses import replace
from typing import NamedTuple

import pytest

from filigree.families.shared.choosing import Numbers, choices_by_number
from filigree.formats.rpm.versions import compare_versions
from filigree.model.choices import Offering
from filigree.model.package import Package
from filigree.model.repositories import Repository
from filigree.questions.planning.candidates import ClauseReason, Ground
from filigree.questions.planning.explanations import say
from filigree.questions.planning.world import Offered
from tests.planning.test_cases import Case, planned
from tests.worlds import deb, rpm

RULE = "only one version of a package can be there"


class Told(NamedTuple):
    """What is there, what is offered, what is wished, and what is said of it."""

    about: str
    here: list[Package]
    offered: list[Package | Offered]
    wish: str
    expected: list[str]


NO_WAY = [
    Told("nothing has it", [deb("z")], [deb("a", Depends="b")], "add a",
         ["a 1 needs b, and nothing that is here or offered has that"]),
    Told("something is near", [deb("b", marks="held")], [deb("a", Depends="b (>= 2)")], "add a",
         ["a 1 needs b (>= 2), and there is only b 1 (installed and held)"]),
    Told("the rules pass it over", [deb("z")],
         [deb("a", Depends="b"), Offered(deb("b"), "its priority is negative")], "add a",
         ["a 1 needs b, and the system's rules pass over b 1 (coast): its priority is negative"]),
    Told("nothing has a path", [rpm("z")], [rpm("a", requires="/usr/bin/quill")], "add a",
         ["a 1 needs /usr/bin/quill, and nothing that is here or offered has that"]),
    Told("only one has a path", [rpm("z", marks="protected")],
         [rpm("a", requires="/usr/bin/quill"), rpm("b", paths="/usr/bin/quill", conflicts="z")], "add a",
         ["a 1 needs /usr/bin/quill, which only b 1 (coast) meets",
             "b 1 (coast) conflicts with z: z 1 (installed)",
          "z is protected: it cannot be dropped"]),
    Told("only one meets it, and another is held", [deb("b", marks="held")],
         [deb("b=2"), deb("a", Depends="b (>= 2)")], "add a",
         ["a 1 needs b (>= 2), which only b 2 (coast) meets", "b is held at 1",
          f"b 1 (installed and held) and b 2 (coast) exclude each other: {RULE}"]),
    Told("several would meet it", [deb("z", Conflicts="v", marks="held protected")],
         [deb("a", Depends="v"), deb("b", Provides="v"), deb("c", Provides="v")], "add a",
         ["a 1 needs v, which b 1 (coast) and c 1 (coast) would meet", "z is held at 1",
          "z 1 (installed and held) conflicts with v: b 1 (coast) and c 1 (coast), "
          "which has that name too"]),
    Told("more than are named", [deb("z", Conflicts="v", marks="held protected")],
         [deb("a", Depends="v"), *(deb(f"p{number}", Provides="v") for number in range(6))], "add a",
         ["a 1 needs v, which p0 1 (coast), p1 1 (coast), p2 1 (coast), p3 1 (coast) and 2 more "
          "would meet",
          "z is held at 1",
          "z 1 (installed and held) conflicts with v: p0 1 (coast), p1 1 (coast), p2 1 (coast), "
          "p3 1 (coast) and 2 more, which has that name too"]),
    Told("a conflict with what is protected", [deb("b", marks="protected")], [deb("a",
        Conflicts="b")], "add a",
         ["a 1 conflicts with b: b 1 (installed)", "b is protected: it cannot be dropped"]),
    Told("what would break", [deb("b", marks="protected")], [deb("a", Breaks="b")], "add a",
         ["a 1 breaks b: b 1 (installed)", "b is protected: it cannot be dropped"]),
    Told("a conflict through another name", [deb("b", Provides="v", marks="protected")],
         [deb("a", Conflicts="v")], "add a",
         ["a 1 conflicts with v: b 1 (installed), which has that name too",
             "b is protected: it cannot be dropped"]),
    Told("two versions of one", [deb("z")],
         [deb("a=1"), deb("a=2"), deb("c", Depends="a (= 1)"), deb("d", Depends="a (= 2)")],
         "add c, add d",
         ["d 1 needs a (= 2), which only a 2 (coast) meets",
             "c 1 needs a (= 1), which only a 1 (coast) meets",
          f"a 1 (coast) and a 2 (coast) exclude each other: {RULE}"]),
    Told("what is protected needs it", [deb("a", Depends="b", marks="protected"), deb("b")], [], "drop b",
         ["a is protected: it cannot be dropped", "a 1 needs b, which only b 1 (installed) meets"]),
]  # fmt: skip
LOSSES = [
    Told("chosen", [deb("b")], [deb("a", Conflicts="b")], "add a",
         ["a 1 conflicts with b: b 1 (installed)",
          "b 1 is installed, chosen by a person, and is not to be dropped"]),
    Told("a dependency of something chosen",
         [deb("b", marks="dependency"), deb("c", Depends="b", marks="dependency"), deb("d", Depends="b")],
         [deb("a", Conflicts="b")], "add a",
         ["a 1 conflicts with b: b 1 (installed)",
          "b 1 is installed, as a dependency of d, and is not to be dropped"]),
    Told("a dependency of nobody", [deb("b", marks="dependency")], [deb("a", Conflicts="b")], "add a",
         ["a 1 conflicts with b: b 1 (installed)",
          "b 1 is installed, as a dependency, and is not to be dropped"]),
    Told("of an unknown reason", [replace(deb("b"), reason=None)], [deb("a", Conflicts="b")], "add a",
         ["a 1 conflicts with b: b 1 (installed)", "b 1 is installed, and is not to be dropped"]),
]  # fmt: skip
CHANGES = [
    Told("what was asked for", [deb("z")], [deb("a")], "add a", ["add a: asked for"]),
    Told("what is needed", [deb("z")], [deb("a", Depends="b (>= 1)"), deb("b")], "add a",
         ["add a: asked for", "add b: a needs b (>= 1)"]),
    Told("what is recommended", [deb("z")], [deb("a", Recommends="b"), deb("b")], "add a, recommends",
         ["add a: asked for", "add b: a recommends b"]),
    Told("what stands against it", [deb("z", Conflicts="b")], [deb("a", Depends="b"), deb("b")], "add a",
         ["drop z: z conflicts with b", "add a: asked for", "add b: a needs b"]),
    Told("what breaks it", [deb("b")], [deb("a", Breaks="b")], "add a",
         ["drop b: a breaks b", "add a: asked for"]),
    Told("what takes its place", [rpm("b")], [rpm("a", obsoletes="b")], "add a",
         ["drop b: a takes its place", "add a: asked for"]),
    Told("what lacks something", [deb("a", Depends="b"), deb("b"), deb("c", Depends="a")], [], "drop b",
         ["drop b: asked for", "drop a: it needs b, which would be gone",
             "drop c: it needs a, which would be gone"]),
    Told("what is newer", [deb("a"), deb("b=2")], [deb("a=2"), deb("b=1")], "everything",
         ["upgrade a: it is newer", "downgrade b: it is what the rules would take"]),
    Told("what goes with the rest", [deb("a"), deb("b", Depends="a (= 1)")],
         [deb("a=2"), deb("b=2", Depends="a (= 2)")], "upgrade a",
         ["upgrade a: asked for", "upgrade b: to go with the rest"]),
]  # fmt: skip


def _case(told: Told) -> Case:
    return Case(told.about, told.here, told.offered, told.wish, "")


@pytest.mark.parametrize("told", NO_WAY, ids=[one.about for one in NO_WAY])
def test_why_there_is_no_way(told: Told) -> None:
    world, outcome, planner = planned(_case(told))
    assert not outcome.found
    said = say(world, outcome.obstacles, planner.wishes.add)
    assert [one.sentence for one in said] == told.expected


@pytest.mark.parametrize("told", LOSSES, ids=[one.about for one in LOSSES])
def test_why_something_would_be_lost(told: Told) -> None:
    world, outcome, planner = planned(_case(told))
    assert outcome.found
    assert not outcome.lossless
    nothing_goes = [(planner.lossless, ClauseReason(Ground.STAYS, why="always"))]
    said = say(world, outcome.problem.why_not(nothing_goes), planner.wishes.add)
    assert [one.sentence for one in said] == told.expected


@pytest.mark.parametrize("told", CHANGES, ids=[one.about for one in CHANGES])
def test_why_something_changes(told: Told) -> None:
    _, outcome, _ = planned(_case(told))
    assert outcome.found
    said = [f"{one.action.value} {one.package.name}: {one.reason}" for one in outcome.changes]
    assert said == told.expected


# -- which version is taken ------------------------------------------------------------------


def offer(version: str, priority: int | None = None, barred: str | None = None) -> Offering:
    repository = Repository(
        identity=f"coast-{priority}", name="coast", enabled=True, addresses=(), suite=None,
        component=None, architecture=None, priority=priority, configured_in="here:1",
    )  # fmt: skip
    return Offering(rpm(f"gull={version}"), repository, barred)


@pytest.mark.parametrize(
    ("installed", "offered", "expected"),
    [
        (["2"], [offer("1"), offer("2")], {"2": "it stays", "1": "older than what is installed"}),
        (["1"], [offer("2")], {"2": "it would be taken", "1": "it is installed"}),
        ([], [offer("1"), offer("2")], {"2": "it would be taken", "1": "a newer one is offered"}),
        ([], [offer("1"), offer("2", barred="the configuration leaves out gull")],
         {"2": "never taken: the configuration leaves out gull", "1": "it would be taken"}),
        ([], [offer("1", 10), offer("2", 20)],
         {"2": "a repository of a better priority offers another", "1": "it would be taken"}),
        (["1"], [offer("1", 10), offer("2", 20)],
         {"2": "a repository of a better priority offers another", "1": "it stays"}),
        (["3"], [offer("2", barred="excluded"), offer("1")],
         {"3": "it stays", "2": "never taken: excluded", "1": "older than what is installed"}),
    ],
)  # fmt: skip
def test_why_a_version_is_taken_or_not(
    installed: list[str], offered: list[Offering], expected: dict[str, str]
) -> None:
    here = [rpm(f"gull={version}") for version in installed]
    choices = choices_by_number(here, offered, Numbers(compare_versions, 50))
    assert {one.version: one.verdict for one in choices} == expected
    assert list(expected) == [one.version for one in choices], "the newest first"
    assert [one.taken for one in choices] == [
        expected[one.version] in ("it stays", "it would be taken") for one in choices
    ]
