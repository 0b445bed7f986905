"""What is installed: filtered, sorted, counted, totalled."""

import fnmatch
import re
from collections import Counter
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import StrEnum
from typing import TYPE_CHECKING, Any, NamedTuple

from filigree.model.answer import Answer, Flow
from filigree.model.package import Package, Reason, State
from filigree.questions.asking.known_packages import (
    Identity,
    KnownPackage,
    identity,
    known_by_name,
    place,
)
from filigree.questions.asking.package_rows import PackageRow, package_row
from filigree.questions.asking.package_totals import reasons_told, states_told
from filigree.questions.asking.scopes import Scope
from filigree.questions.asking.searching import Search
from filigree.questions.asking.silence import WHY_INSTALLED, report_silence
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System

if TYPE_CHECKING:
    from filigree.questions.offers.catalogue import Catalogue


class Matching(StrEnum):
    """How a pattern chooses among names."""

    SUBSTRING = "substring"
    GLOB = "glob"
    REGEX = "regex"
    WORD = "word"
    EXACT = "exact"


class Order(StrEnum):
    """What the packages are sorted by; the name decides where it is the same."""

    NAME = "name"
    SIZE = "size"
    INSTALLED = "installed"
    SECTION = "section"
    IMPACT = "impact"


@dataclass(frozen=True, slots=True)
class Filter:
    """Which packages are wanted. An empty part does not filter; `sections` are globs.

    Without `states`, all packages that have more than configuration on the disk. `outsiders` are those on
    record of whose name no repository offers any version.
    """

    patterns: tuple[str, ...] = ()
    match: Matching = Matching.SUBSTRING
    reason: Reason | None = None
    held: bool = False
    states: frozenset[State] = frozenset()
    sections: tuple[str, ...] = ()
    architectures: tuple[str, ...] = ()
    outsiders: bool = False


@dataclass(frozen=True, slots=True)
class CensusSummary:
    """What the packages that pass come to, of which so many are `shown`; sizes in bytes.

    `states` and `reasons` count packages by the words for them, the most frequent first.
    """

    count: int
    shown: int
    installed_size: int
    states: dict[str, int]
    reasons: dict[str, int]
    held: int
    configuration_left: int
    scope: Scope


def census(
    system: System,
    wanted: Filter = Filter(),
    order: Order = Order.NAME,
    reverse: bool = False,
    limit: int | None = None,
    scope: Scope = Scope.INSTALLED,
    options: RepositoryOptions = EVERYTHING,
    impact: bool = False,
) -> Answer[PackageRow, CensusSummary]:
    """The packages that pass the filter. Bad news where a filter lets none through.

    By `scope` those on record, those that the repositories offer, or both: then each tells who offers
    this very version. `options` says which repositories are asked. With `impact`, or sorted by it, each
    tells how many packages stand on it: of what is installed for what is, of what is offered for what is
    offered. Raises BadQuestion where a pattern does not parse.
    """
    shape = Shape(order, reverse, limit, impact)
    return census_flow(system, wanted, shape, scope, options).collected()


class Shape(NamedTuple):
    """In which order, and how many at most; and whether each tells how many packages stand on it."""

    order: Order = Order.NAME
    reverse: bool = False
    limit: int | None = None
    impact: bool = False


BY_NAME = Shape()


def census_flow(
    system: System,
    wanted: Filter = Filter(),
    shape: Shape = BY_NAME,
    scope: Scope = Scope.INSTALLED,
    options: RepositoryOptions = EVERYTHING,
) -> Flow[PackageRow, CensusSummary]:
    """As `census`; sorted by name the packages come as they are read, and none of them is held."""
    search = Search(insensitive=False)
    names = name_filter(wanted.patterns, wanted.match, search) if wanted.patterns else None
    rows = _rows(system, wanted, _Asked(search, names, shape, scope, options))
    return Flow("census", system.system_label, rows)


