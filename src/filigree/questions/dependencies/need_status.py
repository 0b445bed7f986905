"""Whether a need is met on a system, and in words why it is met without a package, or not judged."""

from enum import StrEnum

from filigree.model.answer import Gap
from filigree.model.needs import Need
from filigree.model.package import Package
from filigree.questions.dependencies.ties import Tie
from filigree.system import System


class NeedStatus(StrEnum):
    """Whether a need is met on this system."""

    MET = "met"
    UNMET = "unmet"
    AVAILABLE = "available"


def status_of(tie: Tie) -> NeedStatus | None:
    """Whether a tie's need is met; None where that cannot be judged."""
    if tie.met is None:
        return None
    if tie.met and tie.holder is not None and not tie.holder.state.present:
        return NeedStatus.MET if tie.holder is tie.asker else NeedStatus.AVAILABLE
    return NeedStatus.MET if tie.met else NeedStatus.UNMET


def unjudged(system: System, package: Package) -> Gap:
    """That the needs of a package of another family cannot be judged here."""
    return Gap(
        f"whether the needs of {package.name} are met",
        f"it is an archive of the {package.family} family, and the system at {system.root} is not",
    )


def why_without(need: Need) -> str:
    """Why a need is met although no package meets it."""
    return need.granted or "its condition does not arise here"
