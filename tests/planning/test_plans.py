"""Plans against exhaustive search, on universes small enough for it."""

from collections.abc import Sequence

from hypothesis import given, settings
from hypothesis import strategies as st

from filigree.model.package import Package
from filigree.questions.planning.outcomes import PlanAction, PlanOutcome, Wishes
from filigree.questions.planning.plans import Planner
from filigree.questions.planning.world import Offered
from tests.worlds import MadeWorld, deb, is_sound, rpm, subsets, to_come

NAMES = ("ash", "birch", "cedar", "dulse")
VIRTUAL = ("wood", "tree")
SIGNS = {"deb": ("<<", ">=", "="), "rpm": ("<", ">=", "=")}


def plan(world: MadeWorld, **wishes: object) -> PlanOutcome:
    return Planner(world, Wishes(**wishes)).decide()  # type: ignore[arg-type]


@st.composite
def _term(draw: st.DrawFn, family: str, names: Sequence[str] = (*NAMES, *VIRTUAL)) -> str:
    name = draw(st.sampled_from(names))
    if name in VIRTUAL or draw(st.booleans()):
        return name
    sign, version = draw(st.sampled_from(SIGNS[family])), draw(st.sampled_from("12"))
    return f"{name} ({sign} {version})" if family == "deb" else f"{name} {sign} {version}"


@st.composite
def _package(draw: st.DrawFn, family: str) -> Package:
    label = f"{draw(st.sampled_from(NAMES))}={draw(st.sampled_from('12'))}"
    terms = st.lists(_term(family), max_size=2)
    marks = " ".join(
        draw(st.sets(st.sampled_from(("held", "protected", "dependency")), max_size=1))
    )
    provides = draw(st.lists(st.sampled_from(VIRTUAL), max_size=1))
    if family == "deb":
        groups = draw(st.lists(st.lists(_term(family), min_size=1, max_size=2), max_size=2))
        return deb(
            label, marks=marks, Depends=", ".join(" | ".join(group) for group in groups),
            Conflicts=", ".join(draw(terms)), Breaks=", ".join(draw(terms)[:1]),
            Provides=", ".join(provides),
        )  # fmt: skip
    rich = draw(st.lists(_sentence(), max_size=1))
    return rpm(
        label, marks=marks, requires="; ".join((*draw(terms), *rich)),
        conflicts="; ".join(draw(terms)[:1]), provides="; ".join(provides),
    )  # fmt: skip


@st.composite
def _sentence(draw: st.DrawFn) -> str:
    join = draw(st.sampled_from(("and", "or", "if", "unless", "with", "without")))
    terms = [draw(_term("rpm")) for _ in range(2)]
    if join in ("if", "unless") and draw(st.booleans()):
        return f"({terms[0]} {join} {terms[1]} else {draw(_term('rpm'))})"
    return f"({terms[0]} {join} {terms[1]})"


@st.composite
def _worlds(draw: st.DrawFn) -> MadeWorld:
    """A world of up to 9 packages, in which what is installed is in order."""
    family = draw(st.sampled_from(("deb", "rpm")))
    packages = draw(
        st.lists(_package(family), min_size=2, max_size=9, unique_by=lambda p: (p.name, p.version))
    )
    here = draw(st.sets(st.sampled_from(range(len(packages)))))
    world = MadeWorld(packages)
    sound = next(
        chosen
        for chosen in subsets([packages[at] for at in sorted(here)])
        if is_sound(world, chosen)
    )
    rest = [to_come(package) for package in packages if package not in sound]
    return MadeWorld(sound, rest) if sound else MadeWorld((), rest)


def _allowed(world: MadeWorld, chosen: Sequence[Package], moved: set[str], gone: set[str]) -> bool:
    """Whether a choice leaves alone what a plan must leave alone."""
    names = {package.name for package in chosen}
    return all(
        (not p.held or p in chosen or p.name in moved or p.name in gone)
        and (not p.protected or p.name in names or p.name in gone)
        for p in world.here
    )


@given(_worlds(), st.data())
@settings(deadline=None)
def test_a_plan_is_sound_and_where_there_is_none_exhaustive_search_finds_none(
    world: MadeWorld, data: st.DataObject
) -> None:
    if not world.offered:
        return
    wish = data.draw(st.sampled_from([one.package for one in world.offered]))
    every = [*world.here, *(one.package for one in world.offered)]
    ways = [
        chosen
        for chosen in subsets(every)
        if wish in chosen
        and _allowed(world, chosen, {wish.name}, set())
        and is_sound(world, chosen)
    ]
    outcome = plan(world, add=[wish])
    assert outcome.found is bool(ways)
    if not outcome.found:
        assert outcome.obstacles
        return
    final = [candidate.package for candidate in outcome.final]
    assert is_sound(world, final)
    assert wish in final
    assert _allowed(world, final, {wish.name}, set())
    names = {package.name for package in world.here}
    lossless = [way for way in ways if names <= {package.name for package in way}]
    assert outcome.lossless is bool(lossless)
    untouched = [way for way in ways if set(world.here) <= set(way)]
    assert (set(world.here) <= set(final)) is bool(untouched)
    # Nothing is added that could be left out.
    for package in final:
        if package not in world.here and package is not wish:
            rest = [other for other in final if other is not package]
            lost = package.name in names and package.name not in {other.name for other in rest}
            assert lost or not is_sound(world, rest)


@given(_worlds(), st.data())
@settings(deadline=None)
def test_what_must_go_with_a_package_is_what_exhaustive_search_must_drop(
    world: MadeWorld, data: st.DataObject
) -> None:
    plain = [p for p in world.here if not p.held and not p.protected]
    if not plain:
        return
    wish = data.draw(st.sampled_from(plain))
    alone = MadeWorld(world.here)
    ways = [
        chosen
        for chosen in subsets(world.here)
        if wish not in chosen
        and _allowed(alone, chosen, set(), {wish.name})
        and is_sound(alone, chosen)
    ]
    outcome = plan(alone, drop=[wish])
    assert outcome.found is bool(ways)
    if not outcome.found:
        return
    kept = {candidate.package for candidate in outcome.final}
    assert tuple(p for p in world.here if p in kept) in ways
    # No way keeps all of that and more; and where one way keeps the most, it is this one.
    assert not any(kept < set(way) for way in ways)
    best = [way for way in ways if all(set(other) <= set(way) for other in ways)]
    if best:
        assert kept == set(best[0])
    dropped = {one.package for one in outcome.changes if one.action is PlanAction.DROP}
    assert dropped == set(world.here) - kept
    assert all(one.reason for one in outcome.changes)


@given(_worlds())
@settings(deadline=None)
def test_as_new_as_can_be_without_a_loss(world: MadeWorld) -> None:
    if not world.here:
        return
    offered = [
        one if _is_newer(world, one.package) else Offered(one.package, "older than what is there")
        for one in world.offered
    ]
    world = MadeWorld(world.here, offered)
    outcome = plan(world, everything=True)
    assert outcome.found, "to leave everything as it is is a plan"
    final = [candidate.package for candidate in outcome.final]
    assert is_sound(world, final)
    assert outcome.lossless
    newest = plan(world, everything=True, may_drop=True)
    assert is_sound(world, [candidate.package for candidate in newest.final])


def _is_newer(world: MadeWorld, package: Package) -> bool:
    return all(
        world.compare(p.version, package.version) < 0 for p in world.here if p.name == package.name
    )
