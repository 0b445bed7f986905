"""Named cases of each family: what a plan does, as a person who knows the rules would say.

`+a=1` is added, `-a=1` dropped, `^a=1>2` upgraded, `va=2>1` downgraded; `no way` is followed by what the
reasons rest on.
"""

from dataclasses import dataclass, replace
from typing import Any

import pytest

from filigree.model.package import Package, State
from filigree.questions.planning.candidates import Ground
from filigree.questions.planning.explanations import say
from filigree.questions.planning.outcomes import PlanAction, PlanOutcome, Wishes
from filigree.questions.planning.plans import Planner
from filigree.questions.planning.world import Offered
from tests.planning.checking import checked
from tests.worlds import MadeWorld, deb, rpm, to_come

RING = 500


@dataclass(frozen=True)
class Case:
    """What is there, what is offered, what is wished, and what comes of it."""

    name: str
    here: list[Package]
    offered: list[Package | Offered]
    wish: str
    expected: str


def planned(case: Case) -> tuple[MadeWorld, PlanOutcome, Planner]:
    offered = [
        one._replace(package=to_come(one.package)) if isinstance(one, Offered) else to_come(one)
        for one in case.offered
    ]
    world = MadeWorld(case.here, offered)
    wishes: dict[str, Any] = {"add": [], "drop": [], "upgrade": []}
    for part in case.wish.split(", "):
        verb, _, label = part.partition(" ")
        if verb in ("everything", "may_drop", "recommends"):
            wishes[verb] = True
            continue
        name, _, version = label.partition("=")
        among = [one.package for one in world.offered] if verb == "add" else world.here
        found = [p for p in among if p.name == name and version in ("", p.version)]
        assert found, f"the case names {label}, which is not there"
        wishes[verb] += found if verb == "drop" else found[:1]
    planner = Planner(world, Wishes(**wishes))
    return world, planner.decide(), planner


def told(outcome: PlanOutcome) -> str:
    if not outcome.found:
        grounds = {r.ground.value for r in outcome.obstacles if r.one is not None}
        return f"no way: {' '.join(sorted(grounds - {'asked'}))}"
    signs = {
        PlanAction.ADD: "+",
        PlanAction.DROP: "-",
        PlanAction.UPGRADE: "^",
        PlanAction.DOWNGRADE: "v",
    }
    words = []
    for change in outcome.changes:
        before = f"{change.before.version}>" if change.before else ""
        machine = change.package.architecture
        mark = f":{machine}" if machine in ("i386", "i686") else ""
        words.append(
            f"{signs[change.action]}{change.package.name}{mark}={before}{change.package.version}"
        )
    return " ".join(sorted(words)) or "nothing"


def ring(make: Any, field: str) -> list[Package]:
    """Packages each of which needs the next, and the last the first."""
    return [make(f"r{at}", **{field: f"r{(at + 1) % RING}"}) for at in range(RING)]


def passed(package: Package) -> Offered:
    return Offered(package, "another has a higher priority")