class _Asked(NamedTuple):
    """What is asked beside the filter; `names` is None where every name is wanted."""

    search: Search
    names: Callable[[str], bool] | None
    shape: Shape
    scope: Scope
    options: RepositoryOptions


def _rows(
    system: System, wanted: Filter, asked: _Asked
) -> Generator[PackageRow, None, Answer[PackageRow, CensusSummary]]:
    total = _PackageTotals(asked.scope)
    limit = asked.shape.limit
    with _found(system, wanted, asked) as found:
        for offer in _in_order(total.passing(found.offers, wanted), asked.shape, found):
            shown = limit is None or total.shown < limit
            total.add(offer.package, shown)
            if shown:
                yield package_row(offer.package, offer.by, found.impact_of(offer.package))
    if asked.search.gap is not None:
        system.report(asked.search.gap)
    untold = False
    if wanted.reason is not None or total.present:
        untold = report_silence(system, "reason", WHY_INSTALLED) and wanted.reason is not None
    narrowed = wanted != Filter() or bool(asked.options.repositories)
    return Answer(
        "census",
        system.system_label,
        [],
        total.summary(),
        system.gaps,
        list(found.notes),
        # That there are no outsiders is no bad news.
        bad_news=bool(found.notes)
        or (not total.count and narrowed and not wanted.outsiders and not untold),
    )


class _PackageTotals:
    """What the packages come to, counted as they pass."""

    def __init__(self, scope: Scope) -> None:
        self.count = 0
        self.shown = 0
        self.present = False
        """Whether any that was shown is on the disk."""
        self._scope = scope
        self._size = 0
        self._held = 0
        self._left = 0
        self._states: Counter[State] = Counter()
        self._reasons: Counter[Reason | None] = Counter()

    def passing(self, offers: Iterable[KnownPackage], wanted: Filter) -> Iterator[KnownPackage]:
        """Those that the filter lets through, and of which there is more than configuration."""
        for offer in offers:
            if not _passes(offer.package, wanted):
                continue
            state = offer.package.state
            if state.present or state is State.AVAILABLE or wanted.states:
                yield offer
            else:
                self._left += 1

    def add(self, package: Package, shown: bool) -> None:
        """Count one more, which is shown or is not."""
        self.count += 1
        self._size += package.installed_size or 0
        self._held += package.held
        self._states[package.state] += 1
        self._reasons[package.reason] += 1
        if shown:
            self.shown += 1
            self.present = self.present or package.state.present

    def summary(self) -> CensusSummary:
        """What they came to."""
        return CensusSummary(
            count=self.count,
            shown=self.shown,
            installed_size=self._size,
            states=states_told(self._states),
            reasons=reasons_told(self._reasons),
            held=self._held,
            configuration_left=self._left,
            scope=self._scope,
        )


def _in_order(
    offers: Iterator[KnownPackage], shape: Shape, found: "_Found"
) -> Iterable[KnownPackage]:
    """The packages in the order that is wanted; by name they come as they are."""
    order, reverse = shape.order, shape.reverse
    if order is Order.NAME and not reverse:
        return offers
    key = _ORDERS.get(order) or (lambda p: found.impact_of(p) or 0)
    backwards = reverse is (order in (Order.NAME, Order.SECTION))
    return sorted(offers, key=lambda offer: key(offer.package), reverse=backwards)


class _Found(NamedTuple):
    """The packages of a scope by name and architecture, before they are filtered."""

    offers: Iterable[KnownPackage]
    impacts: dict[Identity, int] | None = None
    notes: tuple[str, ...] = ()

    def impact_of(self, package: Package) -> int | None:
        """How many packages stand on one; None where that was not asked."""
        return None if self.impacts is None else self.impacts.get(identity(package), 0)


