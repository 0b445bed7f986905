"""By which rules packages of one `deb` system go together."""

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property

from filigree.families.deb.needs import own_machine, rivals, term_forbids, term_is_met
from filigree.families.deb.policy import keeping
from filigree.families.protocol import Asked, Provided
from filigree.families.shared.expressions import Expressions
from filigree.model.needs import Relation
from filigree.model.package import Package


class DebRules:
    """The rules of a system of this architecture; its settings are asked for when they are needed.

    `never_left` gives what is never left over, by name.
    """

    marks = frozenset({"Multi-Arch"})

    def __init__(
        self,
        native: str | None,
        machines: Sequence[str],
        settings: Callable[[], Mapping[str, str]],
        never_left: Callable[[], Expressions],
    ) -> None:
        self.machines = machines
        self._native = native
        self._settings = settings
        self._never_left = never_left

    @cached_property
    def keeping(self) -> frozenset[Relation]:
        return keeping(self._settings())

    def satisfies(self, asked: Asked, provided: Provided) -> bool:
        return term_is_met(
            asked.term, asked.asker, provided.holder, provided.capability, self._native
        )

    def forbids(self, kind: Relation, asked: Asked, provided: Provided) -> bool:
        return term_forbids(
            kind, asked.term, asked.asker, provided.holder, provided.capability, self._native
        )

    def rivals(self, one: Package, other: Package) -> str | None:
        return rivals(one, other, self._native)

    def machine_of(self, package: Package) -> str:
        return own_machine(package.architecture, self._native) or ""

    def stays(self, package: Package) -> bool:
        return self._never_left().any(package.name)
