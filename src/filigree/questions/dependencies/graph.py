"""The graph of needs over packages, installed and offered, forward and in reverse."""

from collections import defaultdict
from collections.abc import Collection, Iterable
from functools import cached_property
from typing import TYPE_CHECKING

from filigree.model.needs import Capability, Need, Relation, Term
from filigree.model.package import Package, State
from filigree.questions.asking.scopes import Lookup
from filigree.questions.dependencies.satisfaction import Satisfaction, satisfies, satisfy
from filigree.questions.dependencies.ties import HARD, Tie
from filigree.questions.dependencies.walks import DependencyWalk, Step
from filigree.system import System

if TYPE_CHECKING:
    from filigree.questions.dependencies.offered_ties import OfferedTies

_NOT_HERE = (State.ARCHIVE, State.AVAILABLE)
_NOBODY: tuple[Package | None, ...] = (None,)


class Graph:
    """Who needs whom: packages whose files are on the disk, and where the scope says so what is offered.

    What is installed meets a need before archives that are `given` beside it do, and those before
    anything that is only offered.
    """

    def __init__(
        self, system: System, lookup: Lookup | None = None, given: Iterable[Package] = ()
    ) -> None:
        self._system = system
        self._given = [p for p in given if p.state is State.ARCHIVE and self.judges(p)]
        self._lookup = lookup or Lookup(system)
        self._offered = self._lookup.offered
        self._by_term: dict[str, list[tuple[Package, tuple[Capability, ...]]]] = {}
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

    def met_by(self, need: Need, asker: Package) -> Satisfaction:
        """What meets a need, in the order of its alternatives."""
        if need.granted is not None:
            return Satisfaction(True)
        found = satisfy(need.condition, lambda term: self._satisfying(term, asker))
        if not found.met and len(self._given) > 1:
            found = satisfy(need.condition, lambda term: self._brought_by(term, asker))
        if found.met or self._offered is None:
            return found
        return satisfy(
            need.condition,
            lambda term: self._brought_by(term, asker) or self._fetchable(term, asker),
        )

    def _brought_by(self, term: Term, asker: Package) -> list[Package]:
        """What meets a term of what is here, or else of the archives that are given."""
        here = self._satisfying(term, asker)
        return here or [one for one in self._given if self._meets_itself(term, one, asker)]

    def _fetchable(self, term: Term, asker: Package) -> list[Package]:
        """What is offered and meets a term: one for each name, those of that very name alone."""
        assert self._offered is not None
        if term.name not in self._by_term:
            own = self._offered.called([term.name])
            others = [package for _, package in self._offered.known_as("provides", [term.name])]
            self._by_term[term.name] = [
                (package, self._offered.records(package).capabilities())
                for package in dict.fromkeys((*own, *others))
            ]
        rules = self._system.database.rules
        found = [
            holder
            for holder, capabilities in self._by_term[term.name]
            if satisfies(rules, term, asker, holder, capabilities)
        ]
        if term.name.startswith("/"):
            found += (package for _, package in self._offered.paths.at(term.name))
        own = [package for package in found if package.name == term.name]
        from filigree.questions.dependencies.offered_ties import best_of_each

        return best_of_each(self._system, self._offered, own or found)

    def _satisfying(self, term: Term, asker: Package) -> list[Package]:
        """The packages that meet a term: through a name that they provide, or by owning a path."""
        if asker.state in _NOT_HERE and self._meets_itself(term, asker):
            # What is installed of that name would make room for it.
            return [asker]
        key = term, asker.architecture
        found = self._met.get(key)
        if found is None:
            # Of whom something is asked counts by its architecture alone.
            found = self._met[key] = self._present_satisfying(term, asker)
        return found

    def _present_satisfying(self, term: Term, asker: Package) -> list[Package]:
        rules = self._system.database.rules
        met = {
            holder: None
            for holder, capability in self._holders.get(term.name, ())
            if satisfies(rules, term, asker, holder, (capability,))
        }
        if term.name.startswith("/"):
            met.update(dict.fromkeys(self._owners(term.name)))
        return list(met)

    def _meets_itself(self, term: Term, archive: Package, asker: Package | None = None) -> bool:
        """Whether an archive brings what is needed, by itself or by another."""
        records = self._lookup.records(archive)
        # Its paths may take unpacking the whole payload: they are asked for only where a path is.
        if term.name.startswith("/") and term.name in records.listing():
            return True
        if archive not in self._brought:
            self._brought[archive] = records.capabilities()
        rules = self._system.database.rules
        return satisfies(rules, term, asker or archive, archive, self._brought[archive])

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
            for need in self._lookup.records(package).needs():
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
        if self._offered_ties is None:
            return found
        told = {tie.asker.name for tie in found}
        return [
            *found,
            *(
                tie
                for tie in self._offered_ties.askers(package, kinds)
                if tie.asker.name not in told
            ),
        ]

    @cached_property
    def _offered_ties(self) -> "OfferedTies | None":
        from filigree.questions.dependencies.offered_ties import OfferedTies

        return None if self._offered is None else OfferedTies(self._lookup)

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
        return self._walk(kinds, depth, backwards).tree(start)

    def levels(
        self,
        start: Package,
        kinds: frozenset[Relation] = HARD,
        depth: int | None = 1,
        backwards: bool = False,
    ) -> list[Step]:
        """The same as `walk`, each package once, by the nearest tie; what is nearest comes first."""
        if backwards and self._offered_ties is not None and start.state is State.AVAILABLE:
            return self._offered_ties.levels(start, kinds, depth)
        return self._walk(kinds, depth, backwards).levels(start)

    def count(
        self, start: Package, kinds: frozenset[Relation] = HARD, depth: int | None = None
    ) -> tuple[int, int, int, int] | None:
        """How many ask for an offer: packages, their sizes installed and to fetch, and how far away.

        None where that cannot be told from the kept graph alone.
        """
        if self._offered_ties is None or start.state is not State.AVAILABLE:
            return None
        return self._offered_ties.count(start, kinds, depth)

    def _walk(
        self, kinds: frozenset[Relation], depth: int | None, backwards: bool
    ) -> DependencyWalk:
        if backwards:
            return DependencyWalk(lambda one: self.reverse(one, kinds), depth, backwards)
        return DependencyWalk(
            lambda one: [tie for tie in self.forward(one) if tie.need.kind in kinds], depth, False
        )
