"""An inventory: every package that is there, or would be, what each needs, how much of it is sure."""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from filigree.families.shared.looking import os_release
from filigree.model.answer import Answer, Gap
from filigree.model.files import FileRecord
from filigree.model.needs import Relation
from filigree.model.package import Package, State
from filigree.questions.asking.package_urls import url_of
from filigree.questions.asking.silence import report_silence
from filigree.questions.offers.catalogue import Catalogue, open_catalogue
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.questions.planning.future import Plan, PlannedState, planned
from filigree.questions.planning.reachability import Together
from filigree.system import System

_KINDS = frozenset({Relation.REQUIRES_FIRST, Relation.REQUIRES})


@dataclass(frozen=True, slots=True)
class Component:
    """A package of an inventory. `url` is its package URL, one for each package: where two would have the
    same one, their records are told apart by `also`. `needs` are the URLs of what it does not work
    without, `unmet` the needs that nothing meets. `outsider` is whether no known repository offers it,
    None where there is none to ask. `told_in` is the file that tells of it, `files` its files, without
    any unless they were asked for."""

    package: Package
    url: str
    needs: list[str]
    unmet: list[str]
    outsider: bool | None
    told_in: str
    files: list[FileRecord]
    digest: str | None = None


@dataclass(frozen=True, slots=True)
class InventorySummary:
    """What it is of: what the system says of itself, by the names of its own fields; how many packages,
    of which so many are outsiders; whether the needs and the outsiders are told at all; `plan` is what
    was to become of it, None of what is there."""

    about: Mapping[str, str]
    packages: int
    outsiders: int
    needs_told: bool
    outsiders_told: bool
    plan: str | None = None


def inventory(
    system: System, with_files: bool = False, options: RepositoryOptions = EVERYTHING,
    plan: Plan | None = None,
) -> Answer[Component, InventorySummary]:  # fmt: skip
    """Every package that is there, or would be after a plan, by name. What could not be read, and what
    the family does not record, is a gap. Raises BadQuestion where there is no such plan."""
    with planned(system, plan, options) as state:
        made = _Inventory(system, state, options)
        records = [made.component(package, with_files) for package in made.present]
        if with_files and any(one.package.state is State.AVAILABLE for one in records):
            why = "the lists of repositories tell the paths of what is only offered, and no more"
            system.report(Gap("files of what would come", why))
        known = made.offered
    summary = InventorySummary(
        os_release(system.tree, system.report), len(records),
        sum(bool(one.outsider) for one in records), made.needs_told, known is not None,
        None if plan is None else str(plan),
    )  # fmt: skip
    return Answer("inventory", system.system_label, records, summary, system.gaps)


class _Inventory:
    def __init__(self, system: System, state: PlannedState, options: RepositoryOptions) -> None:
        self._system = system
        self._state = state
        self._options = options
        self.present = sorted(
            state.packages, key=lambda one: (one.name, one.architecture, one.version)
        )
        self.needs_told = not report_silence(system, "needs", "what needs what")
        self._together = Together(state.world, self.present)

    @cached_property
    def _urls(self) -> dict[Package, str]:
        found: dict[Package, str] = {}
        taken: dict[str, int] = {}
        about = os_release(self._system.tree, self._system.report)
        for package in self.present:
            url = url_of(self._system.family, package, about)
            taken[url] = taken.get(url, 0) + 1
            found[package] = url if taken[url] == 1 else f"{url}&also={taken[url]}"
        return found

    @cached_property
    def offered(self) -> set[str] | None:
        """The names of those that repositories offer; None where none can be asked."""
        # A plan has opened the indexes already.
        opened = self._state.lookup.offered
        if opened is not None:
            return self._known_to(opened)
        with open_catalogue(self._system, self._options) as catalogue:
            return self._known_to(catalogue)

    def _known_to(self, catalogue: Catalogue) -> set[str] | None:
        return None if catalogue.empty else catalogue.known(one.name for one in self.present)

    @cached_property
    def _digests(self) -> dict[Package, str]:
        return self._state.digests()

    def component(self, package: Package, with_files: bool) -> Component:
        """A package as a part of an inventory."""
        needs: dict[str, None] = {}
        unmet: dict[str, None] = {}
        for need in self._state.world.needs(package) if self.needs_told else ():
            if need.kind not in _KINDS or need.granted is not None:
                continue
            met, holders = self._together.meeting(need, package)
            needs |= dict.fromkeys(self._urls[one] for one in holders if one is not package)
            if not met:
                unmet[need.text] = None
        offered = self.offered
        records = self._state.lookup.records(package)
        return Component(
            package=package, url=self._urls[package], needs=[*needs], unmet=[*unmet],
            outsider=None if offered is None else package.name not in offered,
            told_in=self._state.told_in(package),
            files=[one.plain or one for one in records.files()] if with_files else [],
            digest=self._digests.get(package),
        )  # fmt: skip
