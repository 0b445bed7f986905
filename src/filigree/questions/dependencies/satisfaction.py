"""What meets a condition: pure logic over what meets each of its terms."""

from collections.abc import Callable, Iterable
from typing import NamedTuple

from filigree.model.needs import Combined, Condition, Join, Term
from filigree.model.package import Package

Holders = Callable[[Term], list[Package]]
"""The packages that meet a term."""


class Meeting(NamedTuple):
    """Whether a condition is met, and by which packages; none where it does not arise."""

    met: bool
    holders: tuple[Package, ...] = ()


NOT_MET = Meeting(False)
DOES_NOT_ARISE = Meeting(True)


def meet(condition: Condition, holders: Holders) -> Meeting:
    """What meets a condition, in the order of its parts."""
    if isinstance(condition, Term):
        found = holders(condition)
        return Meeting(bool(found), tuple(found))
    match condition.join:
        case Join.AND:
            parts = [meet(part, holders) for part in condition.parts]
            return _together(parts) if all(part.met for part in parts) else NOT_MET
        case Join.OR:
            parts = [meet(part, holders) for part in condition.parts]
            return _together(part for part in parts if part.met)
        case Join.IF | Join.UNLESS:
            return _depending(condition, holders)
        case Join.WITH:
            return _same(condition, holders, wanted=True)
        case Join.WITHOUT:
            return _same(condition, holders, wanted=False)


def _together(parts: Iterable[Meeting]) -> Meeting:
    every = list(parts)
    once = dict.fromkeys(holder for part in every for holder in part.holders)
    return Meeting(bool(every), tuple(once))


def _depending(condition: Combined, holders: Holders) -> Meeting:
    """`a if b else c`: a where b is met, else c; `unless` is the other way round."""
    wanted, case, *other = condition.parts
    if meet(case, holders).met is (condition.join is Join.IF):
        return meet(wanted, holders)
    return meet(other[0], holders) if other else DOES_NOT_ARISE


def _same(condition: Combined, holders: Holders, wanted: bool) -> Meeting:
    """The packages that meet the first part and, each by itself, all or none of the others."""
    first, *rest = (meet(part, holders) for part in condition.parts)
    found = [
        holder
        for holder in first.holders
        if all(any(holder is other for other in part.holders) is wanted for part in rest)
    ]
    return Meeting(bool(found), tuple(found))
