"""What keeps installed packages in place: who stands on whom, from what was chosen downwards."""

from collections.abc import Collection, Iterable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from filigree.model.needs import Need, Relation, Term
from filigree.model.package import Package, was_chosen
from filigree.questions.dependencies.breadth_first import breadth_first
from filigree.questions.dependencies.satisfaction import Satisfaction, satisfies, satisfy
from filigree.questions.planning.world import World

BACKWARDS = frozenset({Relation.SUPPLEMENTS, Relation.ENHANCES})
"""Ties by which the package that is named keeps the one that names it."""


class Support(NamedTuple):
    """That one package keeps another in place, by a need of either."""

    by: Package
    kept: Package
    need: Need


class Together:
    """Packages that are there together, and the ties between them."""

    def __init__(self, world: World, packages: Iterable[Package]) -> None:
        self._world = world
        self.packages = list(packages)
        self._links: dict[Package, list[Support]] = {}

    @cached_property
    def _answering(self) -> dict[str, list[Package]]:
        found: dict[str, list[Package]] = {}
        for package in self.packages:
            for name in dict.fromkeys(c.name for c in self._world.capabilities(package)):
                found.setdefault(name, []).append(package)
        return found

    @cached_property
    def _there(self) -> set[Package]:
        return set(self.packages)

    def holders(self, term: Term, asker: Package) -> list[Package]:
        """The packages that meet a term."""
        world = self._world
        found = [
            package
            for package in self._answering.get(term.name, ())
            if satisfies(world, term, asker, package, world.capabilities(package))
        ]
        if term.name.startswith("/"):
            found += (p for p in world.owners(term.name) if p in self._there)
            found += (p for p in self.packages if not p.state.present and world.owns(p, term.name))
        return found

    def meeting(self, need: Need, asker: Package) -> Satisfaction:
        """Whether a need of a package is met here, and by which."""
        return satisfy(need.condition, lambda term: self.holders(term, asker))

    def ties(self, package: Package) -> Iterator[tuple[Need, Package]]:
        """Every positive need of a package with every other package that meets it."""
        for need in self._world.needs(package):
            if need.kind.positive and need.granted is None:
                for holder in dict.fromkeys(self.meeting(need, package).holders):
                    if holder is not package:
                        yield need, holder

    @cached_property
    def _all_links(self) -> dict[Package, list[Support]]:
        found: dict[Package, list[Support]] = {}
        for package in self.packages:
            for need, holder in self.ties(package):
                by, kept = (holder, package) if need.kind in BACKWARDS else (package, holder)
                found.setdefault(by, []).append(Support(by, kept, need))
        return found

    def links(self, kinds: Collection[Relation]) -> Iterator[Support]:
        """Every link of some kinds."""
        for links in self._all_links.values():
            yield from (link for link in links if link.need.kind in kinds)

    def kept(self, kinds: Collection[Relation], roots: Iterable[Package]) -> set[Package]:
        """What stands on the roots, themselves among it."""
        starts = list(roots)

        def onward(package: Package) -> Iterator[tuple[Support, Package]]:
            links = self._all_links.get(package, ())
            return ((link, link.kept) for link in links if link.need.kind in kinds)

        reached = breadth_first(starts, onward)
        return {*starts, *(package for _, package, _ in reached if package is not None)}

    def loose(self, kinds: Collection[Relation], more: Iterable[Package] = ()) -> list[Package]:
        """What nothing that was chosen, or is protected, or is among `more`, stands on."""
        roots = (
            p for p in self.packages if is_root(p) or (p.state.present and self._world.stays(p))
        )
        kept = self.kept(kinds, (*roots, *more))
        return [package for package in self.packages if package not in kept]


def is_root(package: Package) -> bool:
    """Whether a package needs nothing else to stay: it was chosen, as far as is known, or protected."""
    return package.state.present and (was_chosen(package) or package.protected)


def parts(count: int, links: Iterable[tuple[int, int]]) -> list[list[int]]:
    """The strongly connected parts of a graph over numbers, each after those that it leads to.

    By Tarjan's algorithm ("Depth-first search and linear graph algorithms", 1972), without recursion.
    """
    ahead: list[list[int]] = [[] for _ in range(count)]
    for one, other in links:
        ahead[one].append(other)
    index = [0] * count
    low = [0] * count
    on_stack = bytearray(count)
    stack: list[int] = []
    found: list[list[int]] = []
    clock = 0
    for start in range(count):
        if index[start]:
            continue
        walk: list[tuple[int, Iterator[int]]] = []
        node: int | None = start
        while node is not None or walk:
            if node is not None:
                clock += 1
                index[node] = low[node] = clock
                stack.append(node)
                on_stack[node] = 1
                walk.append((node, iter(ahead[node])))
                node = None
                continue
            here, rest = walk[-1]
            for other in rest:
                if not index[other]:
                    node = other
                    break
                if on_stack[other]:
                    low[here] = min(low[here], index[other])
            else:
                walk.pop()
                if walk:
                    above = walk[-1][0]
                    low[above] = min(low[above], low[here])
                if low[here] == index[here]:
                    part = []
                    while True:
                        one = stack.pop()
                        on_stack[one] = 0
                        part.append(one)
                        if one == here:
                            break
                    found.append(part)
    return found


def clusters(packages: Sequence[Package], links: Iterable[Support]) -> list[list[Package]]:
    """The packages in groups that hang together, by links in either direction."""
    group = {package: [package] for package in packages}
    for link in links:
        one, other = group.get(link.by), group.get(link.kept)
        if one is None or other is None or one is other:
            continue
        one += other
        for package in other:
            group[package] = one
    firsts = dict.fromkeys(found[0] for found in group.values())
    return [group[first] for first in firsts]