DEB = [
    Case("a need", [deb("z")], [deb("a", Depends="b"), deb("b")], "add a", "+a=1 +b=1"),
    Case("a need that comes first", [deb("z")], [deb("a", Pre_Depends="b"), deb("b")], "add a",
         "+a=1 +b=1"),
    Case("a need that is met here", [deb("b")], [deb("a", Depends="b")], "add a", "+a=1"),
    Case("needs of needs", [deb("z")], [deb("a", Depends="b"), deb("b", Depends="c"), deb("c")],
         "add a", "+a=1 +b=1 +c=1"),
    Case("a circle of two", [deb("z")], [deb("a", Depends="b"), deb("b", Depends="a")], "add a",
         "+a=1 +b=1"),
    Case("a need that nothing has", [deb("z")], [deb("a", Depends="b")], "add a", "no way: need"),
    Case("a need of a need that nothing has", [deb("z")],
         [deb("a", Depends="b"), deb("b", Depends="c")], "add a", "no way: need"),
    Case("the first alternative", [deb("z")], [deb("a", Depends="b | c"), deb("b"), deb("c")],
         "add a", "+a=1 +b=1"),
    Case("the first alternative is not offered", [deb("z")], [deb("a", Depends="b | c"), deb("c")],
         "add a", "+a=1 +c=1"),
    Case("the first alternative is a dead end", [deb("z")],
         [deb("a", Depends="b | c"), deb("b", Depends="nowhere"), deb("c")], "add a", "+a=1 +c=1"),
    Case("a dead end two steps down", [deb("z")],
         [deb("a", Depends="b | c"), deb("b", Depends="d"), deb("d", Depends="nowhere"), deb("c")],
         "add a", "+a=1 +c=1"),
    Case("two alternatives of which one does for both", [deb("z")],
         [deb("a", Depends="b, c | d"), deb("b", Depends="d"), deb("c"), deb("d")], "add a",
         "+a=1 +b=1 +d=1"),
    Case("an alternative that is here", [deb("c")], [deb("a", Depends="b | c"), deb("b")], "add a",
         "+a=1"),
    Case("a virtual name", [deb("z")], [deb("a", Depends="v"), deb("b", Provides="v")], "add a",
         "+a=1 +b=1"),
    Case("a virtual name that is provided here", [deb("b", Provides="v")],
         [deb("a", Depends="v"), deb("c", Provides="v")], "add a", "+a=1"),
    Case("a package goes before who provides its name", [deb("z")],
         [deb("a", Depends="v"), deb("b", Provides="v"), deb("v")], "add a", "+a=1 +v=1"),
    Case("a version asked of a name that is provided without one", [deb("z")],
         [deb("a", Depends="v (>= 1)"), deb("b", Provides="v")], "add a", "no way: need"),
    Case("a version asked of a name that is provided with one", [deb("z")],
         [deb("a", Depends="v (>= 2)"), deb("b", Provides="v (= 2)")], "add a", "+a=1 +b=1"),
    Case("a provided version that is too old", [deb("z")],
         [deb("a", Depends="v (>= 3)"), deb("b", Provides="v (= 2)")], "add a", "no way: need"),
    Case("a need that takes an upgrade", [deb("b")], [deb("a", Depends="b (>= 2)"), deb("b=2")],
         "add a", "+a=1 ^b=1>2"),
    Case("a need that takes a downgrade", [deb("b=2")], [deb("a", Depends="b (= 1)"), deb("b=1")],
         "add a", "+a=1 vb=2>1"),
    Case("an upgrade that would break another", [deb("b"), deb("c", Depends="b (= 1)")],
         [deb("a", Depends="b (>= 2)"), deb("b=2")], "add a", "+a=1 -c=1 ^b=1>2"),
    Case("an upgrade that takes another along", [deb("b"), deb("c", Depends="b (= 1)")],
         [deb("a", Depends="b (>= 2)"), deb("b=2"), deb("c=2", Depends="b (= 2)")], "add a",
         "+a=1 ^b=1>2 ^c=1>2"),
    Case("a conflict with what is here", [deb("b")], [deb("a", Conflicts="b")], "add a",
         "+a=1 -b=1"),
    Case("a conflict the other way round", [deb("b", Conflicts="a")], [deb("a")], "add a",
         "+a=1 -b=1"),
    Case("a conflict with another version", [deb("b")], [deb("a", Conflicts="b (>= 2)")], "add a",
         "+a=1"),
    Case("a conflict with a provided name", [deb("b", Provides="v")], [deb("a", Conflicts="v")],
         "add a", "+a=1 -b=1"),
    Case("a versioned conflict passes by what is provided without a version",
         [deb("b", Provides="v")], [deb("a", Conflicts="v (<< 9)")], "add a", "+a=1"),
    Case("no conflict with itself through what it provides", [deb("z")],
         [deb("a", Provides="v", Conflicts="v")], "add a", "+a=1"),
    Case("one of a kind takes another's place",
         [deb("b", Provides="v", Conflicts="v"), deb("c", Depends="v")],
         [deb("a", Provides="v", Conflicts="v", Replaces="v")], "add a", "+a=1 -b=1"),
    Case("a conflict with what is protected", [deb("b", marks="protected")],
         [deb("a", Conflicts="b")], "add a", "no way: clash protected"),
    Case("a conflict with what is held", [deb("b", marks="held")], [deb("a", Conflicts="b")],
         "add a", "no way: clash held"),
    Case("a need that only another version of what is held would meet", [deb("b", marks="held")],
         [deb("a", Depends="b (>= 2)"), deb("b=2")], "add a", "no way: held need rival"),
    Case("a need that what is held meets", [deb("b=2", marks="held")],
         [deb("a", Depends="b (>= 2)"), deb("b=3")], "add a", "+a=1"),
    Case("what breaks an old version", [deb("b")], [deb("a", Breaks="b (<< 2)"), deb("b=2")],
         "add a", "+a=1 ^b=1>2"),
    Case("what breaks every version", [deb("b")], [deb("a", Breaks="b")], "add a", "+a=1 -b=1"),
    Case("to replace files drops nothing", [deb("b")], [deb("a", Replaces="b")], "add a", "+a=1"),
    Case("rather the other alternative than a loss", [deb("x")],
         [deb("a", Depends="b | c"), deb("b", Conflicts="x"), deb("c")], "add a", "+a=1 +c=1"),
    Case("rather a dependency than what was chosen", [deb("x"), deb("y", marks="dependency")],
         [deb("a", Depends="b | c"), deb("b", Conflicts="x"), deb("c", Conflicts="y")], "add a",
         "+a=1 +c=1 -y=1"),
    Case("what the rules pass over is not taken", [deb("z")],
         [deb("a", Depends="b"), passed(deb("b"))], "add a", "no way: need"),
    Case("what is broken already stays as it is", [deb("b", Depends="nowhere")], [deb("a")],
         "add a", "+a=1"),
    Case("what is in conflict already stays as it is", [deb("b", Conflicts="c"), deb("c")],
         [deb("a")], "add a", "+a=1"),
    Case("nothing else goes", [deb("b"), deb("c")], [], "drop b", "-b=1"),
    Case("who needs it goes with it", [deb("b"), deb("c", Depends="b"), deb("d", Depends="c")], [],
         "drop b", "-b=1 -c=1 -d=1"),
    Case("another alternative keeps it", [deb("b"), deb("c", Depends="b | d"), deb("d")], [],
         "drop b", "-b=1"),
    Case("another provider keeps it",
         [deb("b", Provides="v"), deb("c", Depends="v"), deb("d", Provides="v")], [], "drop b",
         "-b=1"),
    Case("a circle goes together", [deb("b", Depends="c"), deb("c", Depends="b")], [], "drop b",
         "-b=1 -c=1"),
    Case("with a drop alone nothing comes", [deb("b"), deb("c", Depends="b | d")], [], "drop b",
         "-b=1 -c=1"),
    Case("what is protected goes where it is asked to", [deb("b", marks="protected")], [], "drop b",
         "-b=1"),
    Case("what is protected does not go along", [deb("b"), deb("c", Depends="b", marks="protected")],
         [], "drop b", "no way: need protected"),
    Case("one for another", [deb("b", Provides="v"), deb("c", Depends="v")],
         [deb("a", Provides="v")], "add a, drop b", "+a=1 -b=1"),
    Case("everything as new as can be", [deb("b"), deb("c")], [deb("b=2"), deb("c=3")],
         "everything", "^b=1>2 ^c=1>3"),
    Case("newer ones that go together", [deb("b"), deb("c", Depends="b (= 1)")],
         [deb("b=2"), deb("c=2", Depends="b (= 2)")], "everything", "^b=1>2 ^c=1>2"),
    Case("a newer one that needs a newcomer", [deb("b")], [deb("b=2", Depends="n"), deb("n")],
         "everything", "+n=1 ^b=1>2"),
    Case("a newer one that would cost another stays away", [deb("b"), deb("c")],
         [deb("b=2", Conflicts="c")], "everything", "nothing"),
    Case("and comes where something may go", [deb("b"), deb("c")], [deb("b=2", Conflicts="c")],
         "everything, may_drop", "-c=1 ^b=1>2"),
    Case("what is held stays", [deb("b", marks="held")], [deb("b=2")], "everything", "nothing"),
    Case("one as new as can be", [deb("b"), deb("c")], [deb("b=2"), deb("c=2")], "upgrade b",
         "^b=1>2"),
    Case("nothing newer", [deb("b")], [], "upgrade b", "nothing"),
    Case("a recommendation is not followed", [deb("z")], [deb("a", Recommends="b"), deb("b")],
         "add a", "+a=1"),
    Case("but where it is asked to be", [deb("z")],
         [deb("a", Recommends="b"), deb("b", Recommends="c"), deb("c")], "add a, recommends",
         "+a=1 +b=1 +c=1"),
    Case("a recommendation costs nothing that is here", [deb("x")],
         [deb("a", Recommends="b"), deb("b", Conflicts="x")], "add a, recommends", "+a=1"),
    Case("a need within one architecture", [deb("b", machine="i386")],
         [deb("a", Depends="b")], "add a", "no way: need"),
    Case("a need that a foreign package may meet", [deb("b", machine="i386", Multi_Arch="foreign")],
         [deb("a", Depends="b")], "add a", "+a=1"),
    Case("a need for any architecture", [deb("b", machine="i386", Multi_Arch="allowed")],
         [deb("a", Depends="b:any")], "add a", "+a=1"),
    Case("what is for all counts as our own", [deb("b", machine="all")], [deb("a", Depends="b")],
         "add a", "+a=1"),
    Case("one name for two architectures", [deb("b")], [deb("b", machine="i386")], "add b",
         "+b:i386=1 -b=1"),
    Case("side by side for two architectures", [deb("b", Multi_Arch="same")],
         [deb("b", machine="i386", Multi_Arch="same")], "add b", "+b:i386=1"),
    Case("side by side in one version alone", [deb("b", Multi_Arch="same")],
         [deb("b=2", machine="i386", Multi_Arch="same"), deb("b=2", Multi_Arch="same")], "add b",
         "+b:i386=2 ^b=1>2"),
    Case("a conflict reaches every architecture", [deb("b", machine="i386")],
         [deb("a", Conflicts="b")], "add a", "+a=1 -b:i386=1"),
    Case("or the one that it names", [deb("b", machine="i386")], [deb("a", Conflicts="b:amd64")],
         "add a", "+a=1"),
]  # fmt: skip

