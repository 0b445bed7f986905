"""The record of a package, as every question that lists packages returns it."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, fields
from datetime import datetime
from operator import attrgetter
from typing import Any

from filigree.model.package import Package, Reason, State
from filigree.model.quick import quickly_made


@quickly_made
@dataclass(frozen=True, slots=True)
class PackageRow:
    """One package. Sizes in bytes, times in UTC, None where the family does not say.

    `offered_by` are the repositories that offer this very version, `impact` is how many packages stand
    on it by what they require: None where that was not looked up.
    """

    name: str
    version: str
    architecture: str
    family: str
    state: State
    reason: Reason | None
    held: bool
    section: str | None
    source: str | None
    summary: str | None
    description: str | None
    homepage: str | None
    license: str | None
    maintainer: str | None
    vendor: str | None
    installed_size: int | None
    archive_size: int | None
    built_at: datetime | None
    build_host: str | None
    installed_at: datetime | None
    repository: str | None
    signature: str | None
    key_id: str | None
    offered_by: list[str] | None
    impact: int | None


PACKAGE_FIELDS = tuple(field.name for field in fields(PackageRow))


_RECORDED = PACKAGE_FIELDS[:-2]
_recorded = attrgetter(*_RECORDED)


def package_facts(package: Package) -> dict[str, Any]:
    """The fields of a package's record, by name; who offers it is not looked up."""
    return {
        **{name: getattr(package, name) for name in _RECORDED},
        "offered_by": None,
        "impact": None,
    }


def package_row(
    package: Package, offered_by: list[str] | None = None, impact: int | None = None
) -> PackageRow:
    """The record of a package."""
    return PackageRow(*_recorded(package), offered_by, impact)  # type: ignore[call-arg]


def short_labels(packages: Sequence[Package]) -> list[str]:
    """What tells packages of one list apart: the name, with architecture or version where it takes that.

    Written so that a subject of that form points at the package.
    """
    by_name = Counter(package.name for package in packages)
    by_both = Counter((package.name, package.architecture) for package in packages)
    found = []
    for package in packages:
        label = package.name
        if by_name[package.name] > by_both[package.name, package.architecture]:
            label += f":{package.architecture}"
        if by_both[package.name, package.architecture] > 1:
            label += f"={package.version}"
        found.append(label)
    return found
