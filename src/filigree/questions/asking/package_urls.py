"""Package URLs as subjects: `pkg:type/namespace/name@version?qualifiers` (the published specification).

Of the qualifiers `arch`, `epoch` and `distro` say something here. A namespace names a vendor, which no
record of an installed package tells, and is left aside. A version without an epoch is of any.
"""

from collections.abc import Callable, Mapping
from typing import NamedTuple

from filigree.families.protocol import Family
from filigree.families.shared.looking import os_release
from filigree.model.errors import BadQuestion
from filigree.model.package import Package
from filigree.system import System

MARK = "pkg:"


class Pointed(NamedTuple):
    """What a subject points at: a name, perhaps an architecture, and which versions; `why_not` is why it
    cannot be anything of this system, `narrow` whether it names a version."""

    name: str
    architecture: str | None
    fits: Callable[[str], bool]
    why_not: str | None = None
    narrow: bool = False


def url_of(family: Family, package: Package, about: Mapping[str, str]) -> str:
    """The package URL of a package; `about` is what its system says of itself. What it points at there is
    this package, and others of its name, version and architecture."""
    from packageurl import PackageURL

    parts = family.split_version(package.version)
    version, epoch = package.version, None
    if family.epoch_apart and parts.epoch is not None:
        version, epoch = package.version.partition(":")[2], parts.epoch
    vendor = about.get("ID", "").lower() or None
    distribution = "-".join(
        told.lower() for name in ("ID", "VERSION_ID") if (told := about.get(name))
    )
    every = {"arch": package.architecture, "distro": distribution, "epoch": epoch}
    qualifiers = {name: value for name, value in every.items() if value}
    return PackageURL(family.url_types[0], vendor, package.name, version, qualifiers).to_string()


def pointed_by(system: System, url: str) -> Pointed:
    """What a package URL points at on a system. Raises BadQuestion where it is none."""
    from packageurl import PackageURL

    try:
        parsed = PackageURL.from_string(url)
    except ValueError as error:
        raise BadQuestion(
            f"it is no package URL: {error}", url, "write pkg:TYPE/NAME@VERSION?arch=…"
        ) from error
    told = {str(name).lower(): str(value) for name, value in dict(parsed.qualifiers or {}).items()}
    fits = _version_fits(system, parsed.version, told.get("epoch"))
    why_not = _other_kind(system, parsed.type) or _other_distribution(system, told.get("distro"))
    return Pointed(parsed.name, told.get("arch"), fits, why_not, parsed.version is not None)


def _version_fits(system: System, version: str | None, epoch: str | None) -> Callable[[str], bool]:
    compare = system.family.compare_versions
    if version is None:
        return lambda _: True
    if epoch not in (None, "", "0"):
        full = version if version.startswith(f"{epoch}:") else f"{epoch}:{version}"
        return lambda there: compare(there, full) == 0
    bare = system.family.split_version(version).epoch is None
    split = system.family.split_version

    def fits(there: str) -> bool:
        if compare(there, version) == 0:
            return True
        parts = split(there)
        if not bare or epoch == "0" or parts.epoch is None:
            return False
        return compare(there.partition(":")[2], version) == 0

    return fits


def _other_kind(system: System, kind: str) -> str | None:
    kinds = system.family.url_types
    if kind in kinds:
        return None
    return f"it is of the type {kind}, and the packages here are of {' or '.join(kinds) or 'none'}"


def _other_distribution(system: System, distribution: str | None) -> str | None:
    if not distribution:
        return None
    told = os_release(system.tree, system.report)
    names = [
        told[name].lower() for name in ("ID", "VERSION_ID", "VERSION_CODENAME") if told.get(name)
    ]
    label = "-".join(names[:2])
    fitting = {*names, label, *(f"{names[0]}-{one}" for one in names[1:])} if names else set()
    if distribution.lower() in fitting:
        return None
    return f"it is of {distribution}, and this system calls itself {label or 'nothing'}"
