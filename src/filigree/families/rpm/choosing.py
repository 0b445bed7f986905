"""Which version an `rpm` system would take.

Follows the published description of the configuration, on the options `priority`, `exclude`,
`includepkgs` and `module_hotfixes`: of the repositories that offer a name, the lowest number wins, even
with an older version; then the newest version. Nothing goes back of itself.
"""

from collections.abc import Sequence

from filigree.families.rpm.repositories import PRIORITY
from filigree.families.shared.choosing import Numbers, choices_by_number
from filigree.families.shared.expressions import Expressions
from filigree.formats.rpm.versions import compare_versions
from filigree.formats.version_parts import split_version
from filigree.model.choices import Choice, Offering
from filigree.model.package import Package


def choices(installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
    """All versions of one name for one kind of machine, the newest first."""
    return choices_by_number(installed, offered, Numbers(compare_versions, PRIORITY))


def excluded(package: Package, patterns: Expressions) -> str | None:
    """The pattern that names a package: its name, or its name with parts of its version."""
    if not patterns:
        return None
    epoch, version, release = split_version(package.version)
    machine = package.architecture
    full = f"{package.name}-{version}-{release}"
    spellings = (
        package.name, f"{package.name}.{machine}", full, f"{full}.{machine}",
        f"{package.name}-{version}", f"{package.name}-{epoch or 0}:{version}-{release}.{machine}",
        f"{package.name}-{epoch or 0}:{version}-{release}",
    )  # fmt: skip
    found = next(filter(None, map(patterns.last, spellings)), None)
    return found.text if found else None
