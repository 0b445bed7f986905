"""Which version a system would take that goes by the order of its repositories.

Of the repositories that offer a name, the lowest number wins, even with an older version; then the newest
version. Nothing goes back of itself. Several families have this rule, each with numbers of its own.
"""

from collections.abc import Callable, Sequence
from functools import cmp_to_key

from filigree.model.choices import Choice, Offering
from filigree.model.package import Package

Compare = Callable[[str, str], int]
Order = Callable[[Package, Package], int | None]
"""Negative, 0 or positive as one is older than another; None where that would be a guess."""


def choices_by_number(
    installed: Sequence[Package], offered: Sequence[Offering], compare: Compare, usual: int,
    own_number: Callable[[Offering], int] | None = None, order: Order | None = None,
) -> list[Choice]:  # fmt: skip
    """All versions of one name for one kind of machine, the newest first; `usual` where none is given.

    `own_number` tells that of an offer where it is not its repository's. Where versions have no order of
    their own, `order` says what is sure of it: what is offered then takes the place of what is installed,
    whichever is newer.
    """
    key = cmp_to_key(compare)

    def number(one: Offering) -> int:
        if own_number is not None:
            return own_number(one)
        return usual if one.repository.priority is None else one.repository.priority

    here = {package.version for package in installed}
    newest = max(here, key=key, default=None)
    versions: dict[str, list[Offering]] = {version: [] for version in here}
    for one in offered:
        versions.setdefault(one.package.version, []).append(one)
    allowed = [one for one in offered if one.barred is None]
    best = min((number(one) for one in allowed), default=usual)
    reached = [one.package.version for one in allowed if number(one) == best]
    top = max(reached, key=key, default=None)
    if top is not None and newest is not None:
        ahead = compare(top, newest)
        if ahead == 0 or (ahead < 0 and order is None):
            top = newest
    taken = top if top is not None else newest

    packages = {one.package.version: one.package for one in offered}
    packages |= {package.version: package for package in installed}

    def of_age(version: str, beside: str | None) -> int | None:
        """Whether one version is older than another, as far as that is sure."""
        if beside is None:
            return None
        if order is None:
            return compare(version, beside)
        return order(packages[version], packages[beside])

    def verdict(version: str, offers: Sequence[Offering]) -> str:
        installed_too = version in here
        if version == taken:
            return "it stays" if installed_too else "it would be taken"
        barred = [one.barred for one in offers if one.barred is not None]
        if offers and len(barred) == len(offers):
            return f"never taken: {barred[0]}"
        age = of_age(version, newest)
        if age is not None and age < 0:
            return "older than what is installed"
        if installed_too:
            return "it is installed"
        if all(number(one) > best for one in offers if one.barred is None):
            return "a repository of a better priority offers another"
        above = of_age(version, top)
        return "another one is offered" if above is None else "a newer one is offered"

    found = []
    for version in sorted(versions, key=key, reverse=True):
        offers = versions[version]
        first = min(offers, key=number, default=None)
        package = first.package if first else next(p for p in installed if p.version == version)
        found.append(
            Choice(
                version, package.architecture, version in here, tuple(offers),
                number(first) if first else None,
                first.repository.facts.get("priority_from", "") if first else "it is installed",
                version == taken, verdict(version, offers),
            )
        )  # fmt: skip
    return found
