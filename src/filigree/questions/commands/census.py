"""What is installed: filtered, sorted, counted, totalled."""

import fnmatch
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import StrEnum
from typing import TYPE_CHECKING, Any, NamedTuple

from filigree.model.answer import Answer
from filigree.model.package import Package, Reason, State
from filigree.questions.asking.package_rows import PackageRow, package_row
from filigree.questions.asking.package_totals import by_reason, by_state, total_size
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
    search = Search(insensitive=False)
    names = name_filter(wanted.patterns, wanted.match, search) if wanted.patterns else None
    found = _found(system, wanted, names, scope, options, order is Order.IMPACT or impact)
    passing = [p for p in found.packages if _passes(p, wanted)]
    if search.gap is not None:
        system.report(search.gap)
    rest = [p for p in passing if p.state.present or p.state is State.AVAILABLE or wanted.states]
    rest.sort(key=lambda p: (p.name, p.architecture))
    key = _ORDERS.get(order) or (lambda p: found.impact_of(p) or 0)
    rest.sort(key=key, reverse=reverse is (order in (Order.NAME, Order.SECTION)))
    shown = rest if limit is None else rest[:limit]
    untold = False
    if wanted.reason is not None or any(package.state.present for package in shown):
        untold = report_silence(system, "reason", WHY_INSTALLED) and wanted.reason is not None
    asked = wanted != Filter() or bool(options.repositories)
    return Answer(
        "census",
        system.system_label,
        [package_row(p, found.offered_by(p), found.impact_of(p)) for p in shown],
        CensusSummary(
            count=len(rest),
            shown=len(shown),
            installed_size=total_size(rest),
            states=by_state(rest),
            reasons=by_reason(rest),
            held=sum(p.held for p in rest),
            configuration_left=len(passing) - len(rest),
            scope=scope,
        ),
        system.gaps,
        list(found.notes),
        # That there are no outsiders is no bad news.
        bad_news=bool(found.notes) or (not rest and asked and not wanted.outsiders and not untold),
    )


_Identity = tuple[str, str, str]


def _identity(package: Package) -> _Identity:
    return package.name, package.architecture, package.version


class _Found(NamedTuple):
    """The packages of a scope, before they are filtered, and what is known of them beside their records.

    `offered` tells who offers each very version, None where no repository was asked.
    """

    packages: list[Package]
    offered: dict[_Identity, list[str]] | None = None
    impacts: dict[_Identity, int] | None = None
    notes: tuple[str, ...] = ()

    def offered_by(self, package: Package) -> list[str] | None:
        """Who offers this very version; None where nobody was asked."""
        return None if self.offered is None else self.offered.get(_identity(package), [])

    def impact_of(self, package: Package) -> int | None:
        """How many packages stand on one; None where that was not asked."""
        return None if self.impacts is None else self.impacts.get(_identity(package), 0)


def _found(
    system: System,
    wanted: Filter,
    names: Callable[[str], bool] | None,
    scope: Scope,
    options: RepositoryOptions,
    impact: bool,
) -> _Found:
    """The packages of a scope whose name is wanted."""
    recorded = [p for p in system.packages if names is None or names(p.name)]
    if scope is Scope.INSTALLED and not wanted.outsiders and not options.repositories:
        return _Found(recorded, impacts=_installed_impacts(system) if impact else None)
    from filigree.questions.offers.catalogue import open_catalogue

    with open_catalogue(system, options) as catalogue:
        impacts = _impacts(system, catalogue, scope) if impact else None
        if wanted.outsiders:
            known = catalogue.known(p.name for p in recorded)
            # Without any index that may be believed nothing can be told to be offered by nobody.
            unknown = [p for p in recorded if p.name not in known and not catalogue.empty]
            return _Found(unknown, {}, impacts, tuple(catalogue.notes))
        first, offered = _offers(catalogue, names)
        here = {_identity(p) for p in recorded if p.state.present}
        packages = list(first.values())
        if scope is Scope.INSTALLED:
            packages = recorded
        elif scope is Scope.ANY:
            packages = recorded + [p for key, p in first.items() if key not in here]
        if options.repositories and scope is not Scope.AVAILABLE:
            packages = [p for p in packages if offered.get(_identity(p))]
        return _Found(packages, offered, impacts, tuple(catalogue.notes))


def _offers(
    catalogue: "Catalogue", names: Callable[[str], bool] | None
) -> tuple[dict[_Identity, Package], dict[_Identity, list[str]]]:
    """What is offered of some names, or all: the first offer of each build, and who offers it."""
    offered: dict[_Identity, list[str]] = {}
    first: dict[_Identity, Package] = {}
    for package in catalogue.packages(names):
        key = _identity(package)
        first.setdefault(key, package)
        by = offered.setdefault(key, [])
        if package.repository and package.repository not in by:
            by.append(package.repository)
    return first, offered


def _installed_impacts(system: System) -> dict[_Identity, int]:
    from filigree.questions.planning.impact import installed_impact

    return {_identity(package): count for package, count in installed_impact(system)}


def _impacts(system: System, catalogue: "Catalogue", scope: Scope) -> dict[_Identity, int]:
    from filigree.questions.planning.impact import offered_impact

    found: dict[_Identity, int] = {}
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
