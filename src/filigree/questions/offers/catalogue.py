"""What the repositories of a system offer, as packages: by name, by what they provide, by their words.

The same row of an index is always the same package. What repositories tell of paths, and of changes,
advisories and groups, is asked of `paths` and `notices`; the records of a package of `records`.
"""

import heapq
from collections.abc import Callable, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from functools import cached_property
from itertools import repeat
from typing import NamedTuple

from filigree.access.tables import KeptOffer, keyed
from filigree.families.protocol import OfferRow
from filigree.model.answer import Gap
from filigree.model.choices import Choice, Offering
from filigree.model.errors import AccessError, words_of
from filigree.model.package import Package
from filigree.model.repositories import IndexKind, Place, Repository
from filigree.questions.offers.notices import Notices
from filigree.questions.offers.opening import OpenIndexes
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.questions.offers.paths import OfferedPaths
from filigree.questions.offers.records import OfferRecords
from filigree.system import System

_NO_RECORD = KeptOffer(0, "", "", "", None, None, "")


class Row(NamedTuple):
    """Where an offer stands: the number of its index, and what that has of it."""

    table: int
    offer: KeptOffer


class Catalogue:
    """The packages that a system's repositories offer."""

    def __init__(self, indexes: OpenIndexes) -> None:
        self.indexes = indexes
        self._made: dict[tuple[int, int], Package] = {}
        self._rows: dict[Package, Row] = {}

    def records(self, package: Package) -> OfferRecords:
        """What is on record of one of these packages."""
        return OfferRecords(self.indexes.sources, self.paths, self._offer_row, package)

    @cached_property
    def paths(self) -> OfferedPaths:
        """The paths that they would bring."""
        return OfferedPaths(self.indexes, self.called, self.known_as)

    @cached_property
    def notices(self) -> Notices:
        """Advisories, groups and changes."""
        return Notices(self.indexes)

    @property
    def empty(self) -> bool:
        """Whether there is no index that may be believed."""
        return self.indexes.empty

    @property
    def notes(self) -> list[str]:
        """What is to be said of the repositories that were asked for."""
        return [f"no repository is called {name}" for name in self.indexes.unknown]

    # -- packages --------------------------------------------------------------------------

    def names(self) -> frozenset[str]:
        """Every name that is offered."""
        return frozenset(name for _, table in self.indexes.tables for _, name in table.names())

    def known(self, names: Iterable[str]) -> set[str]:
        """Those of the names that are offered."""
        wanted = list(dict.fromkeys(names))
        return {name for _, table in self.indexes.tables for name in table.known(wanted)}

    def packages(self, chooses: Callable[[str], bool] | None = None) -> Iterator[Package]:
        """The packages whose name is chosen, or all; what several indexes offer comes several times."""
        for at, (repository, table) in enumerate(self.indexes.tables):
            if chooses is None:
                # Of these there are tens of thousands: none is kept.
                package_of = self.indexes.sources.package
                for offer in table.offers():
                    package = package_of(offer.record, repository.identity, True)
                    if package is not None:
                        yield package
                continue
            numbers = [number for number, name in table.names() if chooses(name)]
            yield from self._each(at, table.offers(numbers))

    def by_name(self, chooses: Callable[[str], bool] | None = None) -> Iterator[Package]:
        """As `packages`, in the order of names; of one name in the order of indexes and their rows."""
        if self.empty:
            return
        package_of = self.indexes.sources.package
        flows = [
            zip(table.by_name(chooses), repeat(repository.identity))
            for repository, table in self.indexes.tables
        ]
        # Nothing is kept: of these there are tens of thousands.
        for offer, identity in heapq.merge(*flows, key=lambda row: row[0].name):
            package = package_of(offer.record, identity, chooses is None)
            if package is not None:
                yield package

    def called(self, names: Iterable[str]) -> list[Package]:
        """Every offer of these names."""
        wanted = list(dict.fromkeys(names))
        return [
            package
            for at, (_, table) in enumerate(self.indexes.tables)
            for package in self._each(at, table.called(wanted))
        ]

    def known_as(self, kind: str, names: Iterable[str]) -> list[tuple[str, Package]]:
        """Every offer that stands under one of these names: that `provides` or `obsoletes` it."""
        wanted = list(dict.fromkeys(names))
        return [
            (name, package)
            for at, (_, table) in enumerate(self.indexes.tables)
            for name, offer in table.known_as(kind, wanted)
            for package in self._each(at, (offer,))
        ]

    def holding(self, words: Sequence[str]) -> Iterator[tuple[Package, list[str]]]:
        """Every offer in whose words all of these are found, and the names that it provides.

        ASCII letters of either case; descriptions that are kept apart are not looked into.
        """
        for at, (_, table) in enumerate(self.indexes.tables):
            found = list(table.holding(words))
            provided = table.provided({offer.number for offer in found})
            for offer in found:
                for package in self._each(at, (offer,)):
                    yield package, provided.get(offer.number, [])

    def accepted_by(
        self, accepts: Callable[[KeptOffer, Sequence[str]], bool]
    ) -> Iterator[tuple[Package, list[str]]]:
        """Every offer that is accepted, by itself and the names that it provides."""
        for at, (_, table) in enumerate(self.indexes.tables):
            provided = table.provided()
            for offer in table.offers():
                names = provided.get(offer.number, [])
                if accepts(offer, names):
                    for package in self._each(at, (offer,)):
                        yield package, names

    def _each(self, at: int, offers: Iterable[KeptOffer]) -> Iterator[Package]:
        """The package of each offer: always the same object for the same offer."""
        repository, _ = self.indexes.tables[at]
        for offer in offers:
            package = self._made.get((at, offer.number))
            if package is None:
                package = self.indexes.sources.package(offer.record, repository.identity, False)
                if package is None:
                    continue
                self._made[at, offer.number] = package
                self._rows[package] = Row(at, offer)
            yield package

    # -- one package -----------------------------------------------------------------------

    def _row(self, package: Package) -> Row:
        """Raises LookupError where a package is no offer of these repositories."""
        row = self._rows.get(package)
        if row is None:
            raise LookupError(f"{package.label} is no offer of these repositories")
        return row

    def _offer_row(self, package: Package) -> OfferRow:
        return OfferRow(package, self._row(package).offer.record)

    def repository_of(self, package: Package) -> Repository:
        """The repository that offers a package."""
        return self.indexes.tables[self._row(package).table][0]

    def place(self, package: Package) -> Place:
        """Where the archive of an offer can be fetched."""
        return self.indexes.sources.place(self._offer_row(package), self.repository_of(package))

    def row_of(self, package: Package) -> tuple[int, int]:
        """The number of the index that offers a package, and its own in there."""
        row = self._row(package)
        return row.table, row.offer.number

    def at_row(self, index: int, number: int) -> Package | None:
        """The package of an offer, by the number of its index and its own in there."""
        found = self._each(index, self.indexes.tables[index][1].offers([number]))
        return next(found, None)

    def introduce(self, package: Package, index: int) -> None:
        """Let a package of the graph be judged as an offer of an index; its record is not known."""
        self._rows[package] = Row(index, _NO_RECORD)

    def described(self, package: Package) -> Package:
        """A package with its long description, where that is kept apart."""
        if package.description is not None:
            return package
        record = self._row(package).offer.record
        text = self.indexes.sources.description(record, self.indexes.kept)
        return package if text is None else replace(package, description=text)

    def longer_descriptions(self) -> Callable[[KeptOffer], str] | None:
        """What tells the long description of an offer, where those are kept apart."""
        tables = self.indexes.others(IndexKind.DESCRIPTIONS, keyed(IndexKind.DESCRIPTIONS.value))
        if not tables:
            return None
        texts = {key: text for _, table in tables for key, text in table.all()}

        def kept(_: IndexKind, key: str) -> Sequence[str]:
            return [texts[key]] if key in texts else ()

        description = self.indexes.sources.description
        return lambda offer: description(offer.record, kept) or ""

    # -- what may be believed --------------------------------------------------------------

    def confirmed(self, packages: Iterable[Package]) -> set[Package]:
        """Those of the offers that their index really makes: it is read once more.

        What lies in a table that an earlier run made is that run's word; where more than a hint rests on
        it, the index itself has to say it, whose digest is checked again as it is read.
        """
        found: set[Package] = set()
        by_table: dict[int, list[Package]] = {}
        for package in packages:
            at = self._row(package).table
            if self.indexes.tables[at][1].kept:
                by_table.setdefault(at, []).append(package)
            else:
                found.add(package)
        for at, asked in by_table.items():
            found |= self._told_again(at, asked)
        return found

    def _told_again(self, at: int, packages: Sequence[Package]) -> set[Package]:
        repository, _ = self.indexes.tables[at]
        listed = repository.copy.listed if repository.copy else None
        assert listed is not None
        wanted: dict[tuple[str, str], list[Package]] = {}
        for package in packages:
            offer = self._row(package).offer
            wanted.setdefault((offer.name, offer.record), []).append(package)
        found: set[Package] = set()
        report = self.indexes.system.report
        try:
            read = self.indexes.sources.readers[IndexKind.PACKAGES]
            for told in read(listed, lambda _: None):
                found.update(wanted.get((told.name, told.record), ()))
        except (AccessError, ValueError) as error:
            report(Gap(listed.path, words_of(error)))
            return set()
        left = sum(package not in found for package in packages)
        if left:
            why = f"{left:,} of what was kept of it is not in it: that is not believed"
            report(Gap(listed.path, why))
            self.indexes.forget(at)
        return found

    # -- choosing --------------------------------------------------------------------------

    def offering(self, package: Package) -> Offering:
        """A package with its repository, and why it is never taken, if it is not."""
        repository = self.repository_of(package)
        barred = self.indexes.sources.barred(package, repository, self.indexes.kept)
        return Offering(package, repository, barred)

    def kind_of_machine(self, package: Package) -> str:
        """What makes packages of one name take each other's place."""
        return self.indexes.sources.kind_of_machine(package)

    def choices(
        self, installed: Iterable[Package], offered: Iterable[Package]
    ) -> Iterator[tuple[list[Package], list[Choice]]]:
        """For each name and kind of machine: what is installed of it, and every version."""
        if not self.indexes.readable:
            return
        kind = self.kind_of_machine
        here: dict[tuple[str, str], list[Package]] = {}
        there: dict[tuple[str, str], list[Offering]] = {}
        for package in installed:
            here.setdefault((package.name, kind(package)), []).append(package)
        for package in offered:
            key = (package.name, kind(package))
            there.setdefault(key, []).append(self.offering(package))
        for key in dict.fromkeys((*here, *there)):
            present = here.get(key, [])
            yield present, self.indexes.sources.choices(present, there.get(key, []))

    def order(self, here: Package, other: Package) -> int | None:
        """Negative, 0 or positive as a package is older than another of its name; None for a guess."""
        return self.indexes.sources.order(here, other)


@contextmanager
def open_catalogue(system: System, options: RepositoryOptions = EVERYTHING) -> Iterator[Catalogue]:
    """Open the indexes of a system's repositories, and let go of them afterwards."""
    indexes = OpenIndexes(system, options)
    try:
        yield Catalogue(indexes)
    finally:
        indexes.close()
