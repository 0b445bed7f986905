"""Which version an `rpm` system would take.

Follows the published description of the configuration, on the options `priority`, `exclude`,
`includepkgs` and `module_hotfixes`: of the repositories that offer a name, the lowest number wins, even
with an older version; then the newest version. Nothing goes back of itself.
"""

import fnmatch
from collections.abc import Iterable, Sequence
from functools import cmp_to_key

from filigree.families.rpm.repositories import PRIORITY
from filigree.formats.rpm_versions import compare_versions
from filigree.formats.version_parts import split_version
from filigree.model.choices import Choice, Offering
from filigree.model.package import Package

_KEY = cmp_to_key(compare_versions)


def choices(installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
    """All versions of one name for one kind of machine, the newest first."""
    here = {package.version for package in installed}
    newest = max(here, key=_KEY, default=None)
    versions: dict[str, list[Offering]] = {version: [] for version in here}
    for one in offered:
        versions.setdefault(one.package.version, []).append(one)
    allowed = [one for one in offered if one.barred is None]
    best = min((_number(one) for one in allowed), default=PRIORITY)
    reached = [one.package.version for one in allowed if _number(one) == best]
    top = max(reached, key=_KEY, default=None)
    if top is not None and newest is not None and compare_versions(top, newest) <= 0:
        top = newest
    taken = top if top is not None else newest
    found = []
    for version in sorted(versions, key=_KEY, reverse=True):
        offers = versions[version]
        first = min(offers, key=_number, default=None)
        package = first.package if first else next(p for p in installed if p.version == version)
        found.append(
            Choice(
                version, package.architecture, version in here, tuple(offers),
                _number(first) if first else None,
                first.repository.facts.get("priority_from", "") if first else "it is installed",
                version == taken, _verdict(version, offers, taken, newest, best, version in here),
            )
        )  # fmt: skip
    return found


def _number(one: Offering) -> int:
    return PRIORITY if one.repository.priority is None else one.repository.priority


def _verdict(
    version: str, offers: Sequence[Offering], taken: str | None, newest: str | None, best: int,
    installed: bool,
) -> str:  # fmt: skip
    if version == taken:
        return "it stays" if installed else "it would be taken"
    barred = [one.barred for one in offers if one.barred is not None]
    if offers and len(barred) == len(offers):
        return f"never taken: {barred[0]}"
    if newest is not None and compare_versions(version, newest) < 0:
        return "older than what is installed"
    if installed:
        return "it is installed"
    if all(_number(one) > best for one in offers if one.barred is None):
        return "a repository of a better priority offers another"
    return "a newer one is offered"


def excluded(package: Package, patterns: Iterable[str]) -> str | None:
    """The pattern that names a package: its name, or its name with parts of its version."""
    epoch, version, release = split_version(package.version)
    machine = package.architecture
    full = f"{package.name}-{version}-{release}"
    spellings = (
        package.name, f"{package.name}.{machine}", full, f"{full}.{machine}",
        f"{package.name}-{version}", f"{package.name}-{epoch or 0}:{version}-{release}.{machine}",
        f"{package.name}-{epoch or 0}:{version}-{release}",
    )  # fmt: skip
    for pattern in patterns:
        if any(fnmatch.fnmatchcase(spelling, pattern) for spelling in spellings):
            return pattern
    return None
