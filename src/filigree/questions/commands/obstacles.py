"""Why an available package or an archive cannot be installed here as things stand."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace

from filigree.model.answer import Answer, Gap
from filigree.model.package import Package, State
from filigree.questions.asking.scopes import Lookup, Scope, looking
from filigree.questions.asking.subjects import match_subjects
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions, Working
from filigree.questions.planning.candidates import ClauseReason, Ground
from filigree.questions.planning.explanations import Said, say
from filigree.questions.planning.outcomes import PlanAction, PlanOutcome, Wishes
from filigree.questions.planning.plans import Planner
from filigree.questions.planning.solver import GivenUp
from filigree.questions.planning.world import NotAsking, SystemWorld
from filigree.system import System

SETS = 6
"""So many sets of reasons are looked for."""


@dataclass(frozen=True, slots=True)
class Hindrance:
    """One reason, as a sentence. `kind` is what it rests on, the rest what it speaks of.

    Reasons of one `set` hold together: none of them could be left out. Each set by itself is enough.
    """

    set: int
    kind: str
    sentence: str
    package: str | None
    requirement: str | None
    other: str | None


@dataclass(frozen=True, slots=True)
class ObstacleRow:
    """One package, and what stands in its way.

    `installable` is whether it could come as things stand, without dropping anything; None where that
    was not found out. `helps` are what would make way, in words.
    """

    subject: str
    version: str
    architecture: str
    repository: str | None
    installed: str | None
    installable: bool | None
    reasons: list[Hindrance]
    helps: list[str]
    added: int
    changed: int
    dropped: list[str]
    fetch_size: int


@dataclass(frozen=True, slots=True)
class ObstaclesSummary:
    """How many packages were asked about, how many could be installed, how many reasons speak against."""

    subjects: int
    installable: int
    reasons: int


def obstacles(
    system: System, subjects: Iterable[str], options: RepositoryOptions = EVERYTHING
) -> Answer[ObstacleRow, ObstaclesSummary]:
    """What keeps packages that are offered, or archives, from being installed here.

    Archives that are given together may meet each other's needs. Bad news where something stands in the
    way of any, or a subject is unknown.
    """
    with looking(system, Scope.AVAILABLE, options) as lookup:
        matched = match_subjects(system, subjects, lookup)
        notes = [*lookup.notes, *map(str, matched.unmatched)]
        archives = [p for p in matched.packages if p.state is State.ARCHIVE]
        world = SystemWorld(system, lookup, archives)
        rows: list[ObstacleRow] = []
        for package in matched.packages:
            if options.working is not None:
                options.working(Working("looking for ways", len(rows), len(matched.packages)))
            rows.append(_row(system, lookup, world, package))
        if options.working is not None:
            options.working(Working("looking for ways", len(rows), len(rows)))
        summary = ObstaclesSummary(
            subjects=len(rows),
            installable=sum(row.installable is True for row in rows),
            reasons=sum(len(row.reasons) for row in rows),
        )
        return Answer(
            "obstacles", system.system_label, rows, summary, system.gaps, notes,
            bad_news=bool(notes) or any(row.installable is False for row in rows),
        )  # fmt: skip


def _row(system: System, lookup: Lookup, world: SystemWorld, package: Package) -> ObstacleRow:
    try:
        return _judged(system, lookup, world, package)
    except GivenUp:
        gap = Gap(f"whether there is a way for {package.name}", "the search took too long")
        system.report(gap)
        return _told(system, package, None, [], [], None)


def _judged(system: System, lookup: Lookup, world: SystemWorld, package: Package) -> ObstacleRow:
    barred = [
        replace(one, set=number)
        for number, one in enumerate(_without_looking(system, world, package), 1)
    ]
    if any(one.kind in ("family", "architecture") for one in barred):
        return _told(system, package, False, barred, [], None)
    here = (package.name, package.architecture, package.version)
    if here in {(p.name, p.architecture, p.version) for p in system.packages if p.state.present}:
        return _told(system, package, True, [], [], None)
    planner = Planner(world, Wishes(add=[package]))
    outcome = planner.decide()
    if outcome.found and outcome.lossless:
        helps = _helped(package, barred)
        return _told(system, package, not barred, barred, helps, outcome)
    if outcome.found:
        wanted = [(planner.lossless, ClauseReason(Ground.STAYS, why="always"))]
        reasons = outcome.problem.why_not(wanted)
        helps = [_dropping(outcome)]
    else:
        reasons = outcome.obstacles
        helps = _what_would_help(world, package)
    if not helps and lookup.offered is not None and lookup.offered.empty:
        helps = ["no index of a repository can be believed here: what is offered is not known"]
    hindrances = list(barred)
    number = len(barred)
    told: set[frozenset[str | None]] = set()
    for core in (reasons, *_more_reasons(world, package, reasons)):
        said = say(world, core, [package])
        # That two are against each other is told once, whichever of them says so.
        pairs = {frozenset((one.package, one.other)) for one in said if one.other is not None}
        if pairs and pairs <= told:
            continue
        told |= pairs
        number += 1
        hindrances += (_hindrance(number, one) for one in said)
    return _told(system, package, False, hindrances, helps, outcome)


def _more_reasons(
    world: SystemWorld, package: Package, reasons: Sequence[ClauseReason]
) -> Iterator[list[ClauseReason]]:
    """What would stand in the way still, if the reasons that are known did not."""
    unasked: set[tuple[Package, str]] = set()
    for _ in range(SETS - 1):
        more = {(r.one, r.need.text) for r in reasons if r.one is not None and r.need is not None}
        if more <= unasked:
            return
        unasked |= more
        planner = Planner(NotAsking(world, unasked), Wishes(add=[package]))
        outcome = planner.decide()
        if outcome.found and outcome.lossless:
            return
        wanted = (
            [(planner.lossless, ClauseReason(Ground.STAYS, why="always"))] if outcome.found else []
        )
        reasons = outcome.problem.why_not(wanted)
        yield reasons


def _without_looking(system: System, world: SystemWorld, package: Package) -> Iterator[Hindrance]:
    """What stands in the way whatever the rest is like."""
    if package.family != system.family.name:
        yield Hindrance(
            0, "family",
            f"it is an archive of the {package.family} family, and this system is of the "
            f"{system.family.name} family",
            package.name, None, None,
        )  # fmt: skip
        return
    machines = system.database.rules.machines
    if machines and package.architecture not in machines:
        yield Hindrance(
            0, "architecture",
            f"it is made for {package.architecture}, and this system takes {', '.join(machines)}",
            package.name, None, None,
        )  # fmt: skip
    for held in system.present([package.name]):
        if held.held and world.rivals(held, package) is not None:
            yield Hindrance(
                0, "held", f"{held.name} is held at {held.version}", package.name, None, held.name
            )
    for offer in world.versions(package.name):
        if offer.package is package and offer.passed_over is not None:
            yield Hindrance(
                0, "rules", f"the system's rules pass it over: {offer.passed_over}", package.name,
                None, None,
            )  # fmt: skip


def _helped(package: Package, barred: Sequence[Hindrance]) -> list[str]:
    parts = []
    if any(one.kind == "held" for one in barred):
        parts.append(f"letting go of the hold on {package.name}")
    if any(one.kind == "rules" for one in barred):
        parts.append(f"asking for it by its version, {package.name}={package.version}")
    return [f"{' and '.join(parts)} would make way"] if parts else []


def _dropping(outcome: PlanOutcome) -> str:
    names = [c.package.name for c in outcome.changes if c.action is PlanAction.DROP and not c.asked]
    return f"dropping {', '.join(names)} would make way"


def _what_would_help(world: SystemWorld, package: Package) -> list[str]:
    """What would make way if holds were let go of, and rules bent; nothing where even that does not."""
    planner = Planner(world, Wishes(add=[package]))
    problem = planner.problem
    outcome = planner.decide(soft=(problem.rules, planner.holds))
    if not outcome.found:
        return []
    there = set(outcome.final)
    parts = []
    for candidate in problem.candidates:
        if candidate.here and candidate.package.held and candidate not in there:
            parts.append(f"letting go of the hold on {candidate.package.name}")
    for candidate in outcome.final:
        if candidate.passed_over is not None:
            one = candidate.package
            parts.append(
                f"taking {one.name}={one.version} of {one.repository}, which the rules pass over"
            )
    drops = [c.package.name for c in outcome.changes if c.action is PlanAction.DROP and not c.asked]
    held = {
        candidate.package.name
        for candidate in problem.candidates
        if candidate.here and candidate.package.held
    }
    rest = [name for name in drops if name not in held]
    if rest:
        parts.append(f"dropping {', '.join(rest)}")
    return [f"{' and '.join(parts)} would make way"] if parts else []


def _hindrance(number: int, said: Said) -> Hindrance:
    return Hindrance(
        number, said.ground.value, said.sentence, said.package, said.requirement, said.other
    )


def _told(
    system: System,
    package: Package,
    installable: bool | None,
    reasons: Sequence[Hindrance],
    helps: Sequence[str],
    outcome: PlanOutcome | None,
) -> ObstacleRow:
    changes = outcome.changes if outcome is not None and outcome.found else []
    came = [c for c in changes if c.action is not PlanAction.DROP]
    present = next((p for p in system.packages if p.state.present and p.name == package.name), None)
    return ObstacleRow(
        subject=package.name, version=package.version, architecture=package.architecture,
        repository=package.repository if package.state is State.AVAILABLE else None,
        installed=present.version if present else None, installable=installable,
        reasons=list(reasons), helps=list(helps),
        added=sum(c.action is PlanAction.ADD for c in came),
        changed=sum(c.action is not PlanAction.ADD for c in came),
        dropped=[c.package.name for c in changes if c.action is PlanAction.DROP],
        fetch_size=sum(c.package.archive_size or 0 for c in came),
    )  # fmt: skip