RPM = [
    Case("a need", [rpm("z")], [rpm("a", requires="b"), rpm("b")], "add a", "+a=1 +b=1"),
    Case("a need that is met here", [rpm("b")], [rpm("a", requires="b")], "add a", "+a=1"),
    Case("needs of needs", [rpm("z")], [rpm("a", requires="b"), rpm("b", requires="c"), rpm("c")],
         "add a", "+a=1 +b=1 +c=1"),
    Case("a circle of two", [rpm("z")], [rpm("a", requires="b"), rpm("b", requires="a")], "add a",
         "+a=1 +b=1"),
    Case("a need that nothing has", [rpm("z")], [rpm("a", requires="b")], "add a", "no way: need"),
    Case("a name of a library", [rpm("z")],
         [rpm("a", requires="libx.so.1()(64bit)"), rpm("b", provides="libx.so.1()(64bit)")],
         "add a", "+a=1 +b=1"),
    Case("a path that is here", [rpm("b", paths="/bin/dsh")], [rpm("a", requires="/bin/dsh")],
         "add a", "+a=1"),
    Case("a path that is offered", [rpm("z")],
         [rpm("a", requires="/bin/dsh"), rpm("b", paths="/bin/dsh")], "add a", "+a=1 +b=1"),
    Case("a path that goes", [rpm("b", paths="/bin/dsh"), rpm("c", requires="/bin/dsh")], [],
         "drop b", "-b=1 -c=1"),
    Case("a path that another has too",
         [rpm("b", paths="/bin/dsh"), rpm("c", requires="/bin/dsh"), rpm("d", paths="/bin/dsh")], [],
         "drop b", "-b=1"),
    Case("a path that is provided by name", [rpm("b", provides="/bin/dsh")],
         [rpm("a", requires="/bin/dsh")], "add a", "+a=1"),
    Case("a version asked of a name that is provided without one", [rpm("b", provides="v")],
         [rpm("a", requires="v >= 2")], "add a", "+a=1"),
    Case("a version asked of a name that is provided with one", [rpm("z")],
         [rpm("a", requires="v >= 2"), rpm("b", provides="v = 2")], "add a", "+a=1 +b=1"),
    Case("a provided version that is too old", [rpm("z")],
         [rpm("a", requires="v >= 3"), rpm("b", provides="v = 2")], "add a", "no way: need"),
    Case("a need without a release", [rpm("b=1-7")], [rpm("a", requires="b = 1")], "add a", "+a=1"),
    Case("a need that takes an upgrade", [rpm("b")], [rpm("a", requires="b >= 2"), rpm("b=2")],
         "add a", "+a=1 ^b=1>2"),
    Case("an upgrade that takes another along", [rpm("b"), rpm("c", requires="b = 1")],
         [rpm("a", requires="b >= 2"), rpm("b=2"), rpm("c=2", requires="b = 2")], "add a",
         "+a=1 ^b=1>2 ^c=1>2"),
    Case("both of a sentence", [rpm("z")], [rpm("a", requires="(b and c)"), rpm("b"), rpm("c")],
         "add a", "+a=1 +b=1 +c=1"),
    Case("both of a sentence, of which one is nowhere", [rpm("z")],
         [rpm("a", requires="(b and c)"), rpm("b")], "add a", "no way: need"),
    Case("either of a sentence", [rpm("z")], [rpm("a", requires="(b or c)"), rpm("b"), rpm("c")],
         "add a", "+a=1 +b=1"),
    Case("either, of which the first is a dead end", [rpm("z")],
         [rpm("a", requires="(b or c)"), rpm("b", requires="nowhere"), rpm("c")], "add a",
         "+a=1 +c=1"),
    Case("if that is here", [rpm("c")], [rpm("a", requires="(b if c)"), rpm("b")], "add a",
         "+a=1 +b=1"),
    Case("if that is not here", [rpm("z")], [rpm("a", requires="(b if c)"), rpm("b")], "add a",
         "+a=1"),
    Case("if that comes along", [rpm("z")],
         [rpm("a", requires="(b if c); d"), rpm("b"), rpm("c"), rpm("d", requires="c")], "add a",
         "+a=1 +b=1 +c=1 +d=1"),
    Case("or else the other", [rpm("z")],
         [rpm("a", requires="(b if c else d)"), rpm("b"), rpm("d")], "add a", "+a=1 +d=1"),
    Case("a sentence that wakes up", [rpm("x", requires="(b if c)")], [rpm("c"), rpm("b")], "add c",
         "+b=1 +c=1"),
    Case("a sentence that wakes up, and cannot be met", [rpm("x", requires="(b if c)")], [rpm("c")],
         "add c", "+c=1 -x=1"),
    Case("unless that is here", [rpm("c")], [rpm("a", requires="(b unless c)"), rpm("b")], "add a",
         "+a=1"),
    Case("unless that is not here", [rpm("z")], [rpm("a", requires="(b unless c)"), rpm("b")],
         "add a", "+a=1 +b=1"),
    Case("one package that is both", [rpm("z")],
         [rpm("a", requires="(v with w)"), rpm("b", provides="v"), rpm("c", provides="v; w")],
         "add a", "+a=1 +c=1"),
    Case("two packages that are one each do not do", [rpm("b", provides="v"), rpm("c", provides="w")],
         [rpm("a", requires="(v with w)")], "add a", "no way: need"),
    Case("one package that is not the other", [rpm("z")],
         [rpm("a", requires="(v without w)"), rpm("b", provides="v; w"), rpm("c", provides="v")],
         "add a", "+a=1 +c=1"),
    Case("a range of versions in one package", [rpm("z")],
         [rpm("a", requires="(v >= 2 with v < 3)"), rpm("b", provides="v = 1"),
          rpm("c", provides="v = 2")], "add a", "+a=1 +c=1"),
    Case("a conflict", [rpm("b")], [rpm("a", conflicts="b")], "add a", "+a=1 -b=1"),
    Case("a conflict with a range", [rpm("b")], [rpm("a", conflicts="b < 2"), rpm("b=2")], "add a",
         "+a=1 ^b=1>2"),
    Case("a conflict with what is provided", [rpm("b", provides="v")], [rpm("a", conflicts="v")],
         "add a", "+a=1 -b=1"),
    Case("no conflict with itself", [rpm("z")], [rpm("a", provides="v", conflicts="v")], "add a",
         "+a=1"),
    Case("a conflict with a sentence", [rpm("b"), rpm("c", marks="dependency")],
         [rpm("a", conflicts="(b and c)")], "add a", "+a=1 -c=1"),
    Case("a conflict with a sentence that is half true", [rpm("b")],
         [rpm("a", conflicts="(b and c)")], "add a", "+a=1"),
    Case("it takes the place of another", [rpm("b")], [rpm("a", obsoletes="b")], "add a",
         "+a=1 -b=1"),
    Case("it takes the place of older ones alone", [rpm("b=2")], [rpm("a", obsoletes="b < 2")],
         "add a", "+a=1"),
    Case("places are taken by name, not by what is provided", [rpm("b", provides="v")],
         [rpm("a", obsoletes="v")], "add a", "+a=1"),
    Case("what takes a place comes with everything", [rpm("b")], [rpm("a", obsoletes="b")],
         "everything", "+a=1 -b=1"),
    Case("what takes the place of older ones does not come", [rpm("b=2")],
         [rpm("a", obsoletes="b < 2")], "everything", "nothing"),
    Case("what is here already takes no place any more", [rpm("a", obsoletes="b")], [rpm("b")],
         "add b", "+b=1"),
    Case("a place is taken from what others need", [rpm("b"), rpm("c", requires="b")],
         [rpm("a", obsoletes="b", provides="b")], "add a", "+a=1 -b=1"),
    Case("only ever added", [rpm("kernstone=1")], [rpm("kernstone=2")], "add kernstone",
         "+kernstone=2"),
    Case("two widths of machine side by side", [rpm("b")], [rpm("b", machine="i686")], "add b",
         "+b:i686=1"),
    Case("one for any machine takes the place", [rpm("b")], [rpm("b=2", machine="noarch")],
         "add b", "^b=1>2"),
    Case("a conflict with what is protected", [rpm("b", marks="protected")],
         [rpm("a", conflicts="b")], "add a", "no way: clash protected"),
    Case("a need that only another version of what is held would meet", [rpm("b", marks="held")],
         [rpm("a", requires="b >= 2"), rpm("b=2")], "add a", "no way: held need rival"),
    Case("what the rules pass over is not taken", [rpm("z")],
         [rpm("a", requires="b"), passed(rpm("b"))], "add a", "no way: need"),
    Case("a recommendation where it is asked for", [rpm("z")], [rpm("a", recommends="b"), rpm("b")],
         "add a, recommends", "+a=1 +b=1"),
    Case("who needs it goes with it", [rpm("b"), rpm("c", requires="b"), rpm("d", requires="c")], [],
         "drop b", "-b=1 -c=1 -d=1"),
    Case("everything as new as can be", [rpm("b"), rpm("c")], [rpm("b=2"), rpm("c=3")],
         "everything", "^b=1>2 ^c=1>3"),
    Case("a newer one that would cost another stays away", [rpm("b"), rpm("c")],
         [rpm("b=2", conflicts="c")], "everything", "nothing"),
    Case("one for another", [rpm("b", provides="v"), rpm("c", requires="v")],
         [rpm("a", provides="v")], "add a, drop b", "+a=1 -b=1"),
]  # fmt: skip

