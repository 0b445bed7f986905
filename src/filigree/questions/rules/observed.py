"""What rules look at: each part is asked once, when the first rule wants it, and never where it is left
out: that is a gap."""

import fnmatch
from collections.abc import Callable, Collection, Iterable, Iterator
from datetime import UTC, datetime
from functools import cached_property
from itertools import islice
from typing import TypeVar

from filigree.access.trees.protocol import Entry
from filigree.families.shared.starting_places import STARTS
from filigree.model.answer import Gap
from filigree.model.errors import BadQuestion
from filigree.model.files import Verdict
from filigree.model.findings import Part
from filigree.model.package import Package
from filigree.questions.asking.package_rows import PackageRow
from filigree.questions.asking.scopes import Lookup, Scope
from filigree.questions.commands.behind import BehindRow, behind
from filigree.questions.commands.census import Filter, census
from filigree.questions.commands.keys import KeyRow, keys
from filigree.questions.commands.leftover import LeftoverRow, leftover
from filigree.questions.commands.repos import RepositoryRow, repos
from filigree.questions.commands.strays import Stray, strays
from filigree.questions.commands.verify import verify
from filigree.questions.dependencies.graph import Graph
from filigree.questions.dependencies.ties import HARD, Tie
from filigree.questions.evidence.references import Against
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.questions.running.rows import RunningRow
from filigree.questions.running.running import can_run, running
from filigree.questions.timeline.files import Build, build_of, builds, changed_row
from filigree.questions.timeline.happenings import Happening
from filigree.questions.timeline.histories import package_rows
from filigree.questions.verifying.tally import VerifySummary
from filigree.questions.verifying.verdicts import FileVerdict, Manner, VerifyProgress
from filigree.system import System

_Row = TypeVar("_Row")
_WANTED = frozenset({
    Verdict.DOCTORED, Verdict.ALTERED, Verdict.MISSING, Verdict.UNREADABLE, Verdict.EDITED,
    Verdict.EXCUSED,
})  # fmt: skip
INDEX_DAYS = 14
"""An index that was not fetched for so long tells nothing of what is missing now."""
_WRITABLE = 0o002
_TIMED = 200
"""Of so many files that belong together times are looked at."""


