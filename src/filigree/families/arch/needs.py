"""By which rules one `arch` package meets what another asks for.

Follows the manual page of the build file: a need with a version is met by a name that is provided at a
version alone; a package answers to its own name at its own version.
"""

from filigree.families.shared import matching
from filigree.formats.arch.versions import compare_versions
from filigree.model.needs import Capability, Relation, Term
from filigree.model.package import Package

ANY = "any"


def term_is_met(term: Term, capability: Capability) -> bool:
    """Whether a capability meets a term."""
    return matching.term_is_met(term, capability, compare_versions)


def term_forbids(
    kind: Relation, term: Term, asker: Package, holder: Package, capability: Capability
) -> bool:
    """Whether `asker` cannot be there together with `holder` because of a need of this kind.

    Conflicts are with whatever provides the name, but never with itself. What a package replaces goes by
    the packages' own names, and when it comes.
    """
    if kind is Relation.REPLACES and holder is not asker and holder.name != asker.name:
        own = capability.name == holder.name and capability.version == holder.version
        return not asker.state.present and own and term_is_met(term, capability)
    return matching.conflicts(kind, term, asker, holder, capability, compare_versions)


def machine_of(architecture: str, native: str | None) -> str:
    """The architecture of a package; what is for any machine counts as the system's own."""
    return matching.machine_of(architecture, native, (ANY,))
