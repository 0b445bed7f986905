"""Walks over the ties between packages: as a tree, or by levels."""

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from filigree.model.package import Package
from filigree.questions.dependencies.breadth_first import breadth_first
from filigree.questions.dependencies.ties import Tie

TiesOf = Callable[[Package], list[Tie]]


@dataclass(frozen=True, slots=True)
class Step:
    """A tie met on a walk, `depth` ties away from where it began.

    `repeat` is "cycle" where the package is among those that led here, "folded" where its own
    needs are told elsewhere, None where they follow.
    """

    tie: Tie
    depth: int
    repeat: str | None


class DependencyWalk:
    """A walk from one package, by the ties that `ties_of` gives, within `depth` ties (None: all).

    `backwards` is whether it leads from who is needed to who needs.
    """

    def __init__(self, ties_of: TiesOf, depth: int | None, backwards: bool) -> None:
        self._ties_of = ties_of
        self._depth = depth
        self._backwards = backwards
        self._ties: dict[Package, list[Tie]] = {}

    def tree(self, start: Package) -> list[Step]:
        """The ties in the order of a tree, each package's own where it is nearest to the start."""
        nearest = {start: 0}
        for _, end, away in self._reached(start):
            if end is not None:
                nearest[end] = away
        steps: list[Step] = []
        told = {start}
        above = [start]
        pending = [iter(self._of(start))]
        while pending:
            tie = next(pending[-1], None)
            if tie is None:
                pending.pop()
                above.pop()
                continue
            end = self._end(tie)
            depth = len(pending)
            if end is None:
                steps.append(Step(tie, depth, None))
            elif end in above:
                steps.append(Step(tie, depth, "cycle"))
            elif end in told or nearest[end] < depth:
                steps.append(Step(tie, depth, "folded" if self._of(end) else None))
            else:
                steps.append(Step(tie, depth, None))
                told.add(end)
                if self._depth is None or depth < self._depth:
                    above.append(end)
                    pending.append(iter(self._of(end)))
        return steps

    def levels(self, start: Package) -> list[Step]:
        """The same, each package once, by the nearest tie; what is nearest comes first."""
        return [Step(tie, away, None) for tie, _, away in self._reached(start)]

    def _reached(self, start: Package) -> Iterable[tuple[Tie, Package | None, int]]:
        return breadth_first(
            [start], lambda one: ((tie, self._end(tie)) for tie in self._of(one)), self._depth
        )

    def _of(self, package: Package) -> list[Tie]:
        ties = self._ties.get(package)
        if ties is None:
            ties = self._ties[package] = self._ties_of(package)
        return ties

    def _end(self, tie: Tie) -> Package | None:
        return tie.asker if self._backwards else tie.holder
