"""What rules look at: each part is asked once, when the first rule wants it, and never where it is left
out: that is a gap."""

import fnmatch
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator
from datetime import UTC, datetime, timedelta
from functools import cached_property, partial
from itertools import islice
from typing import NamedTuple, TypeVar

from filigree.access.trees.protocol import Entry
from filigree.access.workers import aside
from filigree.families.shared.starting_places import STARTS
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, BadQuestion
from filigree.model.files import Aspect, Evidence, Kind, Verdict
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
from filigree.questions.timeline.times import inode_time, moment_seen
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
POLICY_DAYS = 30
"""Policy that was declared within so many days came lately."""
_COPIED = timedelta(hours=12)
"""By so much the inode of a package's file may be newer than its installation, and still be of that."""
_TRIED = 16
"""Of so many paths of a package one is looked for that is a file."""
_WRITABLE = 0o002
_SET_ID = 0o6000
NOTICED = 50_000
"""So many paths of one sort that a walk comes by are listed: a disk full of them fills no memory."""
_TIMED = 200
"""Of so many files that belong together times are looked at."""


class _Walked(NamedTuple):
    """What one walk over the places of packages' files came by."""

    strays: list[Stray]
    writable: list[Entry]
    unowned: list[Entry]
    privileged: list[Entry]
    gaps: list[Gap]


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
        self.now = now or options.now or datetime.now(UTC)
        self.options = options._replace(now=self.now)
        self.without = frozenset(without)
        self.seen_at = moment_seen(system.system_label.seen_at, self.now)
        self._progress = progress
        self.index_days = INDEX_DAYS
        self.policy_days = POLICY_DAYS
        self.starting: tuple[str, ...] = ()
        self.wanted: Collection[Part] = frozenset(Part)

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
        if self.has(Part.STRAYS) and Part.STRAYS in self.wanted:
            _ = self._walk  # goes on beside it
        against = Against(everywhere=self._kept)
        told = verify(
            self.system, None, _WANTED, progress=self._progress, manner=Manner(against),
            options=self.options,
        )  # fmt: skip
        return told.records, told.summary

    @property
    def tally(self) -> VerifySummary | None:
        """What the verdicts come to; None where files were left out."""
        return self._verified[1]

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
                self.package_of(row),
                self.now,
            ).at
            for row in islice(rows, _TIMED)
        ]
        return max((at for at in times if at is not None), default=None)

    def package_of(self, row: FileVerdict) -> Package | None:
        """The package that a verdict is of."""
        return self._builds.get(build_of(row))

    @cached_property
    def _builds(self) -> dict[Build, Package]:
        return builds(self.system)

    @cached_property
    def _walk(self) -> Callable[[], _Walked]:
        return aside(partial(_walked, self.system))

    @cached_property
    def _strays(self) -> _Walked:
        if not self.has(Part.STRAYS):
            return _Walked([], [], [], [], [])
        told = self._walk()
        for gap in told.gaps:
            self.system.report(gap)
        return told

    @property
    def strays(self) -> list[Stray]:
        """Every file of nobody's, where packages put theirs."""
        return self._strays.strays

    @property
    def writable(self) -> list[Entry]:
        """What may be written by anybody, whosever it is, where packages put their files."""
        return self._strays.writable

    @property
    def unowned(self) -> list[Entry]:
        """What belongs to no user that the root knows, where packages put their files."""
        return self._strays.unowned

    @cached_property
    def copied(self) -> bool:
        """Whether the root was copied: files of packages all have inodes that are newer than when their
        packages came."""
        for package, listing in islice(self.system.database.listings(), _TIMED):
            came = package.installed_at
            for path in islice(listing, _TRIED) if came is not None else ():
                try:
                    seen = self.system.tree.observe(path)
                except AccessError:
                    continue
                changed = inode_time(seen) if seen.kind is Kind.FILE else None
                if changed is not None and came is not None and changed - came < _COPIED:
                    return False
        return True

    @cached_property
    def untold_rights(self) -> list[Entry]:
        """Set-id files of packages of which no record tells the mode, and no archive at hand; those that
        were changed last come first."""
        strays = {row.path for row in self.strays}
        found = {one.path: one for one in self._strays.privileged if one.path not in strays}
        told = {*self._other_modes(), *self._modes_on_record(found)} if found else set()
        untold = [one for path, one in found.items() if path not in told]
        return sorted(untold, key=lambda one: (-one.modified, one.path))

    def _other_modes(self) -> Iterator[str]:
        """The paths of which it is told already that they have another mode."""
        for row in self.verdicts:
            if any(one.aspect is Aspect.MODE for one in row.differences):
                yield row.path

    def _modes_on_record(self, paths: Iterable[str]) -> Iterator[str]:
        """The paths of the packages of some paths of which a record, or an archive at hand, tells the
        mode; what an administrator declared is no record."""
        owners = {owner for path in paths for owner in self.system.owners_of(path)}
        for record in (one for owner in owners for one in self.system.records(owner).files()):
            if (record.plain or record).mode is not None:
                yield self.system.real(record.location)
        if self._kept and owners:
            told = verify(
                self.system, sorted({owner.name for owner in owners}), frozenset(Verdict),
                manner=Manner(Against(everywhere=True)), options=self.options,
            )  # fmt: skip
            for row in told.records:
                if row.evidence is not Evidence.RECORD:
                    yield self.system.real(row.path)

    @cached_property
    def _kept(self) -> bool:
        """Whether any archive is at hand: without one nothing better than the record can be asked."""
        return self.has(Part.ARCHIVES) and any(True for _ in self.system.cached_archives())

    # -- what is offered, and who signed it ----------------------------------------------------

    @cached_property
    def repositories(self) -> list[RepositoryRow]:
        """Every configured index."""
        return self._asked(Part.REPOSITORIES, lambda: repos(
            self.system, now=self.now, options=self.options,
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


def _walked(system: System) -> _Walked:
    """The walk for all rules: files of nobody's, and of all that it comes by what may be written by
    anybody, and what belongs to no user."""
    found = _Walked([], [], [], [], [])
    more: Counter[str] = Counter()

    def keep(held: list[Entry], entry: Entry, what: str) -> None:
        if len(held) < NOTICED:
            held.append(entry)
        else:
            more[what] += 1

    def notice(entry: Entry) -> None:
        if entry.mode & _WRITABLE and entry.link_target is None:
            keep(found.writable, entry, "may be written by anybody")
        if not system.users.knows(entry.uid):
            keep(found.unowned, entry, "belong to users whom no list has")
        if entry.mode & _SET_ID and entry.kind is Kind.FILE:
            keep(found.privileged, entry, "are files that run with others' rights")

    told = strays(system, notice=notice)
    for folder in told.summary.directories:
        try:
            seen = system.tree.observe(folder)
        except AccessError as error:
            system.report(Gap(folder, error.what))
            continue
        notice(Entry(folder, seen.kind, seen.size, seen.mode, seen.uid, seen.gid, seen.modified))
    for what, count in more.items():
        why = f"more than {NOTICED:,} of that sort are counted, and not listed"
        system.report(Gap(f"{count:,} paths that {what}", why))
    found.strays.extend(told.records)
    found.gaps.extend(system.gaps)
    return found
