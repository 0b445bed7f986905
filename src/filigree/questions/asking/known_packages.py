"""The packages of a scope by name: what is on record, what is offered, or both, and who offers which."""

import heapq
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import groupby
from typing import TYPE_CHECKING, NamedTuple

from filigree.model.package import Package
from filigree.questions.asking.scopes import Scope

if TYPE_CHECKING:
    from filigree.questions.offers.catalogue import Catalogue

Identity = tuple[str, str, str]
"""Name, architecture and version."""


class KnownPackage(NamedTuple):
    """A package, and who offers this very version of it; None where nobody was asked."""

    package: Package
    by: list[str] | None = None


def identity(package: Package) -> Identity:
    """What tells a package from others."""
    return package.name, package.architecture, package.version


def _name(package: Package) -> str:
    return package.name


def place(offer: KnownPackage) -> tuple[str, str]:
    """By what packages of a scope are sorted: name, then architecture."""
    return offer.package.name, offer.package.architecture


def known_by_name(
    recorded: Sequence[Package],
    catalogue: "Catalogue",
    names: Callable[[str], bool] | None,
    scope: Scope,
) -> Iterator[KnownPackage]:
    """What is on record, what is offered, or both, by name; and who offers each very version."""
    if scope is Scope.INSTALLED:
        names = frozenset(map(_name, recorded)).__contains__
    offered = ((p, True) for p in catalogue.by_name(names))
    merged: Iterable[tuple[Package, bool]] = offered
    if scope is not Scope.AVAILABLE:
        here = ((p, False) for p in sorted(recorded, key=_name))
        merged = heapq.merge(here, offered, key=_name_of_pair)
    for _, group in groupby(merged, key=_name_of_pair):
        same = list(group)
        if len(same) > 1:
            yield from _of_one_name(same, scope)
            continue
        # Most are offered once, and are not here.
        ((package, is_offer),) = same
        if not is_offer:
            yield KnownPackage(package, [])
        elif scope is not Scope.INSTALLED:
            yield KnownPackage(package, [package.repository] if package.repository else [])


def _name_of_pair(one: tuple[Package, bool]) -> str:
    return one[0].name


def _of_one_name(same: Iterable[tuple[Package, bool]], scope: Scope) -> list[KnownPackage]:
    """The packages of one name, each once, and who offers it: `same` tells whether each is an offer."""
    by: dict[Identity, list[str]] = {}
    mine: list[Package] = []
    first: dict[Identity, Package] = {}
    for package, is_offer in same:
        if not is_offer:
            mine.append(package)
            continue
        key = identity(package)
        first.setdefault(key, package)
        known = by.setdefault(key, [])
        if package.repository and package.repository not in known:
            known.append(package.repository)
    present = {identity(p) for p in mine if p.state.present}
    others = first if scope is not Scope.INSTALLED else ()
    mine += (first[key] for key in others if key not in present)
    return sorted((KnownPackage(p, by.get(identity(p), [])) for p in mine), key=place)
