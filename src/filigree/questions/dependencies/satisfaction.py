"""What satisfies a condition: pure logic over what satisfies each of its terms."""

from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple, Protocol

from filigree.families.protocol import Asked, Provided
from filigree.model.needs import (
    Capability,
    Combined,
    Condition,
    Join,
    Relation,
    Term,
)
from filigree.model.package import Package

Holders = Callable[[Term], list[Package]]
"""The packages that meet a term."""


class Satisfies(Protocol):
    """What knows whether a capability meets a term."""

    def satisfies(self, asked: Asked, provided: Provided) -> bool:
        """Whether a package, through one of its capabilities, meets what another asks for."""
        ...


class Forbids(Protocol):
    """What knows whether a need keeps a package away."""

    def forbids(self, kind: Relation, asked: Asked, provided: Provided) -> bool:
        """Whether who asks, by a need of this kind, cannot be there together with a package."""
        ...


def satisfies(
    rules: Satisfies,
    term: Term,
    asker: Package,
    holder: Package,
    capabilities: Iterable[Capability],
) -> bool:
    """Whether a package, through any of its capabilities, meets a term. Paths are not looked at."""
    asked = Asked(term, asker)
    return any(
        capability.name == term.name and rules.satisfies(asked, Provided(capability, holder))
        for capability in capabilities
    )


def forbidden(
    rules: Forbids,
    kind: Relation,
    term: Term,
    asker: Package,
    holder: Package,
    capabilities: Iterable[Capability],
) -> bool:
    """Whether a term of a need of this kind keeps a package away, through any of its capabilities."""
    asked = Asked(term, asker)
    return any(
        capability.name == term.name and rules.forbids(kind, asked, Provided(capability, holder))
        for capability in capabilities
    )


class Satisfaction(NamedTuple):
    """Whether a condition is met, and by which packages; none where it does not arise."""

    met: bool
    holders: tuple[Package, ...] = ()


NOT_MET = Satisfaction(False)
DOES_NOT_ARISE = Satisfaction(True)


def satisfy(condition: Condition, holders: Holders) -> Satisfaction:
    """What meets a condition, in the order of its parts."""
    if isinstance(condition, Term):
        found = holders(condition)
        return Satisfaction(bool(found), tuple(found))
    match condition.join:
        case Join.AND:
            parts = [satisfy(part, holders) for part in condition.parts]
            return _together(parts) if all(part.met for part in parts) else NOT_MET
        case Join.OR:
            parts = [satisfy(part, holders) for part in condition.parts]
            return _together(part for part in parts if part.met)
        case Join.IF | Join.UNLESS:
            return _depending(condition, holders)
        case Join.WITH:
            return _same(condition, holders, wanted=True)
        case Join.WITHOUT:
            return _same(condition, holders, wanted=False)


def _together(parts: Iterable[Satisfaction]) -> Satisfaction:
    every = list(parts)
    once = dict.fromkeys(holder for part in every for holder in part.holders)
    return Satisfaction(bool(every), tuple(once))


def _depending(condition: Combined, holders: Holders) -> Satisfaction:
    """`a if b else c`: a where b is met, else c; `unless` is the other way round."""
    wanted, case, *other = condition.parts
    if satisfy(case, holders).met is (condition.join is Join.IF):
        return satisfy(wanted, holders)
    return satisfy(other[0], holders) if other else DOES_NOT_ARISE


def _same(condition: Combined, holders: Holders, wanted: bool) -> Satisfaction:
    """The packages that meet the first part and, each by itself, all or none of the others."""
    first, *rest = (satisfy(part, holders) for part in condition.parts)
    found = [
        holder
        for holder in first.holders
        if all(any(holder is other for other in part.holders) is wanted for part in rest)
    ]
    return Satisfaction(bool(found), tuple(found))


def meeting_terms(condition: Condition) -> Iterator[Term]:
    """The terms by which a package can meet a condition: not those that only say when it arises."""
    if isinstance(condition, Term):
        yield condition
    elif condition.join in (Join.IF, Join.UNLESS):
        yield from meeting_terms(condition.parts[0])
        for part in condition.parts[2:]:
            yield from meeting_terms(part)
    elif condition.join is Join.WITHOUT:
        yield from meeting_terms(condition.parts[0])
    else:
        for part in condition.parts:
            yield from meeting_terms(part)
