"""The graph of needs over packages, installed and offered, forward and in reverse."""

from collections import defaultdict
from collections.abc import Collection, Iterable, Iterator
from dataclasses import dataclass
from functools import cached_property
from typing import TYPE_CHECKING, NamedTuple

from filigree.model.needs import Capability, Need, Relation, Term
from filigree.model.package import Package, State
from filigree.questions.asking.scopes import INSTALLED, Lookup
from filigree.questions.dependencies.offer_graph import meeting_terms
from filigree.questions.dependencies.satisfaction import Meeting, meet
from filigree.system import System

if TYPE_CHECKING:
    from filigree.questions.offers.available import Available

HARD = frozenset({Relation.REQUIRES_FIRST, Relation.REQUIRES})

_NOT_HERE = (State.ARCHIVE, State.AVAILABLE)
_NOBODY: tuple[Package | None, ...] = (None,)


class Tie(NamedTuple):
    """One need between two packages.

    `holder` is None where nothing installed meets it, and where it is `met` without any package.
    `met` is None where that cannot be judged.
    """

    asker: Package
    need: Need
    holder: Package | None
    met: bool | None


@dataclass(frozen=True, slots=True)
class Step:
    """A tie met on a walk, `depth` ties away from where it began.

    `repeat` is "cycle" where the package is among those that led here, "folded" where its own
    needs are told elsewhere, None where they follow.
    """

    tie: Tie
    depth: int
    repeat: str | None


