"""An inventory: every package that is there, what each needs, and how much of that is sure."""

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property

from filigree.families.shared.looking import os_release
from filigree.model.answer import Answer
from filigree.model.files import FileRecord
from filigree.model.needs import Relation
from filigree.model.package import Package
from filigree.questions.asking.package_urls import url_of
from filigree.questions.asking.silence import report_silence
from filigree.questions.dependencies.graph import Graph
from filigree.questions.offers.catalogue import open_catalogue
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
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


@dataclass(frozen=True, slots=True)
class InventorySummary:
    """What it is of: what the system says of itself, by the names of its own fields; how many packages,
    of which so many are outsiders; whether the needs and the outsiders are told at all."""

    about: Mapping[str, str]
    packages: int
    outsiders: int
    needs_told: bool
    outsiders_told: bool


def inventory(
    system: System, with_files: bool = False, options: RepositoryOptions = EVERYTHING
) -> Answer[Component, InventorySummary]:
    """Every package that is there, by name. What could not be read, and what the family does not record,
    is a gap."""
    made = _Inventory(system, options)
    records = [made.component(package, with_files) for package in made.present]
    known = made.offered
    summary = InventorySummary(
        os_release(system.tree, system.report), len(records),
        sum(bool(one.outsider) for one in records), made.needs_told, known is not None,
    )  # fmt: skip
    return Answer("inventory", system.system_label, records, summary, system.gaps)


class _Inventory:
    def __init__(self, system: System, options: RepositoryOptions) -> None:
        self._system = system
        self._options = options
        self.present = sorted(
            (one for one in system.packages if one.state.present),
            key=lambda one: (one.name, one.architecture, one.version),
        )
        self.needs_told = not report_silence(system, "needs", "what needs what")
        self._graph = Graph(system)

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
        with open_catalogue(self._system, self._options) as catalogue:
            return None if catalogue.empty else catalogue.known(one.name for one in self.present)

    def component(self, package: Package, with_files: bool) -> Component:
        """A package as a part of an inventory."""
        needs: dict[str, None] = {}
        unmet: dict[str, None] = {}
        for tie in self._graph.forward(package) if self.needs_told else ():
            if tie.need.kind not in _KINDS or tie.holder is package:
                continue
            if tie.holder is not None:
                needs[self._urls[tie.holder]] = None
            elif tie.met is False:
                unmet[tie.need.text] = None
        offered = self.offered
        records = self._system.records(package)
        return Component(
            package=package, url=self._urls[package], needs=[*needs], unmet=[*unmet],
            outsider=None if offered is None else package.name not in offered,
            told_in=self._system.database.place_of(package),
            files=[one.plain or one for one in records.files()] if with_files else [],
        )  # fmt: skip