CASES = [*(("deb", case) for case in DEB), *(("rpm", case) for case in RPM)]


def test_there_are_enough_cases_and_each_has_its_name() -> None:
    assert (len(DEB), len(RPM)) == (71, 57)
    for cases in (DEB, RPM):
        assert len({case.name for case in cases}) == len(cases)


@pytest.mark.parametrize(
    "case", [case for _, case in CASES], ids=[f"{family}: {case.name}" for family, case in CASES]
)
def test_a_case(case: Case) -> None:
    world, outcome, planner = planned(case)
    assert told(outcome) == case.expected
    if outcome.found:
        before = set(checked(world, world.here))
        assert set(checked(world, [candidate.package for candidate in outcome.final])) <= before
        assert all(change.reason for change in outcome.changes)
        return
    sentences = [said.sentence for said in say(world, outcome.obstacles, planner.wishes.add)]
    assert sentences
    assert all(sentences)


@pytest.mark.parametrize(("make", "field"), [(deb, "Depends"), (rpm, "requires")])
def test_a_circle_of_five_hundred(make: Any, field: str) -> None:
    every = ring(make, field)
    drop = Case("", every, [], "drop r7", "")
    _, outcome, _ = planned(drop)
    assert sum(change.action is PlanAction.DROP for change in outcome.changes) == RING
    # Each is explained by the one that it needs, back to the one that was asked for.
    reasons = {change.package.name: change.reason for change in outcome.changes}
    assert reasons["r7"] == "asked for"
    assert reasons["r6"] == "it needs r7, which would be gone"
    assert reasons["r8"] == "it needs r9, which would be gone"
    _, outcome, _ = planned(Case("", [make("z")], list(every), "add r7", ""))
    assert sum(change.action is PlanAction.ADD for change in outcome.changes) == RING