class Graph:
    """Who needs whom: packages whose files are on the disk, and where the scope says so what is offered.

    What is installed meets a need before archives that are `given` beside it do, and those before
    anything that is only offered.
    """

    def __init__(
        self, system: System, lookup: Lookup = INSTALLED, given: Iterable[Package] = ()
    ) -> None:
        self._system = system
        self._given = [p for p in given if p.state is State.ARCHIVE and self.judges(p)]
        self._offered = lookup.offered
        self._by_term: dict[str, list[tuple[Package, Capability]]] = {}
        self._present = [p for p in system.packages if p.state.present]
        self._forward: dict[Package, list[Tie]] = {}
        self._met: dict[tuple[Term, str], list[Package]] = {}
        self._by_path: dict[str, list[Package]] = {}
        self._brought: dict[Package, tuple[Capability, ...]] = {}

    @cached_property
    def _holders(self) -> dict[str, list[tuple[Package, Capability]]]:
        found: dict[str, list[tuple[Package, Capability]]] = defaultdict(list)
        for package in self._present:
            for capability in self._system.database.capabilities(package):
                found[capability.name].append((package, capability))
        return found

    def judges(self, package: Package) -> bool:
        """Whether a package's needs can be judged: an archive of another family's cannot."""
        return package.family == self._system.family.name

    def met_by(self, need: Need, asker: Package) -> Meeting:
        """What meets a need, in the order of its alternatives."""
        if need.granted is not None:
            return Meeting(True)
        found = meet(need.condition, lambda term: self._meeting(term, asker))
        if not found.met and len(self._given) > 1:
            found = meet(need.condition, lambda term: self._brought_by(term, asker))
        if found.met or self._offered is None:
            return found
        return meet(
            need.condition,
            lambda term: self._brought_by(term, asker) or self._fetchable(term, asker),
        )

    def _brought_by(self, term: Term, asker: Package) -> list[Package]:
        """What meets a term of what is here, or else of the archives that are given."""
        here = self._meeting(term, asker)
        return here or [one for one in self._given if self._meets_itself(term, one, asker)]

    def _fetchable(self, term: Term, asker: Package) -> list[Package]:
        """What is offered and meets a term: one for each name, those of that very name alone."""
        assert self._offered is not None
        if term.name not in self._by_term:
            own = self._offered.called([term.name])
            others = [package for _, package in self._offered.known_as("provides", [term.name])]
            self._by_term[term.name] = [
                (package, capability)
                for package in dict.fromkeys((*own, *others))
                for capability in self._offered.capabilities(package)
                if capability.name == term.name
            ]
        meets = self._system.database.meets
        found = [
            holder
            for holder, capability in self._by_term[term.name]
            if meets(term, asker, holder, capability)
        ]
        if term.name.startswith("/"):
            found += (package for _, package in self._offered.at(term.name))
        own = [package for package in found if package.name == term.name]
        return best_of_each(self._system, self._offered, own or found)

    def _meeting(self, term: Term, asker: Package) -> list[Package]:
        """The packages that meet a term: through a name that they provide, or by owning a path."""
        if asker.state in _NOT_HERE and self._meets_itself(term, asker):
            # What is installed of that name would make room for it.
            return [asker]
        key = term, asker.architecture
        found = self._met.get(key)
        if found is None:
            # Of whom something is asked counts by its architecture alone.
            found = self._met[key] = self._present_meeting(term, asker)
        return found

    def _present_meeting(self, term: Term, asker: Package) -> list[Package]:
        met: dict[Package, None] = {}
        meets = self._system.database.meets
        for holder, capability in self._holders.get(term.name, ()):
            if meets(term, asker, holder, capability):
                met[holder] = None
        if term.name.startswith("/"):
            met.update(dict.fromkeys(self._owners(term.name)))
        return list(met)

    def _meets_itself(self, term: Term, archive: Package, asker: Package | None = None) -> bool:
        """Whether an archive brings what is needed, by itself or by another."""
        records = self._system.records(archive)
        # Its paths may take unpacking the whole payload: they are asked for only where a path is.
        if term.name.startswith("/") and term.name in records.listing(archive):
            return True
        if archive not in self._brought:
            self._brought[archive] = records.capabilities(archive)
        meets = self._system.database.meets
        return any(
            meets(term, asker or archive, archive, capability)
            for capability in self._brought[archive]
            if capability.name == term.name
        )

    def _owners(self, path: str) -> list[Package]:
        """The present packages that own a path, or the same file by another path."""
        if path not in self._by_path:
            owners = self._system.owners_of(path)
            self._by_path[path] = [owner for owner in owners if owner.state.present]
        return self._by_path[path]

    def forward(self, package: Package) -> list[Tie]:
        """Every tie of a package to what it names: one for each package that meets the need."""
        ties = self._forward.get(package)
        if ties is None:
            ties = []
            for need in self._system.records(package).needs(package):
                if need.kind.positive and not self.judges(package):
                    ties.append(Tie(package, need, None, None))
                elif need.kind.positive:
                    met, holders = self.met_by(need, package)
                    ties += (Tie(package, need, holder, met) for holder in holders or _NOBODY)
            self._forward[package] = ties
        return ties

    @cached_property
    def _reverse(self) -> dict[Package, list[Tie]]:
        found: dict[Package, list[Tie]] = defaultdict(list)
        for package in self._present:
            for tie in self.forward(package):
                if tie.holder is not None and tie.holder is not package:
                    found[tie.holder].append(tie)
        return found

    def reverse(self, package: Package, kinds: Collection[Relation] | None = None) -> list[Tie]:
        """Every tie of other packages to this one, of some kinds or all.

        Where the scope says so, of those that are offered too: of each name what would be taken.
        """
        found = self._reverse.get(package, []) if package.state.present else []
        if kinds is not None:
            found = [tie for tie in found if tie.need.kind in kinds]
        if self._web is None:
            return found
        told = {tie.asker.name for tie in found}
        return [
            *found,
            *(tie for tie in self._web.askers(package, kinds) if tie.asker.name not in told),
        ]

    @cached_property
    def _web(self) -> "_Nodes | None":
        return None if self._offered is None else _Nodes(self._system, self._offered)

    def walk(
        self,
        start: Package,
        kinds: frozenset[Relation] = HARD,
        depth: int | None = 1,
        backwards: bool = False,
    ) -> list[Step]:
        """The ties within `depth` steps of `start` (None: all), in the order of a tree.

        A package's own ties follow where it is nearest to the start; elsewhere it is folded.
        """
        return _Walk(self, kinds, depth, backwards).tree(start)

    def levels(
        self,
        start: Package,
        kinds: frozenset[Relation] = HARD,
        depth: int | None = 1,
        backwards: bool = False,
    ) -> list[Step]:
        """The same as `walk`, each package once, by the nearest tie; what is nearest comes first."""
        if backwards and self._web is not None and start.state is State.AVAILABLE:
            return self._web.levels(start, kinds, depth)
        return _Walk(self, kinds, depth, backwards).levels(start)

    def count(
        self, start: Package, kinds: frozenset[Relation] = HARD, depth: int | None = None
    ) -> tuple[int, int, int, int] | None:
        """How many ask for an offer: packages, their sizes installed and to fetch, and how far away.

        None where that cannot be told from the kept graph alone.
        """
        if self._web is None or start.state is not State.AVAILABLE:
            return None
        return self._web.count(start, kinds, depth)

    def ties(self, package: Package, kinds: frozenset[Relation], backwards: bool) -> list[Tie]:
        if backwards:
            return self.reverse(package, kinds)
        return [tie for tie in self.forward(package) if tie.need.kind in kinds]


