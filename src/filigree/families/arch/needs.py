"""By which rules one `arch` package meets what another asks for.

Follows the manual page of the build file: a need with a version is met by a name that is provided at a
version alone; a package answers to its own name at its own version.
"""

from filigree.formats.arch_versions import compare_versions
from filigree.model.needs import Capability, Relation, Term
from filigree.model.package import Package

ANY = "any"


def term_is_met(term: Term, capability: Capability) -> bool:
    """Whether a capability meets a term."""
    if term.name != capability.name:
        return False
    if term.comparison is None or term.version is None:
        return True
    if capability.version is None:
        return False
    return term.comparison.holds(compare_versions(capability.version, term.version))


def term_forbids(
    kind: Relation, term: Term, asker: Package, holder: Package, capability: Capability
) -> bool:
    """Whether `asker` cannot be there together with `holder` because of a need of this kind.

    Conflicts are with whatever provides the name, but never with itself. What a package replaces goes by
    the packages' own names, and when it comes.
    """
    if holder is asker or holder.name == asker.name:
        return False
    if kind is Relation.REPLACES:
        own = capability.name == holder.name and capability.version == holder.version
        return not asker.state.present and own and term_is_met(term, capability)
    return kind is Relation.CONFLICTS and term_is_met(term, capability)


def machine_of(architecture: str, native: str | None) -> str:
    """The architecture of a package; what is for any machine counts as the system's own."""
    return native or architecture if architecture == ANY else architecture
