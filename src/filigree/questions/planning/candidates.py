"""The packages that may be in a plan, and why they can, or cannot, be there together."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum

from filigree.model.needs import Need
from filigree.model.package import Package, Reason
from filigree.questions.planning.world import Offered


class Ground(StrEnum):
    """What a reason rests on."""

    ASKED = "asked"
    NEED = "need"
    CLASH = "clash"
    RIVAL = "rival"
    STAYS = "stays"
    HELD = "held"
    PROTECTED = "protected"
    RULES = "rules"


@dataclass(frozen=True, slots=True, eq=False)
class ClauseReason:
    """Reason some of the packages cannot be had together, or not without others.

    `one` is whose reason it is, `other` the package that it is about; `found` are the packages that
    would meet a need. `why` is in words.
    """

    ground: Ground
    one: Package | None = None
    need: Need | None = None
    other: Package | None = None
    why: str = ""
    found: list[Offered] = field(default_factory=list)


@dataclass(slots=True, eq=False)
class Candidate:
    """One package that may be in a plan; `literal` is true where it is."""

    package: Package
    literal: int
    here: bool
    passed_over: str | None = None


def by_weight(packages: Iterable[Package]) -> list[Package]:
    """What is protected first, then what was chosen."""
    return sorted(packages, key=lambda p: (not p.protected, p.reason is Reason.DEPENDENCY))
