"""The packages that a plan is asked about: what is to come, to go and to become newer, by subjects."""

from collections.abc import Iterable, Sequence
from dataclasses import replace

from filigree.model.package import Package, State
from filigree.questions.asking.scopes import Lookup, Scope
from filigree.questions.asking.subjects import match_subjects
from filigree.questions.planning.outcomes import Wishes
from filigree.system import System

ALL = "*"
"""As an upgrade: everything that is installed."""


def scope_of(adds: Sequence[str], upgrades: Sequence[str]) -> Scope:
    """Where a plan looks: where something only goes, nothing that is offered may come along."""
    return Scope.ANY if adds or upgrades else Scope.INSTALLED


class WantedPackages:
    """The packages that are meant, and what is to be said of the subjects: `notes` of those that nothing
    is, `remarks` of the rest."""

    def __init__(
        self, system: System, lookup: Lookup, add: Sequence[str], drop: Sequence[str],
        upgrade: Sequence[str],
    ) -> None:  # fmt: skip
        self.notes = list(lookup.notes)
        self.remarks: list[str] = []
        wanted = replace(lookup, scope=Scope.AVAILABLE) if lookup.offered else Lookup(system)
        here = {(p.name, p.architecture, p.version) for p in system.packages if p.state.present}
        self.add: list[Package] = []
        for package in self._matched(system, add, wanted):
            if (package.name, package.architecture, package.version) in here:
                self.remarks.append(f"{package.name} {package.version} is installed already")
            elif package.family != system.family.name:
                self.notes.append(f"{package.name} is an archive of the {package.family} family")
            elif package.state in (State.AVAILABLE, State.ARCHIVE):
                self.add.append(package)
                self._mind_the_hold(system, package.name)
            else:
                self.notes.append(f"{package.name} is not offered")
        self.drop = self._present(self._matched(system, drop, Lookup(system)))
        names = [name for name in upgrade if name != ALL]
        self.upgrade = self._present(self._matched(system, names, Lookup(system)))
        for package in (*self.drop, *self.upgrade):
            self._mind_the_hold(system, package.name)
        self.archives = [p for p in self.add if p.state is State.ARCHIVE]
        self._everything = ALL in upgrade

    def wishes(self, may_drop: bool = False, recommends: bool = False) -> Wishes:
        """What a planner is asked for."""
        return Wishes(self.add, self.drop, self.upgrade, self._everything, may_drop, recommends)

    def _mind_the_hold(self, system: System, name: str) -> None:
        for package in system.present([name]):
            if package.held:
                self.remarks.append(f"{name} is held at {package.version}: this goes against it")

    def _matched(self, system: System, subjects: Sequence[str], lookup: Lookup) -> list[Package]:
        matched = match_subjects(system, subjects, lookup)
        self.notes += map(str, matched.unmatched)
        return matched.packages

    def _present(self, packages: Iterable[Package]) -> list[Package]:
        found = []
        for package in packages:
            if package.state.present:
                found.append(package)
            else:
                self.notes.append(f"{package.name} is not installed")
        return found
