"""By which rules packages of one `rpm` system go together."""

from collections.abc import Callable

from filigree.families.protocol import Asked, Provided
from filigree.families.rpm.needs import machine_of, machines_of, rivals, term_forbids, term_is_met
from filigree.model.needs import Relation
from filigree.model.package import Package


class RpmRules:
    """The rules of a system of this architecture.

    `side_by_side` tells whether several versions of a name may be there.
    """

    marks: frozenset[str] = frozenset()
    keeping = frozenset({
        Relation.REQUIRES_FIRST, Relation.REQUIRES, Relation.RECOMMENDS, Relation.SUPPLEMENTS,
    })  # fmt: skip

    def __init__(self, native: str | None, side_by_side: Callable[[str], bool]) -> None:
        self.machines = machines_of(native)
        self._native = native
        self._side_by_side = side_by_side

    def satisfies(self, asked: Asked, provided: Provided) -> bool:
        return term_is_met(asked.term, provided.capability)

    def forbids(self, kind: Relation, asked: Asked, provided: Provided) -> bool:
        return term_forbids(kind, asked.term, asked.asker, provided.holder, provided.capability)

    def rivals(self, one: Package, other: Package) -> str | None:
        return rivals(one, other, self._side_by_side(one.name))

    def machine_of(self, package: Package) -> str:
        return machine_of(package.architecture, self._native)

    def stays(self, *_: Package) -> bool:
        return False
