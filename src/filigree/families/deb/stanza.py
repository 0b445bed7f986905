"""From the stanza of a status file to a package."""

import re
from collections.abc import Mapping
from datetime import datetime

from filigree.families.protocol import Report
from filigree.families.shared.not_a_package import NotAPackage
from filigree.formats.deb.relations import parse_capabilities, parse_needs
from filigree.formats.numbers import whole_number
from filigree.formats.relation_error import RelationError
from filigree.model.answer import Gap
from filigree.model.limits import why_too_long
from filigree.model.needs import Capability, Need, Relation
from filigree.model.package import Package, Reason, State, Wanted

_WANTED = {
    "install": Wanted.INSTALL,
    "hold": Wanted.HOLD,
    "deinstall": Wanted.REMOVE,
    "purge": Wanted.PURGE,
}
_STATES = {
    "installed": State.INSTALLED,
    "half-installed": State.HALF_INSTALLED,
    "unpacked": State.UNPACKED,
    "half-configured": State.HALF_CONFIGURED,
    "triggers-awaited": State.AWAITING_TRIGGERS,
    "triggers-pending": State.PENDING_TRIGGERS,
    "config-files": State.CONFIGURATION_LEFT,
    "not-installed": State.NOT_INSTALLED,
}
RELATIONS = {
    "Pre-Depends": Relation.REQUIRES_FIRST,
    "Depends": Relation.REQUIRES,
    "Recommends": Relation.RECOMMENDS,
    "Suggests": Relation.SUGGESTS,
    "Enhances": Relation.ENHANCES,
    "Breaks": Relation.BREAKS,
    "Conflicts": Relation.CONFLICTS,
    "Replaces": Relation.REPLACES,
}
_SOURCE = re.compile(r"(\S+)(?:\s+\(([^()]*)\))?")


def package_of(
    fields: Mapping[str, str],
    reason: Reason | None = None,
    installed_at: datetime | None = None,
    state: State | None = None,
    repository: str | None = None,
    archive_size: int | None = None,
    kept: Mapping[str, str] | None = None,
) -> Package:
    """The package of a stanza. Raises NotAPackage where name, version or architecture is missing.

    `state` is what it is in where the stanza does not say; `kept` are the fields that it keeps.
    """
    name = fields.get("Package")
    if not name:
        raise NotAPackage("a stanza without a package name")
    wanted, flag, told = _status(fields.get("Status"))
    state = state or told
    version = fields.get("Version") or ""
    architecture = fields.get("Architecture") or ""
    if state is not State.NOT_INSTALLED and not (version and architecture):
        raise NotAPackage(f"{name} has no {'architecture' if version else 'version'}")
    too_long = why_too_long(name, version, architecture)
    if too_long is not None:
        raise NotAPackage(too_long)
    summary, description = _description(fields.get("Description"))
    source, source_version = _source(fields.get("Source"), name, version)
    return Package(
        name=name,
        version=version,
        architecture=architecture,
        family="deb",
        state=state,
        wanted=wanted,
        reason=reason if state.present else None,
        held=wanted is Wanted.HOLD,
        damaged=flag != "ok",
        protected=fields.get("Essential") == "yes" or fields.get("Protected") == "yes",
        section=fields.get("Section"),
        source=source,
        source_version=source_version,
        summary=summary,
        description=description,
        homepage=fields.get("Homepage"),
        maintainer=fields.get("Maintainer"),
        installed_size=_kibibytes(fields.get("Installed-Size")),
        installed_at=installed_at if state.present else None,
        repository=repository,
        archive_size=archive_size,
        fields=fields if kept is None else kept,
    )


def needs_of(package: Package) -> tuple[Need, ...]:
    """Every need of a package. Raises RelationError where a field does not parse."""
    found: list[Need] = []
    for name, kind in RELATIONS.items():
        text = package.fields.get(name)
        if text:
            found += parse_needs(text, kind)
    return tuple(found)


def capabilities_of(package: Package) -> tuple[Capability, ...]:
    """The names that a package answers to: its own, at its version, and those it provides."""
    own = Capability(package.name, package.version)
    text = package.fields.get("Provides")
    return (own, *parse_capabilities(text)) if text else (own,)


def needs_told(package: Package, report: Report) -> tuple[Need, ...]:
    """The needs of a package; none, and a gap, where a field does not parse."""
    try:
        return needs_of(package)
    except RelationError as error:
        report(Gap(f"the needs of {package.name}", str(error)))
        return ()


def capabilities_told(package: Package, report: Report) -> tuple[Capability, ...]:
    """The names that a package answers to; its own alone, and a gap, where a field does not parse."""
    try:
        return capabilities_of(package)
    except RelationError as error:
        report(Gap(f"what {package.name} provides", str(error)))
        return (Capability(package.name, package.version),)


def _status(text: str | None) -> tuple[Wanted, str, State]:
    """The three words of a status; a record without one, as minimal images keep it, is installed."""
    if text is None:
        return Wanted.INSTALL, "ok", State.INSTALLED
    words = text.split()
    if len(words) != 3:
        return Wanted.UNKNOWN, "ok", State.UNKNOWN
    return (
        _WANTED.get(words[0], Wanted.UNKNOWN),
        words[1],
        _STATES.get(words[2], State.UNKNOWN),
    )


def _description(text: str | None) -> tuple[str | None, str | None]:
    """The first line, and the rest without its leading spaces; a line of one dot is empty."""
    if text is None:
        return None, None
    if "\n" not in text:
        return text.strip() or None, None
    first, *rest = text.split("\n")
    lines = ["" if line.strip() == "." else line[1:] for line in rest]
    return first.strip() or None, "\n".join(lines) or None


def _source(text: str | None, name: str, version: str) -> tuple[str, str]:
    """The source package and its version; both are the package's own where nothing else is said."""
    found = _SOURCE.match(text) if text else None
    if found is None:
        return name, version
    return found[1], found[2] or version


def _kibibytes(text: str | None) -> int | None:
    size = whole_number(text)
    return None if size is None else size * 1024
