"""Rules: which packages go together. They read nothing: what they go by is given to them."""

from collections.abc import Sequence
from typing import NamedTuple, Protocol

from filigree.model.needs import Capability, Relation, Term
from filigree.model.package import Package


class Asked(NamedTuple):
    """One term of a need, and the package that asks for it."""

    term: Term
    asker: Package


class Provided(NamedTuple):
    """One name that a package answers to, and the package."""

    capability: Capability
    holder: Package


class Rules(Protocol):
    """By which rules packages of one system go together, or cannot."""

    @property
    def machines(self) -> Sequence[str]:
        """The architectures that the system takes, its own first; none where nothing tells."""
        ...

    @property
    def keeping(self) -> frozenset[Relation]:
        """The kinds of ties that keep a dependency in place, by the system's own settings."""
        ...

    @property
    def marks(self) -> frozenset[str]:
        """The fields of a package's own record that `satisfies` and `forbids` go by, beside its name,
        version, architecture and state: of what is offered no others are held meanwhile."""
        ...

    def satisfies(self, asked: Asked, provided: Provided) -> bool:
        """Whether a package, through one of its capabilities, meets what another asks for."""
        ...

    def forbids(self, kind: Relation, asked: Asked, provided: Provided) -> bool:
        """Whether who asks, by a need of this kind, cannot be there together with a package."""
        ...

    def rivals(self, one: Package, other: Package) -> str | None:
        """Why two packages of one name cannot be there together; None where they can."""
        ...

    def machine_of(self, package: Package) -> str:
        """The kind of machine that a package is for; what is for any counts as the system's own."""
        ...

    def stays(self, package: Package) -> bool:
        """Whether a package is never taken for left over, by the system's own settings."""
        ...
