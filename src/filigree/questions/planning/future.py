"""What would be installed once a plan was carried out."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import NamedTuple

from filigree.model.errors import BadQuestion
from filigree.model.package import Package, State
from filigree.questions.asking.scopes import Lookup, looking
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.questions.planning.explanations import say
from filigree.questions.planning.plans import Planner
from filigree.questions.planning.solver import GivenUp
from filigree.questions.planning.wanted import WantedPackages, scope_of
from filigree.questions.planning.world import SystemWorld
from filigree.system import System


class Plan(NamedTuple):
    """What is to come, to go and to become newer, by subjects; `"*"` among the last is everything."""

    add: tuple[str, ...] = ()
    drop: tuple[str, ...] = ()
    upgrade: tuple[str, ...] = ()

    def __str__(self) -> str:
        kinds = zip(("add", "drop", "upgrade"), self, strict=True)
        return ", ".join(f"{kind} {subject}" for kind, subjects in kinds for subject in subjects)


@dataclass(frozen=True, slots=True)
class PlannedState:
    """The packages that would be there together, and where they are on record."""

    packages: list[Package]
    world: SystemWorld
    lookup: Lookup

    def told_in(self, package: Package) -> str:
        """What tells of a package: a file of the system's database, a repository, or an archive."""
        if package.state is State.AVAILABLE:
            return package.repository or "a repository"
        if package.state is State.ARCHIVE:
            archive = self.lookup.system.archive_of(package)
            return archive.facts.path if archive is not None else "an archive"
        return self.lookup.system.database.place_of(package)

    def digests(self) -> dict[Package, str]:
        """The digests of the archives of what would come, `algorithm:hex`: as their index tells, which is
        read once more for it, or of the archive itself."""
        offered = [one for one in self.packages if one.state is State.AVAILABLE]
        found: dict[Package, str] = {}
        if self.lookup.offered is not None:
            for one in self.lookup.offered.confirmed(offered):
                digest = self.lookup.offered.place(one).digest
                if digest is not None:
                    found[one] = digest
        for one in self.packages:
            archive = self.lookup.system.archive_of(one)
            if archive is not None:
                found[one] = archive.digest("sha256")
        return found


@contextmanager
def planned(
    system: System, plan: Plan | None, options: RepositoryOptions = EVERYTHING
) -> Iterator[PlannedState]:
    """What is there, or would be after a plan. Raises BadQuestion where nothing is called as the plan
    says, or where there is no way to it: half a plan is none."""
    asked = plan or Plan()
    with looking(system, scope_of(asked.add, asked.upgrade), options) as lookup:
        if plan is None:
            world = SystemWorld(system, lookup)
            yield PlannedState([*world.installed()], world, lookup)
            return
        wanted = WantedPackages(system, lookup, plan.add, plan.drop, plan.upgrade)
        if wanted.notes:
            raise BadQuestion(wanted.notes[0], str(plan), "whatif tells what can be planned")
        world = SystemWorld(system, lookup, wanted.archives)
        wishes = wanted.wishes()
        try:
            outcome = Planner(world, wishes).decide()
        except GivenUp as error:
            raise BadQuestion(
                "whether there is a way to it was not found out", str(plan)
            ) from error
        if not outcome.found:
            first = (*wishes.add, *wishes.drop, *wishes.upgrade)
            why = "; ".join(one.sentence for one in say(world, outcome.obstacles, first))
            raise BadQuestion(f"there is no way to it: {why}", str(plan), "whatif tells the whole")
        yield PlannedState([one.package for one in outcome.final], world, lookup)
