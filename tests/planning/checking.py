"""What is wrong with packages that are there together, worked out plainly: a judge of plans."""

from collections.abc import Iterable, Iterator

from filigree.families.protocol import Asked, Provided
from filigree.model.needs import Need, Term
from filigree.model.package import Package
from filigree.questions.dependencies.satisfaction import satisfy
from filigree.questions.dependencies.ties import HARD
from filigree.questions.planning.world import World


def checked(world: World, packages: Iterable[Package]) -> list[str]:
    """What is wrong with packages that are there together: every unmet need and every conflict.

    By another way than the plans are made: nothing of a problem or of a solver is used.
    """
    there = list(packages)
    answering: dict[str, list[Package]] = {}
    for package in there:
        for name in dict.fromkeys(c.name for c in world.capabilities(package)):
            answering.setdefault(name, []).append(package)

    def holders(term: Term, asker: Package) -> list[Package]:
        found = [
            p
            for p in answering.get(term.name, ())
            for c in world.capabilities(p)
            if c.name == term.name and world.satisfies(Asked(term, asker), Provided(c, p))
        ]
        if term.name.startswith("/"):
            owners = set(world.owners(term.name))
            found += (
                p
                for p in there
                if p in owners or (not p.state.present and world.owns(p, term.name))
            )
        return found

    wrong = []
    for package in there:
        for need in world.needs(package):
            if need.kind in HARD and need.granted is None:
                if not satisfy(need.condition, lambda term, one=package: holders(term, one)).met:  # type: ignore[misc]
                    wrong.append(f"{package.label} needs {need.text}")
            elif not need.kind.positive:
                wrong += _clashes(world, package, need, answering)
    named: dict[str, list[Package]] = {}
    for package in there:
        for other in named.setdefault(package.name, []):
            if world.rivals(other, package):
                wrong.append(f"{other.label} and {package.label}")
        named[package.name].append(package)
    return wrong


def _clashes(
    world: World, package: Package, need: Need, answering: dict[str, list[Package]]
) -> Iterator[str]:
    if not isinstance(need.condition, Term):
        return
    term = need.condition
    for other in answering.get(term.name, ()):
        if any(
            world.forbids(need.kind, Asked(term, package), Provided(c, other))
            for c in world.capabilities(other)
        ):
            yield f"{package.label} {need.kind} {need.text}: {other.label}"
