"""What is wished of a plan, and what comes of it."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from filigree.model.package import Package
from filigree.questions.planning.candidates import Candidate, ClauseReason
from filigree.questions.planning.problem import ResolutionProblem


class PlanAction(StrEnum):
    """What a plan does with a package. A `change` is to another version, of which nothing tells whether
    it is newer."""

    ADD = "add"
    DROP = "drop"
    UPGRADE = "upgrade"
    DOWNGRADE = "downgrade"
    CHANGE = "change"
    LEFTOVER = "leftover"


@dataclass(frozen=True, slots=True)
class Wishes:
    """What is asked of a plan. With `everything` each package is to be as new as it can be.

    `may_drop` puts being new before keeping what is there. `recommends` adds what new packages
    recommend, where that takes nothing away.
    """

    add: Sequence[Package] = ()
    drop: Sequence[Package] = ()
    upgrade: Sequence[Package] = ()
    everything: bool = False
    may_drop: bool = False
    recommends: bool = False


class PlannedChange(NamedTuple):
    """What happens to one package; `before` is what it was, where another version of it was there.

    `replaced` is whether another package takes the place of what goes: then it is no loss.
    """

    action: PlanAction
    package: Package
    before: Package | None
    reason: str
    asked: bool
    replaced: bool = False

    @property
    def lost(self) -> bool:
        """Whether something goes that nobody asked to, and for nothing in its place."""
        return self.action is PlanAction.DROP and not self.asked and not self.replaced


@dataclass(slots=True)
class PlanOutcome:
    """A plan, or why there is none. `lossless` is whether nothing goes that was not asked to."""

    problem: ResolutionProblem
    found: bool = False
    lossless: bool = True
    changes: list[PlannedChange] = field(default_factory=list)
    final: list[Candidate] = field(default_factory=list)
    obstacles: list[ClauseReason] = field(default_factory=list)