@contextmanager
def _found(system: System, wanted: Filter, asked: _Asked) -> Iterator[_Found]:
    """The packages of a scope whose name is wanted, while the indexes are open."""
    names, scope, options = asked.names, asked.scope, asked.options
    impact = asked.shape.impact or asked.shape.order is Order.IMPACT
    recorded = [p for p in system.packages if names is None or names(p.name)]
    if scope is Scope.INSTALLED and not wanted.outsiders and not options.repositories:
        yield _Found(_unasked(recorded), _installed_impacts(system) if impact else None)
        return
    from filigree.questions.offers.catalogue import open_catalogue

    with open_catalogue(system, options) as catalogue:
        impacts = _impacts(system, catalogue, scope) if impact else None
        offers: Iterable[KnownPackage]
        if wanted.outsiders:
            known = catalogue.known(p.name for p in recorded)
            # Without any index that may be believed nothing can be told to be offered by nobody.
            unknown = [p for p in recorded if p.name not in known and not catalogue.empty]
            offers = sorted((KnownPackage(p, []) for p in unknown), key=place)
        else:
            offers = known_by_name(recorded, catalogue, names, scope)
            if options.repositories and scope is not Scope.AVAILABLE:
                offers = (offer for offer in offers if offer.by)
        yield _Found(offers, impacts, tuple(catalogue.notes))


def _unasked(packages: Iterable[Package]) -> list[KnownPackage]:
    return sorted(map(KnownPackage, packages), key=place)


def _installed_impacts(system: System) -> dict[Identity, int]:
    from filigree.questions.planning.impact import installed_impact

    return {identity(package): count for package, count in installed_impact(system)}


def _impacts(system: System, catalogue: "Catalogue", scope: Scope) -> dict[Identity, int]:
    from filigree.questions.planning.impact import offered_impact

    found: dict[Identity, int] = {}
    if scope is not Scope.INSTALLED:
        found |= offered_impact(catalogue)
    if scope is not Scope.AVAILABLE:
        found |= _installed_impacts(system)
    return found


def name_filter(
    patterns: Sequence[str], match: Matching, search: Search | None = None
) -> Callable[[str], bool]:
    """Whether a name fits any of the patterns; without patterns every name does.

    Case counts for a glob, a regular expression and an exact name alone.
    """
    if not patterns:
        return lambda _: True
    if match is Matching.EXACT:
        return frozenset(patterns).__contains__
    if match is Matching.REGEX:
        searches = list(map((search or Search(insensitive=False)).compiled, patterns))
        return lambda name: any(find(name) is not None for find in searches)
    insensitive = match in (Matching.SUBSTRING, Matching.WORD)
    tests = [
        re.compile(_expression(pattern, match), re.IGNORECASE if insensitive else 0)
        for pattern in patterns
    ]
    return lambda name: any(test.search(name) for test in tests)


def _expression(pattern: str, match: Matching) -> str:
    if match is Matching.GLOB:
        return rf"\A{fnmatch.translate(pattern)}"
    if match is Matching.WORD:
        return rf"(?<![0-9A-Za-z]){re.escape(pattern)}(?![0-9A-Za-z])"
    return re.escape(pattern)


def _passes(package: Package, wanted: Filter) -> bool:
    states = wanted.states or _ON_RECORD
    if package.state not in states:
        return False
    if wanted.reason is not None and package.reason is not wanted.reason:
        return False
    if wanted.held and not package.held:
        return False
    if wanted.architectures and package.architecture not in wanted.architectures:
        return False
    return not wanted.sections or any(
        fnmatch.fnmatchcase(package.section or "", pattern) for pattern in wanted.sections
    )


_ON_RECORD = frozenset(State) - {State.NOT_INSTALLED}
_LONG_AGO = datetime.min.replace(tzinfo=UTC)
# Sizes and times go from the largest and newest down: what an auditor looks at first.
_ORDERS: dict[Order, Callable[[Package], Any]] = {
    Order.NAME: lambda p: p.name,
    Order.SIZE: lambda p: p.installed_size or 0,
    Order.INSTALLED: lambda p: p.installed_at or _LONG_AGO,
    Order.SECTION: lambda p: p.section or "",
}
