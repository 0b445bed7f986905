"""Packages of this machine, chosen by what they are: so that no name stands in a benchmark or a comparison."""

import collections
from typing import NamedTuple

from filigree.model.errors import FiligreeError
from filigree.model.needs import terms_of
from filigree.questions.asking.scopes import Scope, looking
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System, open_system

_LOOKED_AT = 2000


class PackagesHere(NamedTuple):
    """Names: the largest that is installed, the one that most others need, and one that is only offered.

    `misspelt` is the needed one with two signs in each other's place.
    """

    largest: str
    needed: str
    offered: str

    @property
    def misspelt(self) -> str:
        """What a person may type for the one that is needed."""
        name = self.needed
        return name[:1] + name[2:3] + name[1:2] + name[3:]


def packages_here(cache: str | None = None) -> PackagesHere:
    """What this machine has; the largest takes the place of what is offered where nothing is."""
    with open_system("/") as system:
        there = [one for one in system.packages if one.state.present]
        asked = collections.Counter(
            term.name
            for one in there
            for need in system.database.needs(one)
            for term in terms_of(need.condition)
        )
        needed = max((one.name for one in there), key=lambda name: asked[name])
        largest = max(there, key=lambda one: one.installed_size or 0).name
        return PackagesHere(largest, needed, _offered(system, cache) or largest)


def _offered(system: System, cache: str | None) -> str | None:
    """Of what is only offered the one with the most needs, among the first by name."""
    here = {one.name for one in system.packages}
    try:
        with looking(system, Scope.AVAILABLE, RepositoryOptions(cache=cache)) as lookup:
            if lookup.offered is None or lookup.offered.empty:
                return None
            names = sorted(lookup.offered.names() - here)[:_LOOKED_AT]
            found = lookup.offered.called(names)
            return max(found, key=lambda one: len(lookup.records(one).needs())).name
    except (FiligreeError, ValueError):
        return None