class _Nodes:
    """What is offered, as the kept graph knows it: packages and needs as far as a walk shows them."""

    def __init__(self, system: System, offered: "Available") -> None:
        self._system = system
        self._offered = offered
        self._web = offered.web
        self._packages: dict[int, Package] = {}
        self._numbers: dict[Package, int] = {}
        self._needs: dict[tuple[int, Relation], Need] = {}

    def askers(self, package: Package, kinds: Collection[Relation] | None) -> Iterator[Tie]:
        """The ties of what is offered to a package."""
        web = self._web
        number = self._number(package)
        asks = web.met_by(number) if number is not None else self._asks_met_by(package)
        for ask in dict.fromkeys(asks):
            for asker, kind in web.askers(ask):
                if (
                    (kind in kinds if kinds is not None else kind.positive)
                    and web.names[asker] != package.name
                    and self._is_taken(asker)
                ):
                    yield Tie(self._package(asker), self._need(ask, kind), package, True)

    def levels(self, start: Package, kinds: Collection[Relation], depth: int | None) -> list[Step]:
        """Who asks for an offer, over any number of steps: each once, what is nearest first."""
        steps = []
        for asker, holder, ask, kind, away in self.reached(start, kinds, depth):
            need = self._need(ask, kind)
            steps.append(
                Step(Tie(self._package(asker), need, self._package(holder), True), away, None)
            )
        return steps

    def count(
        self, start: Package, kinds: Collection[Relation], depth: int | None
    ) -> tuple[int, int, int, int]:
        """How many packages that are, their sizes, and how far away the last is."""
        packages = installed = fetched = far = 0
        for asker, _, _, _, away in self.reached(start, kinds, depth):
            sizes = self._web.sizes(asker)
            packages, far = packages + 1, away
            installed, fetched = installed + sizes[0], fetched + sizes[1]
        return packages, installed, fetched, far

    def reached(
        self, start: Package, kinds: Collection[Relation], depth: int | None
    ) -> Iterator[tuple[int, int, int, Relation, int]]:
        """The same in numbers: who asks, whom, for what, how, and how far away."""
        first = self._number(start)
        if first is None:  # the graph could not be made: that is a gap
            return iter(())
        return self._web.reached(first, kinds, self._passed_over, depth)

    def _number(self, package: Package) -> int | None:
        """The number of a package that is offered."""
        if package.state is not State.AVAILABLE:
            return None
        number = self._numbers.get(package)
        if number is None:
            number = self._web.number(*self._offered.place_of(package))
            if number is not None:
                self._numbers[package] = number
                self._packages[number] = package
        return number

    def _asks_met_by(self, package: Package) -> Iterator[int]:
        """The asks that something meets that is installed, or an archive."""
        meets = self._system.database.meets
        for capability in self._system.records(package).capabilities(package):
            for ask in self._web.asks_for(capability.name):
                asker, kind = next(self._web.askers(ask))
                if not kind.positive:
                    continue
                # All that ask the same do so with the same rules: one of them stands for all.
                condition = self._read(asker, ask)
                if condition is not None and any(
                    meets(term, asker_, package, capability)
                    for asker_, need in (condition,)
                    for term in meeting_terms(need.condition)
                    if term.name == capability.name
                ):
                    yield ask

    def _read(self, number: int, ask: int) -> tuple[Package, Need] | None:
        """The package of a number, with its need that is written as an ask is."""
        package = self._offered.at_place(*self._web.place(number))
        if package is None:
            return None
        text = self._web.text(ask)
        needs = self._offered.needs(package)
        found = next((need for need in needs if need.text == text and need.kind.positive), None)
        return None if found is None else (package, found)

    def _package(self, number: int) -> Package:
        found = self._packages.get(number)
        if found is None:
            table, _ = self._web.place(number)
            repository = self._offered.tables[table][0].identity
            found = self._web.package(number, self._system.family.name, repository)
            self._packages[number] = found
            self._numbers[found] = number
        return found

    def _need(self, ask: int, kind: Relation) -> Need:
        found = self._needs.get((ask, kind))
        if found is None:
            text = self._web.text(ask)
            found = self._needs[ask, kind] = Need(kind, Term(text), text)
        return found

    def _is_taken(self, number: int) -> bool:
        """Whether a package is the one of its name that would be taken."""
        return number not in self._passed_over

    @cached_property
    def _passed_over(self) -> frozenset[int]:
        """Of each name that is offered several times, all but what would be taken."""
        packages: dict[int, Package] = {}
        found: list[int] = []
        for same in self._web.offered_again():
            if len({self._web.identity(number) for number in same}) == 1:
                found += same[1:]
                continue
            for number in same:
                packages[number] = self._package(number)
                self._offered.introduce(packages[number], self._web.place(number)[0])
        best = set(best_of_each(self._system, self._offered, packages.values()))
        found += (number for number in packages if packages[number] not in best)
        return frozenset(found)


