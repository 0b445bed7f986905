"""What a family does not record: said once, as a gap, by every question that would have asked for it."""

from filigree.model.answer import Gap
from filigree.model.package import Package, was_chosen
from filigree.system import System

WHY_INSTALLED = "why packages are installed"


def report_silence(system: System, notion: str, what: str) -> bool:
    """Whether the system's family does not record a notion; then that is a gap, and `what` is missing."""
    why = system.family.silent_on.get(notion)
    if why is None:
        return False
    gap = Gap(what, why)
    if gap not in system.gaps:
        system.report(gap)
    return True


def known_chosen(system: System, package: Package) -> bool | None:
    """Whether a person asked for a package; None where the family does not record it of any."""
    silent = package.reason is None and "reason" in system.family.silent_on
    return None if silent else was_chosen(package)
