"""By which rules packages of one `arch` system go together."""

from filigree.families.arch.needs import ANY, machine_of, term_forbids, term_is_met
from filigree.families.protocol import Asked, Provided
from filigree.model.needs import Relation
from filigree.model.package import Package


class ArchRules:
    """The rules of a system of this architecture."""

    marks: frozenset[str] = frozenset()
    keeping = frozenset({Relation.REQUIRES_FIRST, Relation.REQUIRES, Relation.SUGGESTS})

    def __init__(self, native: str | None) -> None:
        self.machines = (native, ANY) if native else ()
        self._native = native

    def satisfies(self, asked: Asked, provided: Provided) -> bool:
        return term_is_met(asked.term, provided.capability)

    def forbids(self, kind: Relation, asked: Asked, provided: Provided) -> bool:
        return term_forbids(kind, asked.term, asked.asker, provided.holder, provided.capability)

    def rivals(self, *_: Package) -> str | None:
        return "only one version of a package can be there"

    def machine_of(self, package: Package) -> str:
        return machine_of(package.architecture, self._native)

    def stays(self, *_: Package) -> bool:
        return False
