"""The ties of what is only offered, out of the graph of offers."""

from collections.abc import Collection, Iterable, Iterator
from functools import cached_property

from filigree.model.needs import Need, Relation, Term
from filigree.model.package import Package, State
from filigree.questions.asking.scopes import Lookup
from filigree.questions.dependencies.kept_offer_graph import graph_of_offers
from filigree.questions.dependencies.satisfaction import meeting_terms, satisfies
from filigree.questions.dependencies.ties import Tie
from filigree.questions.dependencies.walks import Step
from filigree.questions.offers.candidates import candidates
from filigree.questions.offers.catalogue import Catalogue
from filigree.system import System


class OfferedTies:
    """What is offered, as the kept graph knows it: packages and needs as far as a walk shows them."""

    def __init__(self, lookup: Lookup) -> None:
        assert lookup.offered is not None
        self._lookup = lookup
        self._system = lookup.system
        self._offered = lookup.offered
        self._graph = graph_of_offers(lookup.offered)
        self._packages: dict[int, Package] = {}
        self._numbers: dict[Package, int] = {}
        self._needs: dict[tuple[int, Relation], Need] = {}

    def askers(self, package: Package, kinds: Collection[Relation] | None) -> Iterator[Tie]:
        """The ties of what is offered to a package."""
        graph = self._graph
        number = self._number(package)
        asks = graph.met_by(number) if number is not None else self._asks_met_by(package)
        for ask in dict.fromkeys(asks):
            for asker, kind in graph.askers(ask):
                if (
                    (kind in kinds if kinds is not None else kind.positive)
                    and graph.names[asker] != package.name
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
            sizes = self._graph.sizes(asker)
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
        return self._graph.reached(first, kinds, self._passed_over, depth)

    def _number(self, package: Package) -> int | None:
        """The number of a package that is offered."""
        if package.state is not State.AVAILABLE:
            return None
        number = self._numbers.get(package)
        if number is None:
            number = self._graph.number(*self._offered.row_of(package))
            if number is not None:
                self._numbers[package] = number
                self._packages[number] = package
        return number

    def _asks_met_by(self, package: Package) -> Iterator[int]:
        """The asks that something meets that is installed, or an archive."""
        rules = self._system.database.rules
        for capability in self._lookup.records(package).capabilities():
            for ask in self._graph.asks_for(capability.name):
                asker, kind = next(self._graph.askers(ask))
                if not kind.positive:
                    continue
                # All that ask the same do so with the same rules: one of them stands for all.
                condition = self._read(asker, ask)
                if condition is not None and any(
                    satisfies(rules, term, asker_, package, (capability,))
                    for asker_, need in (condition,)
                    for term in meeting_terms(need.condition)
                ):
                    yield ask

    def _read(self, number: int, ask: int) -> tuple[Package, Need] | None:
        """The package of a number, with its need that is written as an ask is."""
        package = self._offered.at_row(*self._graph.place(number))
        if package is None:
            return None
        text = self._graph.text(ask)
        needs = self._offered.records(package).needs()
        found = next((need for need in needs if need.text == text and need.kind.positive), None)
        return None if found is None else (package, found)

    def _package(self, number: int) -> Package:
        found = self._packages.get(number)
        if found is None:
            table, _ = self._graph.place(number)
            repository = self._offered.indexes.tables[table][0].identity
            found = self._graph.package(number, self._system.family.name, repository)
            self._packages[number] = found
            self._numbers[found] = number
        return found

    def _need(self, ask: int, kind: Relation) -> Need:
        found = self._needs.get((ask, kind))
        if found is None:
            text = self._graph.text(ask)
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
        for same in self._graph.offered_again():
            if len({self._graph.identity(number) for number in same}) == 1:
                found += same[1:]
                continue
            for number in same:
                packages[number] = self._package(number)
                self._offered.introduce(packages[number], self._graph.place(number)[0])
        best = set(best_of_each(self._system, self._offered, packages.values()))
        found += (number for number in packages if packages[number] not in best)
        return frozenset(found)


def best_of_each(system: System, offered: Catalogue, packages: Iterable[Package]) -> list[Package]:
    """Of each name the package that would be taken, of these."""
    found = list(dict.fromkeys(packages))
    names = {package.name for package in found}
    return found if len(names) == len(found) else candidates(system, offered, found)