def test_every_reason_is_needed() -> None:
    """Without any one of the reasons there would be a way: shown by taking each away."""
    here = [deb("b", marks="held"), deb("x", marks="protected")]
    offered = [deb("a", Depends="b (>= 2), c"), deb("b=2"), deb("c", Conflicts="x")]
    _, outcome, _ = planned(Case("", here, list(offered), "add a", ""))
    assert not outcome.found
    grounds = {reason.ground for reason in outcome.obstacles if reason.one is not None}
    # One of the two problems is told, not a mixture of both.
    assert grounds - {Ground.ASKED} in (
        {Ground.NEED, Ground.RIVAL, Ground.HELD},
        {Ground.NEED, Ground.CLASH, Ground.PROTECTED},
    )


def test_what_the_rules_pass_over_is_told() -> None:
    offered: list[Package | Offered] = [deb("a", Depends="b"), passed(deb("b"))]
    world, outcome, planner = planned(Case("", [deb("z")], offered, "add a", ""))
    (said,) = say(world, outcome.obstacles, planner.wishes.add)
    assert said.sentence == (
        "a 1 needs b, and the system's rules pass over b 1 (coast): another has a higher priority"
    )


def test_an_archive_that_is_given_goes_before_what_is_offered() -> None:
    """It is of no repository, and meets needs like any other."""
    offered = [to_come(deb("a", Depends="b"))]
    given = replace(deb("b"), state=State.ARCHIVE, reason=None)
    world = MadeWorld([deb("z")], [*offered, given])
    outcome = Planner(world, Wishes(add=[offered[0], given])).decide()
    assert told(outcome) == "+a=1 +b=1"
    assert any(candidate.package is given for candidate in outcome.final)