class _Walk:
    """One walk from one package: first how far away everything is, then the tree of it."""

    def __init__(
        self, graph: Graph, kinds: frozenset[Relation], depth: int | None, backwards: bool
    ) -> None:
        self._graph = graph
        self._kinds = kinds
        self._depth = depth
        self._backwards = backwards
        self._ties: dict[Package, list[Tie]] = {}

    def tree(self, start: Package) -> list[Step]:
        nearest = self._nearest(start)
        steps: list[Step] = []
        told = {start}
        above = [start]
        pending = [iter(self._of(start))]
        while pending:
            tie = next(pending[-1], None)
            if tie is None:
                pending.pop()
                above.pop()
                continue
            end = self._end(tie)
            depth = len(pending)
            if end is None:
                steps.append(Step(tie, depth, None))
            elif end in above:
                steps.append(Step(tie, depth, "cycle"))
            elif end in told or nearest[end] < depth:
                steps.append(Step(tie, depth, "folded" if self._of(end) else None))
            else:
                steps.append(Step(tie, depth, None))
                told.add(end)
                if self._depth is None or depth < self._depth:
                    above.append(end)
                    pending.append(iter(self._of(end)))
        return steps

    def levels(self, start: Package) -> list[Step]:
        steps: list[Step] = []
        told = {start}
        front = [start]
        depth = 0
        while front and (self._depth is None or depth < self._depth):
            depth += 1
            ahead = []
            for package in front:
                for tie in self._of(package):
                    end = self._end(tie)
                    if end is None:
                        steps.append(Step(tie, depth, None))
                    elif end not in told:
                        told.add(end)
                        steps.append(Step(tie, depth, None))
                        ahead.append(end)
            front = ahead
        return steps

    def _nearest(self, start: Package) -> dict[Package, int]:
        """How many ties each package is away, breadth first."""
        distance = {start: 0}
        front = [start]
        while front and (self._depth is None or distance[front[0]] < self._depth):
            ahead = []
            for package in front:
                for tie in self._of(package):
                    end = self._end(tie)
                    if end is not None and end not in distance:
                        distance[end] = distance[package] + 1
                        ahead.append(end)
            front = ahead
        return distance

    def _of(self, package: Package) -> list[Tie]:
        ties = self._ties.get(package)
        if ties is None:
            ties = self._graph.ties(package, self._kinds, self._backwards)
            self._ties[package] = ties
        return ties

    def _end(self, tie: Tie) -> Package | None:
        return tie.asker if self._backwards else tie.holder


def best_of_each(
    system: System, offered: "Available", packages: Iterable[Package]
) -> list[Package]:
    """Of each name the package that would be taken, of these."""
    from filigree.questions.offers.candidates import candidates

    found = list(dict.fromkeys(packages))
    names = {package.name for package in found}
    return found if len(names) == len(found) else candidates(system, offered, found)
