"""Needs and capabilities: what one package asks of others, and what it offers."""

from dataclasses import dataclass
from enum import StrEnum


class Relation(StrEnum):
    """The kind of tie between a package and what it names."""

    REQUIRES_FIRST = "requires-first"
    REQUIRES = "requires"
    RECOMMENDS = "recommends"
    SUGGESTS = "suggests"
    ENHANCES = "enhances"
    BREAKS = "breaks"
    CONFLICTS = "conflicts"
    REPLACES = "replaces"

    @property
    def hard(self) -> bool:
        """Whether the package cannot work without it."""
        return self in (Relation.REQUIRES, Relation.REQUIRES_FIRST)

    @property
    def positive(self) -> bool:
        """Whether it asks for something to be there, rather than away."""
        return self not in (Relation.BREAKS, Relation.CONFLICTS, Relation.REPLACES)


class Comparison(StrEnum):
    """How a needed version relates to the version that is there."""

    LESS = "<"
    AT_MOST = "<="
    EQUAL = "="
    AT_LEAST = ">="
    GREATER = ">"

    def holds(self, order: int) -> bool:
        """Whether it holds, where `order` is negative, zero or positive as found against needed."""
        match self:
            case Comparison.LESS:
                return order < 0
            case Comparison.AT_MOST:
                return order <= 0
            case Comparison.EQUAL:
                return order == 0
            case Comparison.AT_LEAST:
                return order >= 0
            case Comparison.GREATER:
                return order > 0


@dataclass(frozen=True, slots=True)
class Term:
    """One named thing, perhaps at certain versions, perhaps of a certain architecture."""

    name: str
    comparison: Comparison | None = None
    version: str | None = None
    architecture: str | None = None

    def __str__(self) -> str:
        name = f"{self.name}:{self.architecture}" if self.architecture else self.name
        return f"{name} ({self.comparison} {self.version})" if self.comparison else name


@dataclass(frozen=True, slots=True)
class Need:
    """One need: any one of its `terms` meets it. `text` is the need as written."""

    kind: Relation
    terms: tuple[Term, ...]
    text: str


@dataclass(frozen=True, slots=True)
class Capability:
    """A name that a package answers to, with a version or without."""

    name: str
    version: str | None = None

    def __str__(self) -> str:
        return self.name if self.version is None else f"{self.name} (= {self.version})"
