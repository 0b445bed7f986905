"""Needs and capabilities: what one package asks of others, and what it offers."""

from collections.abc import Iterator
from dataclasses import dataclass
from enum import StrEnum


class Relation(StrEnum):
    """The kind of tie between a package and what it names."""

    REQUIRES_FIRST = "requires-first"
    REQUIRES = "requires"
    RECOMMENDS = "recommends"
    SUGGESTS = "suggests"
    SUPPLEMENTS = "supplements"
    ENHANCES = "enhances"
    FORMAT = "format"
    BREAKS = "breaks"
    CONFLICTS = "conflicts"
    REPLACES = "replaces"
    OBSOLETES = "obsoletes"

    @property
    def hard(self) -> bool:
        """Whether the package cannot work without it."""
        return self in (Relation.REQUIRES, Relation.REQUIRES_FIRST)

    @property
    def positive(self) -> bool:
        """Whether it asks for something to be there, rather than away."""
        return self not in _AWAY


_AWAY = frozenset({
    Relation.BREAKS, Relation.CONFLICTS, Relation.REPLACES, Relation.OBSOLETES,
})  # fmt: skip


class Comparison(StrEnum):
    """How a needed version relates to the version that is there; `~`: that one begins with it."""

    LESS = "<"
    AT_MOST = "<="
    EQUAL = "="
    AT_LEAST = ">="
    GREATER = ">"
    PREFIX = "~"

    def holds(self, order: int) -> bool:
        """Whether it holds, where `order` is negative, zero or positive as found against needed.

        That a version begins with another no order tells: raises ValueError for PREFIX.
        """
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
            case Comparison.PREFIX:
                raise ValueError("an order does not tell what a version begins with")


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


class Join(StrEnum):
    """How the parts of a condition stand together.

    `with` and `without` are about one package that meets both parts, or the first and not the
    second; the others may be met by as many packages as there are parts.
    """

    AND = "and"
    OR = "or"
    IF = "if"
    UNLESS = "unless"
    WITH = "with"
    WITHOUT = "without"


@dataclass(frozen=True, slots=True)
class Combined:
    """Conditions joined. IF and UNLESS have two parts, or a third for the other case."""

    join: Join
    parts: tuple["Condition", ...]

    def __str__(self) -> str:
        words = [str(part) for part in self.parts]
        if self.join in (Join.IF, Join.UNLESS):
            other = f" else {words[2]}" if len(words) > 2 else ""
            return f"({words[0]} {self.join} {words[1]}{other})"
        return f"({f' {self.join} '.join(words)})"


Condition = Term | Combined


def any_of(conditions: "tuple[Condition, ...]") -> Condition:
    """The condition that any of these meets."""
    return conditions[0] if len(conditions) == 1 else Combined(Join.OR, conditions)


def terms_of(condition: Condition) -> Iterator[Term]:
    """Every term of a condition, from left to right."""
    if isinstance(condition, Term):
        yield condition
    else:
        for part in condition.parts:
            yield from terms_of(part)


@dataclass(frozen=True, slots=True)
class Need:
    """One need, and what meets it. `text` is the need as written.

    `granted` is why it is met without any package, None where it takes one.
    """

    kind: Relation
    condition: Condition
    text: str
    granted: str | None = None


@dataclass(frozen=True, slots=True)
class Capability:
    """A name that a package answers to, with a version (or, compared, a range of them) or without."""

    name: str
    version: str | None = None
    comparison: Comparison = Comparison.EQUAL

    def __str__(self) -> str:
        return (
            self.name if self.version is None else f"{self.name} ({self.comparison} {self.version})"
        )
