"""What a plan is made of: what is installed, what could be, and by which rules they go together."""

from collections.abc import Collection, Iterable, Iterator, Sequence
from itertools import islice
from typing import Any, NamedTuple, Protocol

from filigree.model.answer import Gap
from filigree.model.choices import Choice
from filigree.model.needs import Capability, Need, Relation, terms_of
from filigree.model.package import Package
from filigree.questions.asking.scopes import Lookup
from filigree.questions.dependencies.satisfaction import Forbids, Satisfies, forbidden
from filigree.system import System

MANY = 5000
"""So many names are looked at that may meet one need."""


class Offered(NamedTuple):
    """A package that could be installed; `passed_over` is why the system's rules do not take it."""

    package: Package
    passed_over: str | None = None


class World(Satisfies, Forbids, Protocol):
    """Packages, and the rules of their family."""

    def installed(self) -> Sequence[Package]:
        """The packages whose files are on the disk."""
        ...

    def needs(self, package: Package) -> Sequence[Need]: ...

    def capabilities(self, package: Package) -> Sequence[Capability]: ...

    def owns(self, package: Package, path: str) -> bool:
        """Whether a package that is not installed brings a path."""
        ...

    def owners(self, path: str) -> Sequence[Package]:
        """The installed packages that own a path."""
        ...

    def offers(self, name: str) -> Sequence[Offered]:
        """What could be installed and may meet a need for a name: of that very name first."""
        ...

    def versions(self, name: str) -> Sequence[Offered]:
        """Every other version of a name that could be installed, what the rules take first."""
        ...

    def successors(self, name: str) -> Sequence[Offered]:
        """What takes the place of a name under another one, of some versions of it at least."""
        ...

    def rivals(self, one: Package, other: Package) -> str | None: ...

    def machine_of(self, package: Package) -> str: ...

    def order(self, one: Package, other: Package) -> int | None:
        """Negative, 0 or positive as a package is older than another; None where that is a guess."""
        ...

    def stays(self, package: Package) -> bool:
        """Whether a package is never taken for left over."""
        ...


class SystemWorld:
    """The world of one system: what is on record, what its repositories offer, and archives given."""

    def __init__(
        self, system: System, lookup: Lookup | None = None, archives: Iterable[Package] = ()
    ) -> None:
        self.system = system
        self._lookup = lookup or Lookup(system)
        self._offered = self._lookup.offered
        self._archives = [p for p in archives if p.family == system.family.name]
        self._named: dict[str, list[Offered]] = {}
        self._under: dict[str, list[Offered]] = {}
        self._asked: dict[Package, tuple[Need, ...]] = {}
        self._kept: dict[Package, tuple[Capability, ...]] = {}
        rules = system.database.rules
        self.satisfies = rules.satisfies
        self.forbids = rules.forbids
        self.rivals = rules.rivals
        self.machine_of = rules.machine_of
        self.stays = rules.stays

    def installed(self) -> Sequence[Package]:
        return [p for p in self.system.packages if p.state.present]

    def needs(self, package: Package) -> Sequence[Need]:
        found = self._asked.get(package)
        if found is None:
            found = self._asked[package] = self._lookup.records(package).needs()
        return found

    def capabilities(self, package: Package) -> Sequence[Capability]:
        found = self._kept.get(package)
        if found is None:
            found = self._kept[package] = self._lookup.records(package).capabilities()
        return found

    def order(self, one: Package, other: Package) -> int | None:
        if self._offered is not None and not self._offered.empty:
            return self._offered.order(one, other)
        return self.system.family.order(one.version, other.version)

    def owns(self, package: Package, path: str) -> bool:
        if self.system.archive_of(package) is not None:
            return path in self._lookup.records(package).listing()
        return self._offered is not None and any(
            p is package for _, p in self._offered.paths.at(path)
        )

    def owners(self, path: str) -> Sequence[Package]:
        return [owner for owner in self.system.owners_of(path) if owner.state.present]

    def versions(self, name: str) -> Sequence[Offered]:
        found = self._named.get(name)
        if found is None:
            found = [Offered(p) for p in self._archives if p.name == name]
            if self._offered is not None:
                found += _permitted(self._choices(name))
            self._named[name] = found
        return found

    def _choices(self, name: str) -> Iterator[Sequence[Choice]]:
        assert self._offered is not None
        choices = self._offered.choices(self.system.present([name]), self._offered.called([name]))
        return (found for _, found in choices)

    def offers(self, name: str) -> Sequence[Offered]:
        found = self._under.get(name)
        if found is None:
            found = self._under[name] = list(self._found(name))
        return found

    def _found(self, name: str) -> Iterator[Offered]:
        names = {name: None} | {p.name: None for p in self._archives if self._answers(p, name)}
        if self._offered is not None:
            names |= {p.name: None for _, p in self._offered.known_as("provides", [name])}
            if name.startswith("/"):
                names |= {p.name: None for _, p in self._offered.paths.at(name)}
        if len(names) > MANY:
            what = f"what else would meet a need for {name}"
            self.system.report(Gap(what, f"{len(names) - MANY:,} more packages than are looked at"))
        for one in islice(names, MANY):
            yield from (
                offer
                for offer in self.versions(one)
                if one == name or self._answers(offer.package, name)
            )

    def _answers(self, package: Package, name: str) -> bool:
        if any(capability.name == name for capability in self.capabilities(package)):
            return True
        return name.startswith("/") and self.owns(package, name)

    def successors(self, name: str) -> Sequence[Offered]:
        if self._offered is None:
            return ()
        names = dict.fromkeys(p.name for _, p in self._offered.known_as("obsoletes", [name]))
        return [one for other in names if other != name for one in self.versions(other)]


class NotAsking:
    """A world in which some needs are not asked for: to find out what else stands in the way."""

    def __init__(self, world: World, unasked: Collection[tuple[Package, str]]) -> None:
        self._world = world
        self._unasked = unasked

    def needs(self, package: Package) -> Sequence[Need]:
        needs = self._world.needs(package)
        return [need for need in needs if (package, need.text) not in self._unasked]

    def __getattr__(self, name: str) -> Any:
        return getattr(self._world, name)


def replacements(world: World, package: Package) -> list[Offered]:
    """What is offered in the place of a package, under another name."""
    return [
        one
        for one in world.successors(package.name)
        if any(
            forbidden(world, need.kind, term, one.package, package, world.capabilities(package))
            for need in world.needs(one.package)
            if need.kind is Relation.OBSOLETES
            for term in terms_of(need.condition)
        )
    ]


def in_place_of(world: World, package: Package) -> list[Offered]:
    """What is offered where a package is: its other versions, and what takes its place."""
    place = place_of(world, package)
    versions = world.versions(package.name)
    same = (one for one in versions if place_of(world, one.package) == place)
    return [*same, *replacements(world, package)]


Place = tuple[str, str]
"""A name and a kind of machine: versions of one place take each other's."""


def place_of(world: World, package: Package) -> Place:
    """The place of a package."""
    return package.name, world.machine_of(package)


def _permitted(groups: Iterable[Sequence[Choice]]) -> Iterator[Offered]:
    """What the rules take of each kind of machine, and then what they pass over."""
    rest: list[Offered] = []
    for choices in groups:
        for choice in choices:
            if choice.installed or not choice.offers:
                continue
            offer = Offered(choice.offers[0].package, None if choice.taken else choice.verdict)
            if choice.taken:
                yield offer
            else:
                rest.append(offer)
    yield from rest
