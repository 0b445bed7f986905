"""By which rules packages of one `apk` system go together.

A need with a version is met by a name that is provided at a version alone; a package answers to its own
name at its own version.
"""

from filigree.families.apk.described import ANY
from filigree.families.protocol import Asked, Provided
from filigree.families.shared import matching
from filigree.formats.apk.versions import begins, compare_versions
from filigree.model.needs import Capability, Comparison, Relation, Term
from filigree.model.package import Package


class ApkRules:
    """The rules of a system of this architecture."""

    marks: frozenset[str] = frozenset()
    keeping = frozenset({Relation.REQUIRES, Relation.SUPPLEMENTS})

    def __init__(self, native: str | None) -> None:
        self.machines = (native, ANY) if native else ()
        self._native = native

    def satisfies(self, asked: Asked, provided: Provided) -> bool:
        return term_is_met(asked.term, provided.capability)

    def forbids(self, kind: Relation, asked: Asked, provided: Provided) -> bool:
        if kind is not Relation.CONFLICTS or provided.holder is asked.asker:
            return False
        return term_is_met(asked.term, provided.capability)

    def rivals(self, *_: Package) -> str | None:
        return "only one version of a package can be there"

    def machine_of(self, package: Package) -> str:
        return matching.machine_of(package.architecture, self._native, (ANY,))

    def stays(self, *_: Package) -> bool:
        return False


def term_is_met(term: Term, capability: Capability) -> bool:
    """Whether a capability meets a term."""
    if term.comparison is not Comparison.PREFIX:
        return matching.term_is_met(term, capability, compare_versions)
    return (
        term.name == capability.name
        and capability.version is not None
        and begins(capability.version, term.version or "")
    )
