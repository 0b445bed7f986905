"""What is installed: filtered, sorted, counted, totalled."""

import fnmatch
import re
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import StrEnum
from typing import TYPE_CHECKING, Any

from filigree.model.answer import Answer
from filigree.model.package import Package, Reason, State
from filigree.questions.asking.package_rows import PackageRow, package_row
from filigree.questions.asking.scopes import EVERYTHING, RepositoryOptions, Scope
from filigree.questions.asking.searching import Search
from filigree.questions.asking.silence import WHY_INSTALLED, report_silence
from filigree.system import System

if TYPE_CHECKING:
    from filigree.questions.offers.available import Available


class Match(StrEnum):
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

    Without `states`, all packages that have more than configuration on the disk.
    """

    patterns: tuple[str, ...] = ()
    match: Match = Match.SUBSTRING
    reason: Reason | None = None
    held: bool = False
    states: frozenset[State] = frozenset()
    sections: tuple[str, ...] = ()
    architectures: tuple[str, ...] = ()


def census(
    system: System,
    wanted: Filter = Filter(),
    order: Order = Order.NAME,
    reverse: bool = False,
    limit: int | None = None,
    scope: Scope = Scope.INSTALLED,
    outsiders: bool = False,
    options: RepositoryOptions = EVERYTHING,
    impact: bool = False,
) -> Answer[PackageRow]:
    """The packages that pass the filter. Bad news where a filter lets none through.

    By `scope` those on record, those that the repositories offer, or both: then each tells who offers
    this very version. `outsiders` are those on record of whose name no repository offers any version;
    `options` says which repositories are asked. With `impact`, or sorted by it, each tells how many
    packages stand on it: of what is installed for what is, of what is offered for what is offered.
    Raises BadQuestion where a pattern does not parse.
    """
    search = Search(insensitive=False)
    names = name_filter(wanted.patterns, wanted.match, search) if wanted.patterns else None
    offers: Available | None = None
    repositories = options.repositories
    if scope is not Scope.INSTALLED or outsiders or repositories:
        offers = _opened(system, options)
    passing, offered = _found(system, names, scope, offers, outsiders)
    passing = [p for p in passing if _passes(p, wanted)]
    if repositories and scope is not Scope.AVAILABLE and not outsiders:
        passing = [p for p in passing if offered.get(_identity(p))]
    if search.gap is not None:
        system.report(search.gap)
    rest = [p for p in passing if p.state.present or p.state is State.AVAILABLE or wanted.states]
    rest.sort(key=lambda p: (p.name, p.architecture))
    impacts = _impacts(system, offers, scope) if order is Order.IMPACT or impact else None
    key = _ORDERS.get(order) or (lambda p: (impacts or {}).get(_identity(p), 0))
    rest.sort(key=key, reverse=reverse is (order in (Order.NAME, Order.SECTION)))
    shown = rest if limit is None else rest[:limit]
    untold = False
    if wanted.reason is not None or any(package.state.present for package in shown):
        untold = report_silence(system, "reason", WHY_INSTALLED) and wanted.reason is not None
    asked = wanted != Filter() or outsiders or bool(repositories)
    notes = [f"no repository is called {name}" for name in offers.unknown] if offers else []
    rows = [
        package_row(
            p,
            offered.get(_identity(p), []) if offers else None,
            impacts.get(_identity(p), 0) if impacts is not None else None,
        )
        for p in shown
    ]
    if offers is not None:
        offers.close()
    return Answer(
        "census",
        system.system_label,
        rows,
        {**_summary(rest, len(shown), len(passing) - len(rest)), "scope": scope.value},
        system.gaps,
        notes,
        # That there are no outsiders is no bad news.
        bad_news=bool(notes) or (not rest and asked and not outsiders and not untold),
    )


def _opened(system: System, options: RepositoryOptions) -> "Available":
    from filigree.questions.offers.available import Available

    return Available(system, options)


_Identity = tuple[str, str, str]


def _identity(package: Package) -> _Identity:
    return package.name, package.architecture, package.version


def _impacts(system: System, offers: "Available | None", scope: Scope) -> dict[_Identity, int]:
    from filigree.questions.planning.impact import installed_impact, offered_impact

    found: dict[_Identity, int] = {}
    if offers is not None and scope is not Scope.INSTALLED:
        found |= offered_impact(offers)
    if scope is not Scope.AVAILABLE:
        found |= {_identity(package): count for package, count in installed_impact(system)}
    return found


def _found(
    system: System,
    names: Callable[[str], bool] | None,
    scope: Scope,
    offers: "Available | None",
    outsiders: bool,
) -> tuple[list[Package], dict[_Identity, list[str]]]:
    """The packages of a scope whose name is chosen, and who offers each very version."""
    recorded = [p for p in system.packages if names is None or names(p.name)]
    if offers is None:
        return recorded, {}
    if outsiders:
        known = offers.known(p.name for p in recorded)
        # Without any index that may be believed nothing can be told to be offered by nobody.
        return [p for p in recorded if p.name not in known and not offers.empty], {}
    offered: dict[_Identity, list[str]] = {}
    first: dict[_Identity, Package] = {}
    for package in offers.packages(names):
        key = _identity(package)
        first.setdefault(key, package)
        by = offered.setdefault(key, [])
        if package.repository and package.repository not in by:
            by.append(package.repository)
    if scope is Scope.AVAILABLE:
        return list(first.values()), offered
    if scope is Scope.INSTALLED:
        return recorded, offered
    here = {_identity(p) for p in recorded if p.state.present}
    return recorded + [p for key, p in first.items() if key not in here], offered


def name_filter(
    patterns: Sequence[str], match: Match, search: Search | None = None
) -> Callable[[str], bool]:
    """Whether a name fits any of the patterns; without patterns every name does.

    Case counts for a glob, a regular expression and an exact name alone.
    """
    if not patterns:
        return lambda _: True
    if match is Match.EXACT:
        return frozenset(patterns).__contains__
    if match is Match.REGEX:
        searches = list(map((search or Search(insensitive=False)).compiled, patterns))
        return lambda name: any(find(name) is not None for find in searches)
    insensitive = match in (Match.SUBSTRING, Match.WORD)
    tests = [
        re.compile(_expression(pattern, match), re.IGNORECASE if insensitive else 0)
        for pattern in patterns
    ]
    return lambda name: any(test.search(name) for test in tests)


def _expression(pattern: str, match: Match) -> str:
    if match is Match.GLOB:
        return rf"\A{fnmatch.translate(pattern)}"
    if match is Match.WORD:
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


def total_size(packages: Iterable[Package]) -> int:
    """The sum of the installed sizes on record, in bytes."""
    return sum(p.installed_size or 0 for p in packages)


def by_state(packages: Iterable[Package]) -> dict[str, int]:
    """How many packages are in each state, the most frequent first."""
    return {state.value: count for state, count in Counter(p.state for p in packages).most_common()}


def by_reason(packages: Iterable[Package]) -> dict[str, int]:
    """How many packages were chosen, and how many came as dependencies."""
    counts = Counter(p.reason.value if p.reason else "unknown" for p in packages)
    return dict(counts.most_common())


def _summary(chosen: Sequence[Package], shown: int, left: int) -> dict[str, Any]:
    return {
        "count": len(chosen),
        "shown": shown,
        "installed_size": total_size(chosen),
        "states": by_state(chosen),
        "reasons": by_reason(chosen),
        "held": sum(p.held for p in chosen),
        "configuration_left": left,
    }
