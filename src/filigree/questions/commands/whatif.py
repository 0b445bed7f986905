"""What would come, go, change and be left over, if packages were added, dropped or upgraded."""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from filigree.model.answer import Answer, Gap
from filigree.model.package import Package, State, was_chosen
from filigree.questions.asking.scopes import Lookup, looking
from filigree.questions.asking.silence import known_chosen, report_silence
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.questions.planning.explanations import say
from filigree.questions.planning.outcomes import PlanAction, PlannedChange, PlanOutcome, Wishes
from filigree.questions.planning.plans import Planner
from filigree.questions.planning.reachability import Together
from filigree.questions.planning.room import FileSystemRoom, room
from filigree.questions.planning.solver import GivenUp
from filigree.questions.planning.wanted import WantedPackages, scope_of
from filigree.questions.planning.world import SystemWorld
from filigree.system import System


@dataclass(frozen=True, slots=True)
class WhatifRow:
    """One package of a plan. Sizes in bytes.

    `before` is the version that goes, where another takes its place; `asked` whether it was asked for;
    `replaced` whether another package takes the place of what goes; `chosen` whether what goes, or was
    there before, was chosen by a person. `reason` is who asks for what comes, and what forces what goes.
    """

    action: PlanAction
    name: str
    version: str
    reason: str
    architecture: str
    before: str | None
    asked: bool
    replaced: bool
    chosen: bool | None
    protected: bool
    repository: str | None
    archive_size: int | None
    installed_size: int | None


class Way(NamedTuple):
    """What an upgrade of everything would do in one way: counts, and what it would drop."""

    upgraded: int
    added: int
    dropped: list[str]


class TwoWays(NamedTuple):
    """An upgrade of everything, without dropping anything and with."""

    without_dropping: Way
    with_dropping: Way


@dataclass(frozen=True, slots=True)
class WhatifSummary:
    """What a plan comes to. Sizes in bytes; `leftover` and its size are None where that is not known.

    `chosen_lost` and `protected_lost` name what goes without having been asked for; `possible` is None
    where it was not found out whether there is a way, `obstacles` why there is none, for people.
    """

    add: int
    drop: int
    upgrade: int
    downgrade: int
    change: int
    leftover: int | None
    fetch_size: int
    sizes_unknown: int
    disk_change: int
    leftover_size: int | None
    room: list[FileSystemRoom]
    chosen_lost: list[str]
    protected_lost: list[str]
    ways: TwoWays | None
    obstacles: list[str]
    possible: bool | None
    remarks: list[str]


def whatif(
    system: System,
    add: Iterable[str] = (),
    drop: Iterable[str] = (),
    upgrade: Iterable[str] = (),
    recommends: bool = False,
    may_drop: bool = False,
    options: RepositoryOptions = EVERYTHING,
) -> Answer[WhatifRow, WhatifSummary]:
    """A plan for all of it together; nothing is changed.

    Where `add` or `upgrade` is asked for, what the repositories offer may come along; where only `drop`
    is, nothing may. An upgrade of everything (`"*"`) drops nothing unless it `may_drop`. Bad news where
    there is no plan, a subject is unknown, or the plan loses what was chosen or is protected and was
    not asked for.
    """
    adds, drops, upgrades = list(add), list(drop), list(upgrade)
    with looking(system, scope_of(adds, upgrades), options) as lookup:
        asked = WantedPackages(system, lookup, adds, drops, upgrades)
        return _answer(system, lookup, asked, asked.wishes(may_drop, recommends))


def _answer(
    system: System, lookup: Lookup, asked: WantedPackages, wishes: Wishes
) -> Answer[WhatifRow, WhatifSummary]:
    world = SystemWorld(system, lookup, asked.archives)
    notes = asked.notes
    try:
        planner = Planner(world, wishes)
        outcome = planner.decide()
        asked.remarks += planner.remarks
        other = None
        if wishes.everything and outcome.found:
            other = Planner(world, _the_other_way(wishes)).decide()
    except GivenUp:
        gap = Gap("whether there is a way", "the search took too long and was given up")
        system.report(gap)
        summary = replace(_summary(system, [], None), remarks=asked.remarks)
        return Answer("whatif", system.system_label, [], summary, system.gaps, notes, bool(notes))
    rows = [_row(system, change) for change in outcome.changes]
    if outcome.found:
        rows += _left_over(system, world, outcome)
    summary = _summary(system, rows, _two_ways(wishes, outcome, other))
    first = (*wishes.add, *wishes.drop, *wishes.upgrade)
    guesses = sum(change.action is PlanAction.CHANGE for change in outcome.changes)
    if guesses:
        report_silence(system, "order", f"whether what comes is newer, of {guesses:,}")
    if report_silence(system, "reason", "what would be left over"):
        summary = replace(summary, leftover=None, leftover_size=None)
    summary = replace(
        summary, possible=outcome.found, remarks=asked.remarks,
        obstacles=[said.sentence for said in say(world, outcome.obstacles, first)],
    )  # fmt: skip
    lost = summary.chosen_lost or summary.protected_lost
    return Answer(
        "whatif", system.system_label, rows, summary, system.gaps, notes,
        bad_news=bool(notes) or not outcome.found or bool(lost),
    )  # fmt: skip


