"""By which rules one `deb` package meets what another asks for.

Follows the Debian Policy Manual, sections 7.1 and 7.5, and the multi-architecture specification:
a need is for the asker's own architecture, unless the holder serves any (`foreign`), or lets itself
be asked for by any (`allowed` with the qualifier `any`). `all` counts as the system's own.
"""

from filigree.formats.deb.versions import compare_versions
from filigree.model.needs import Capability, Relation, Term
from filigree.model.package import Package


def term_is_met(
    term: Term, asker: Package, holder: Package, capability: Capability, native: str | None
) -> bool:
    """Whether `holder`, through `capability`, meets `term` of `asker`."""
    if term.name != capability.name:
        return False
    if not _architecture_fits(term.architecture, asker, holder, native):
        return False
    return _version_fits(term, capability)


def _version_fits(term: Term, capability: Capability) -> bool:
    if term.comparison is None:
        return True
    if capability.version is None or term.version is None:
        return False
    return term.comparison.holds(compare_versions(capability.version, term.version))


def overwrites(term: Term, other: Package) -> bool:
    """Whether a term of `Replaces` names a package itself, as it is: virtual names do not count there."""
    return term.name == other.name and _version_fits(term, Capability(other.name, other.version))


def term_forbids(
    kind: Relation, term: Term, asker: Package, holder: Package, capability: Capability,
    native: str | None,
) -> bool:  # fmt: skip
    """Whether `asker` breaks, or conflicts with, `holder` through `capability`.

    Sections 7.3 and 7.4: not with itself through what it provides. Where no architecture is named, of
    whatever architecture. Replacing alone (section 7.6) is about files, and leaves both in place.
    """
    if kind not in (Relation.BREAKS, Relation.CONFLICTS) or term.name != capability.name:
        return False
    if holder is asker or holder.name == asker.name:
        return False
    if term.architecture not in (None, "any"):
        wanted = native if term.architecture == "native" else term.architecture
        if own_machine(holder.architecture, native) != wanted:
            return False
    return _version_fits(term, capability)


def rivals(one: Package, other: Package, native: str | None) -> str | None:
    """Why two packages of one name cannot be there together; None where they can.

    Of one architecture there is one version; of several, where all are `Multi-Arch: same`, one for all.
    """
    if own_machine(one.architecture, native) == own_machine(other.architecture, native):
        return "only one version of a package can be there"
    if not all(package.fields.get("Multi-Arch") == "same" for package in (one, other)):
        return "it can be there for one architecture alone"
    if compare_versions(one.version, other.version) != 0:
        return "it must have the same version for all architectures"
    return None


def _architecture_fits(
    qualifier: str | None, asker: Package, holder: Package, native: str | None
) -> bool:
    serves = holder.fields.get("Multi-Arch")
    theirs = own_machine(holder.architecture, native)
    if qualifier == "any":
        return serves in ("allowed", "foreign") or theirs == own_machine(asker.architecture, native)
    if qualifier == "native":
        return theirs == native
    if qualifier is not None:
        return theirs == qualifier
    return serves == "foreign" or theirs == own_machine(asker.architecture, native)


def own_machine(architecture: str, native: str | None) -> str | None:
    """The architecture of a package; what is for all counts as the system's own."""
    return native if architecture == "all" else architecture