class Observed:
    """A system as rules see it. `without` are parts that are not looked at."""

    def __init__(
        self,
        system: System,
        options: RepositoryOptions = EVERYTHING,
        without: Collection[Part] = (),
        now: datetime | None = None,
        progress: Callable[[VerifyProgress], None] | None = None,
    ) -> None:
        self.system = system
        self.options = options
        self.without = frozenset(without)
        self.now = now or datetime.now(UTC)
        self._progress = progress
        self.index_days = INDEX_DAYS
        self.starting: tuple[str, ...] = ()
        self.writable: list[Entry] = []
        self.unowned: list[Entry] = []

    def starts(self, path: str) -> bool:
        """Whether what lies at a path starts something, or decides what is run: where such things are on
        every system, and where the office says."""
        return STARTS.match(path) is not None or any(
            fnmatch.fnmatchcase(path, one) for one in self.starting
        )

    def has(self, part: Part) -> bool:
        """Whether a part is looked at."""
        return part not in self.without

    # -- files -------------------------------------------------------------------------------

    @cached_property
    def _verified(self) -> tuple[list[FileVerdict], VerifySummary | None]:
        if not self.has(Part.FILES):
            return [], None
        # Without any archive at hand nothing better than the record can be held against.
        kept = self.has(Part.ARCHIVES) and any(True for _ in self.system.cached_archives())
        against = Against(everywhere=kept)
        told = verify(
            self.system, None, _WANTED, progress=self._progress, manner=Manner(against),
            options=self.options,
        )  # fmt: skip
        return told.records, told.summary

    @property
    def verdicts(self) -> list[FileVerdict]:
        """Every file of a package that is not as it came, or may be otherwise."""
        return self._verified[0]

    @property
    def verified(self) -> VerifySummary | None:
        """The counts of all files; None where they are left out."""
        return self._verified[1]

    def since(self, rows: Iterable[FileVerdict]) -> datetime | None:
        """When the last of some files came to be as they are, by whichever of their clocks can be
        believed."""
        times = [
            changed_row(
                self.system,
                row,
                self._builds.get(build_of(row)),
                self.now,
            ).at
            for row in islice(rows, _TIMED)
        ]
        return max((at for at in times if at is not None), default=None)

    @cached_property
    def _builds(self) -> dict[Build, Package]:
        return builds(self.system)

    @cached_property
    def strays(self) -> list[Stray]:
        """Every file of nobody's, where packages put theirs. The walk notes what of all it comes by may
        be written by anybody, and what belongs to no user."""
        if not self.has(Part.STRAYS):
            return []
        told = strays(self.system, notice=self._notice)
        for folder in told.summary.directories:
            seen = self.system.tree.observe(folder)
            self._notice(Entry(
                folder, seen.kind, seen.size, seen.mode, seen.uid, seen.gid, seen.modified
            ))  # fmt: skip
        return told.records

    def _notice(self, entry: Entry) -> None:
        if entry.mode & _WRITABLE and entry.link_target is None:
            self.writable.append(entry)
        if not self.system.users.knows(entry.uid):
            self.unowned.append(entry)

    # -- what is offered, and who signed it ----------------------------------------------------

    @cached_property
    def repositories(self) -> list[RepositoryRow]:
        """Every configured index."""
        return self._asked(Part.REPOSITORIES, lambda: repos(
            self.system, keyring=self.options.keyring, now=self.now, options=self.options,
        ).records)  # fmt: skip

    @cached_property
    def behind(self) -> list[BehindRow]:
        """Every package that is not as new as it could be."""
        return self._asked(
            Part.REPOSITORIES, lambda: behind(self.system, options=self.options).records
        )

    @cached_property
    def keys(self) -> list[KeyRow]:
        """Every key that the root holds."""
        return self._asked(Part.KEYS, lambda: keys(self.system, options=self.options).records)

    def _asked(self, part: Part, ask: Callable[[], list[_Row]]) -> list[_Row]:
        if not self.has(part):
            return []
        try:
            return ask()
        except BadQuestion as error:
            self.system.report(Gap(part.value, error.what))
            return []

    @cached_property
    def outsiders(self) -> list[PackageRow]:
        """Installed packages that no repository offers, where any offers something at all."""
        if not any(row.packages for row in self.repositories):
            return []
        return census(
            self.system, Filter(outsiders=True), scope=Scope.INSTALLED, options=self.options
        ).records

    # -- packages ------------------------------------------------------------------------------

    @cached_property
    def unmet(self) -> list[Tie]:
        """Every need without which a package does not work, and that nothing here meets."""
        if not self.has(Part.NEEDS):
            return []
        graph = Graph(self.system, Lookup(self.system))
        present = [one for one in self.system.packages if one.state.present]
        return [
            tie for package in present for tie in graph.forward(package)
            if tie.met is False and tie.need.kind in HARD
        ]  # fmt: skip

    @cached_property
    def leftover(self) -> list[LeftoverRow]:
        """What nothing needs any more that was chosen."""
        return self._asked(Part.NEEDS, lambda: leftover(self.system).records)

    @cached_property
    def history(self) -> list[Happening]:
        """What became of packages, by the system's own history and by what that does not tell."""
        if not self.has(Part.HISTORY):
            return []
        return list(package_rows(self.system, self.system.events(), self.now))

    @cached_property
    def running(self) -> list[RunningRow]:
        """What runs now; nothing where the root is not that of the running system."""
        if not self.has(Part.RUNNING) or not can_run(self.system):
            return []
        return running(self.system, every=True).records

    def running_of(self, paths: Iterable[str]) -> list[int]:
        """The numbers of processes that run, or have mapped, one of some paths."""
        wanted = set(paths)
        return [
            row.pid for row in self.running
            if row.pid is not None
            and (row.program in wanted or any(held.path in wanted for held in row.libraries))
        ]  # fmt: skip

    def left_out(self) -> Iterator[Gap]:
        """What was not looked at because it was not asked for."""
        for part in Part:
            if part in self.without:
                yield Gap(f"{part.value}", "they were left out: no rule about them was asked")
