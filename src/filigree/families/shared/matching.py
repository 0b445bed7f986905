"""By which rules one package meets what another asks for, where names and versions alone count."""

from collections.abc import Callable

from filigree.model.needs import Capability, Comparison, Relation, Term
from filigree.model.package import Package

Compare = Callable[[str, str], int]


def term_is_met(term: Term, capability: Capability, compare: Compare) -> bool:
    """Whether a capability meets a term: a term with a version by one that has a version alone."""
    if term.name != capability.name:
        return False
    if term.comparison is None or term.version is None:
        return True
    if capability.version is None:
        return False
    if term.comparison is Comparison.PREFIX:
        return begins(capability.version, term.version)
    return term.comparison.holds(compare(capability.version, term.version))


def begins(version: str, beginning: str) -> bool:
    """Whether a version begins with another, which ends where a part of it ends.

    >>> begins("1.2.3-4", "1.2"), begins("1.20", "1.2")
    (True, False)
    """
    if not beginning or not version.startswith(beginning):
        return False
    last, rest = beginning[-1], version[len(beginning) :]
    return not (
        rest and ((last.isdigit() and rest[0].isdigit()) or (last.isalpha() and rest[0].isalpha()))
    )


def conflicts(
    kind: Relation, term: Term, asker: Package, holder: Package, capability: Capability,
    compare: Compare,
) -> bool:  # fmt: skip
    """Whether a need of this kind is a conflict with `holder`; never of a package with itself."""
    if kind is not Relation.CONFLICTS or holder is asker or holder.name == asker.name:
        return False
    return term_is_met(term, capability, compare)


def machine_of(architecture: str, native: str | None, anywhere: tuple[str, ...]) -> str:
    """The architecture of a package; what is for any machine counts as the system's own."""
    return native or architecture if architecture in anywhere else architecture