def _the_other_way(wishes: Wishes) -> Wishes:
    return Wishes(
        wishes.add, wishes.drop, wishes.upgrade, wishes.everything, not wishes.may_drop,
        wishes.recommends,
    )  # fmt: skip


def _row(system: System, change: PlannedChange) -> WhatifRow:
    package, before = change.package, change.before
    old = before or (package if change.action is PlanAction.DROP else None)
    return WhatifRow(
        action=change.action, name=package.name, version=package.version, reason=change.reason,
        architecture=package.architecture,
        before=before.version if before else None, asked=change.asked, replaced=change.replaced,
        chosen=known_chosen(system, old) if old else False, protected=bool(old and old.protected),
        repository=package.repository if package.state is State.AVAILABLE else None,
        archive_size=package.archive_size if package.state in (State.AVAILABLE, State.ARCHIVE) else None,
        installed_size=package.installed_size,
    )  # fmt: skip


def _left_over(system: System, world: SystemWorld, outcome: PlanOutcome) -> Iterator[WhatifRow]:
    """What only those needed that go."""
    kinds = system.database.rules.keeping
    before = Together(world, world.installed())
    loose = set(before.loose(kinds))
    askers: dict[Package, dict[str, None]] = {}
    for link in before.links(kinds):
        askers.setdefault(link.kept, {})[link.by.name] = None
    final = [item.package for item in outcome.final]
    # What comes is needed, or was asked for; what comes in another version stays for its reason.
    befores = {c.package: c.before for c in outcome.changes}
    news = [
        p
        for p in final
        if not p.state.present and (befores.get(p) is None or was_chosen(befores[p] or p))
    ]
    for package in sorted(Together(world, final).loose(kinds, news), key=lambda p: p.name):
        if package.state.present and package not in loose:
            yield WhatifRow(
                action=PlanAction.LEFTOVER, name=package.name, version=package.version,
                reason=f"only {_few(list(askers.get(package, ())))} needed it",
                architecture=package.architecture, before=None,
                asked=False, replaced=False, chosen=known_chosen(system, package),
                protected=package.protected, repository=None, archive_size=None,
                installed_size=package.installed_size,
            )  # fmt: skip


def _few(names: Sequence[str]) -> str:
    return ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")


NEWER = (PlanAction.UPGRADE, PlanAction.CHANGE)
VERSIONS = (*NEWER, PlanAction.DOWNGRADE)
"""What puts one version in the place of another."""


def _two_ways(wishes: Wishes, outcome: PlanOutcome, other: PlanOutcome | None) -> TwoWays | None:
    """How an upgrade of everything differs with and without dropping anything."""
    if other is None:
        return None
    ways = {False: outcome, True: other} if not wishes.may_drop else {True: outcome, False: other}
    return TwoWays(_way(ways[False]), _way(ways[True]))


def _way(outcome: PlanOutcome) -> Way:
    return Way(
        upgraded=sum(c.action in NEWER for c in outcome.changes),
        added=sum(c.action is PlanAction.ADD for c in outcome.changes),
        dropped=[c.package.name for c in outcome.changes if c.lost],
    )


def _summary(system: System, rows: Sequence[WhatifRow], ways: TwoWays | None) -> WhatifSummary:
    counts = Counter(row.action for row in rows)
    fetched = [r for r in rows if r.action in (PlanAction.ADD, *VERSIONS)]
    dropped = [r for r in rows if r.action is PlanAction.DROP]
    lost = [r for r in dropped if not r.asked and not r.replaced]
    sizes = {(p.name, p.architecture, p.version): p.installed_size or 0 for p in system.packages}
    change = sum(r.installed_size or 0 for r in fetched)
    change -= sum(r.installed_size or 0 for r in dropped)
    change -= sum(sizes.get((r.name, r.architecture, r.before), 0) for r in fetched if r.before)
    left = [r for r in rows if r.action is PlanAction.LEFTOVER]
    return WhatifSummary(
        add=counts[PlanAction.ADD],
        drop=counts[PlanAction.DROP],
        upgrade=counts[PlanAction.UPGRADE],
        downgrade=counts[PlanAction.DOWNGRADE],
        change=counts[PlanAction.CHANGE],
        leftover=counts[PlanAction.LEFTOVER],
        fetch_size=sum(r.archive_size or 0 for r in fetched),
        sizes_unknown=sum(r.archive_size is None for r in fetched),
        disk_change=change,
        leftover_size=sum(r.installed_size or 0 for r in left),
        room=room(system),
        chosen_lost=[r.name for r in lost if r.chosen is not False],
        protected_lost=[r.name for r in dropped if r.protected and not r.replaced],
        ways=ways,
        obstacles=[],
        possible=None,
        remarks=[],
    )
