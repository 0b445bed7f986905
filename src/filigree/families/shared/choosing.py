"""Which version a system would take that goes by the order of its repositories.

Of the repositories that offer a name, the lowest number wins, even with an older version; then the newest
version. Nothing goes back of itself. Several families have this rule, each with numbers of its own.
"""

from collections.abc import Callable, Iterator, Sequence
from functools import cmp_to_key
from typing import NamedTuple

from filigree.model.choices import Choice, Offering
from filigree.model.package import Package

Compare = Callable[[str, str], int]
Order = Callable[[Package, Package], int | None]
"""Negative, 0 or positive as one is older than another; None where that would be a guess."""


class Numbers(NamedTuple):
    """By which numbers repositories are asked, and in which order versions are.

    `usual` is the number where none is given; `own` tells that of an offer where it is not its
    repository's. Where versions have no order of their own, `order` says what is sure of it: what is
    offered then takes the place of what is installed, whichever is newer.
    """

    compare: Compare
    usual: int
    own: Callable[[Offering], int] | None = None
    order: Order | None = None

    def of(self, one: Offering) -> int:
        """The number of an offer: the lowest wins."""
        if self.own is not None:
            return self.own(one)
        return self.usual if one.repository.priority is None else one.repository.priority


def choices_by_number(
    installed: Sequence[Package], offered: Sequence[Offering], numbers: Numbers
) -> list[Choice]:
    """All versions of one name for one kind of machine, the newest first."""
    return list(_Choosing(installed, offered, numbers).choices())


class _Choosing:
    """One name, installed and offered; which version would be taken, and why not each other."""

    def __init__(
        self, installed: Sequence[Package], offered: Sequence[Offering], numbers: Numbers
    ) -> None:
        self._numbers = numbers
        self._key = cmp_to_key(numbers.compare)
        self._installed = {package.version: package for package in reversed(installed)}
        self._offers: dict[str, list[Offering]] = {version: [] for version in self._installed}
        for one in offered:
            self._offers.setdefault(one.package.version, []).append(one)
        self._packages = {one.package.version: one.package for one in offered}
        self._packages |= {package.version: package for package in installed}
        allowed = [one for one in offered if one.barred is None]
        self._best = min(map(numbers.of, allowed), default=numbers.usual)
        reached = [one.package.version for one in allowed if numbers.of(one) == self._best]
        self._newest = max(self._installed, key=self._key, default=None)
        self._top = self._taken_of(max(reached, key=self._key, default=None))
        self._taken = self._top if self._top is not None else self._newest

    def _taken_of(self, top: str | None) -> str | None:
        """The version that is offered and would be taken: nothing goes back of itself."""
        if top is None or self._newest is None:
            return top
        ahead = self._numbers.compare(top, self._newest)
        back = ahead == 0 or (ahead < 0 and self._numbers.order is None)
        return self._newest if back else top

    def choices(self) -> Iterator[Choice]:
        """Every version, the newest first."""
        for version in sorted(self._offers, key=self._key, reverse=True):
            offers = self._offers[version]
            first = min(offers, key=self._numbers.of, default=None)
            package = first.package if first else self._installed[version]
            why = first.repository.facts.get("priority_from", "") if first else "it is installed"
            yield Choice(
                version, package.architecture, version in self._installed, tuple(offers),
                self._numbers.of(first) if first else None, why, version == self._taken,
                self._verdict(version, offers),
            )  # fmt: skip

    def _verdict(self, version: str, offers: Sequence[Offering]) -> str:
        """Why a version would be taken, or would not."""
        installed_too = version in self._installed
        if version == self._taken:
            return "it stays" if installed_too else "it would be taken"
        barred = [one.barred for one in offers if one.barred is not None]
        if offers and len(barred) == len(offers):
            return f"never taken: {barred[0]}"
        age = self._age(version, self._newest)
        if age is not None and age < 0:
            return "older than what is installed"
        if installed_too:
            return "it is installed"
        if all(self._numbers.of(one) > self._best for one in offers if one.barred is None):
            return "a repository of a better priority offers another"
        above = self._age(version, self._top)
        return "another one is offered" if above is None else "a newer one is offered"

    def _age(self, version: str, beside: str | None) -> int | None:
        """Whether one version is older than another, as far as that is sure."""
        if beside is None:
            return None
        if self._numbers.order is None:
            return self._numbers.compare(version, beside)
        return self._numbers.order(self._packages[version], self._packages[beside])
