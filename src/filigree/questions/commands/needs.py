"""What a package requires, and what requires it, direct or nested."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from typing import NamedTuple

from filigree.families.nothing import NAME as NO_FAMILY
from filigree.model.answer import Answer
from filigree.model.needs import Relation
from filigree.model.package import Package, State, was_chosen
from filigree.model.quick import quickly_made
from filigree.questions.asking.scopes import Lookup, Scope, looking
from filigree.questions.asking.silence import WHY_INSTALLED, known_chosen, report_silence
from filigree.questions.asking.subjects import match_subjects
from filigree.questions.dependencies.graph import Graph
from filigree.questions.dependencies.need_status import (
    NeedStatus,
    status_of,
    unjudged,
    why_without,
)
from filigree.questions.dependencies.ties import HARD
from filigree.questions.dependencies.walks import Step
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System


@dataclass(frozen=True, slots=True)
class WouldMeet:
    """A package that a repository offers. Sizes in bytes."""

    name: str
    version: str
    repository: str | None
    archive_size: int | None
    installed_size: int | None


@quickly_made
@dataclass(frozen=True, slots=True)
class NeedRow:
    """One need and one package at the other end of it (None where it is unmet, or needs none).

    `status` is None where it cannot be judged: the needs of another family's archive.

    `repository` is who offers the package at the other end, where it is not installed.

    `archive_size` is what it takes to fetch that; `chosen` whether a person asked for it, where it is
    installed. `would_meet` is what is offered and would meet a need that nothing meets.

    `via` is the package on this side; `repeat` is "cycle" or "folded" where the walk does not go
    on from here because it was, or is being, told elsewhere. `reason` is why a need is met without
    a package.
    """

    name: str | None
    version: str | None
    depth: int
    kind: Relation
    requirement: str
    status: NeedStatus | None
    via: str
    repeat: str | None
    via_version: str
    architecture: str | None
    reason: str | None
    repository: str | None
    archive_size: int | None = None
    chosen: bool | None = None
    would_meet: list[WouldMeet] = field(default_factory=list)


class Layout(StrEnum):
    """How a walk is told: as a tree; each package once, what is nearest first; or the summary alone."""

    TREE = "tree"
    FLAT = "flat"
    LEVELS = "levels"
    COUNT = "count"


class NeedsSubject(NamedTuple):
    """A package that a walk started at, and how many records it has."""

    name: str
    version: str
    architecture: str
    records: int


@dataclass(frozen=True, slots=True)
class NeedsSummary:
    """What a walk came to: packages at the other end, needs, and how far away; sizes in bytes."""

    subjects: list[NeedsSubject]
    packages: int
    installed_size: int
    needs: int
    unmet: int
    to_fetch: int
    fetch_size: int
    deepest: int
    scope: Scope
    layout: Layout


def needs(
    system: System,
    subjects: Iterable[str],
    depth: int | None = 1,
    kinds: frozenset[Relation] = HARD,
    scope: Scope = Scope.INSTALLED,
    options: RepositoryOptions = EVERYTHING,
    layout: Layout = Layout.TREE,
    missing: bool = False,
) -> Answer[NeedRow, NeedsSummary]:
    """What the subjects require, `depth` steps deep (None: to the end).

    With `missing` only what is not installed: each package, or unmet need, once.
    Where repositories are asked, what is installed meets a need before what is only offered; then its
    status is `available`. Bad news where a hard need (requires, requires-first) is unmet, or a subject
    is unknown. Archives that are asked about together may meet each other's needs.
    """
    with looking(system, scope, options) as lookup:
        layout = Layout.FLAT if missing and layout is Layout.TREE else layout
        asked = _WalkAsked(depth, kinds, layout, missing=missing)
        return _walk(system, subjects, asked, lookup, options)


def needed_by(
    system: System,
    subjects: Iterable[str],
    depth: int | None = 1,
    kinds: frozenset[Relation] = HARD,
    scope: Scope = Scope.INSTALLED,
    options: RepositoryOptions = EVERYTHING,
    layout: Layout = Layout.TREE,
    chosen_only: bool = False,
) -> Answer[NeedRow, NeedsSummary]:
    """What requires the subjects, `depth` steps away (None: to the end), installed or offered.

    With `chosen_only` only what a person asked for: each package once, what is nearest first.
    """
    if scope is not Scope.AVAILABLE:
        report_silence(system, "reason", WHY_INSTALLED)
    with looking(system, scope, options) as lookup:
        layout = Layout.FLAT if chosen_only and layout is Layout.TREE else layout
        asked = _WalkAsked(depth, kinds, layout, True, chosen_only=chosen_only)
        return _walk(system, subjects, asked, lookup, options)


class _WalkAsked(NamedTuple):
    """How far to walk, and what of it to tell."""

    depth: int | None
    kinds: frozenset[Relation]
    layout: Layout
    backwards: bool = False
    missing: bool = False
    chosen_only: bool = False

    def tells(self, step: Step) -> bool:
        """Whether a step is among what is asked for."""
        holder = step.tie.holder
        if self.missing:
            return not step.tie.met or (holder is not None and not holder.state.present)
        asker = step.tie.asker
        return not self.chosen_only or (asker.state.present and was_chosen(asker))


def _walk(
    system: System,
    subjects: Iterable[str],
    asked: _WalkAsked,
    lookup: Lookup,
    options: RepositoryOptions,
) -> Answer[NeedRow, NeedsSummary]:
    backwards = asked.backwards
    matched = match_subjects(system, subjects, lookup)
    other = (State.AVAILABLE,) if backwards else (State.AVAILABLE, State.ARCHIVE)
    starts = [p for p in matched.packages if p.state.present or p.state in other]
    notes = [*lookup.notes, *map(str, matched.unmatched)]
    notes += (f"{p.name} is not installed" for p in matched.packages if p not in starts)
    graph = Graph(system, lookup, () if backwards else starts)
    for start in starts:
        if not graph.judges(start):
            system.report(unjudged(system, start))
    counted = _counted(graph, starts, asked, lookup.scope) if asked.layout is Layout.COUNT else None
    if counted is not None:
        return Answer(
            "needed-by", system.system_label, [], counted, system.gaps, notes, bool(notes)
        )
    go = graph.walk if asked.layout is Layout.TREE else graph.levels
    walks = [
        [step for step in go(start, asked.kinds, asked.depth, backwards) if asked.tells(step)]
        for start in starts
    ]
    steps = [step for walked in walks for step in walked]
    offers = {} if backwards else _would_meet(system, lookup, options, steps)
    rows = [_row(system, step, backwards, offers) for step in steps]
    ends = {step.tie.asker if backwards else step.tie.holder for step in steps} - set(starts)
    told = [_subject(start, len(walk)) for start, walk in zip(starts, walks, strict=True)]
    return Answer(
        "needed-by" if backwards else "needs",
        system.system_label,
        [] if asked.layout is Layout.COUNT else rows,
        _summary(told, rows, ends, asked.layout, lookup.scope),
        system.gaps,
        notes,
        bad_news=bool(notes) or any(r.status is NeedStatus.UNMET and r.kind.hard for r in rows),
    )


def _subject(start: Package, records: int) -> NeedsSubject:
    return NeedsSubject(start.name, start.version, start.architecture, records)


def _counted(
    graph: Graph, starts: Sequence[Package], asked: _WalkAsked, scope: Scope
) -> NeedsSummary | None:
    """The summary for one package, from the kept graph alone; None where that does not tell."""
    if len(starts) != 1 or asked.chosen_only:
        return None
    found = graph.count(starts[0], asked.kinds, asked.depth)
    if found is None:
        return None
    packages, installed, fetched, far = found
    return NeedsSummary(
        subjects=[_subject(starts[0], 0)], packages=packages, installed_size=installed,
        needs=packages, unmet=0, to_fetch=packages, fetch_size=fetched, deepest=far, scope=scope,
        layout=asked.layout,
    )  # fmt: skip


def _would_meet(
    system: System, lookup: Lookup, options: RepositoryOptions, steps: Iterable[Step]
) -> dict[tuple[Package, str], list[WouldMeet]]:
    """What is offered for the needs that nothing meets, by asker and need.

    The repositories are asked only where there is such a need, and not where they were asked already.
    """
    unmet = [step.tie for step in steps if step.tie.met is False]
    if not unmet or lookup.offered is not None or system.family.name == NO_FAMILY:
        return {}
    found: dict[tuple[Package, str], list[WouldMeet]] = {}
    with looking(system, Scope.ANY, options._replace(quiet=True, addresses=())) as more:
        graph = Graph(system, more)
        for tie in unmet:
            holders = graph.met_by(tie.need, tie.asker).holders
            found[tie.asker, tie.need.text] = [
                WouldMeet(p.name, p.version, p.repository, p.archive_size, p.installed_size)
                for p in holders
            ]
    return found


def _row(
    system: System, step: Step, backwards: bool,
    offers: Mapping[tuple[Package, str], list[WouldMeet]],
) -> NeedRow:  # fmt: skip
    tie = step.tie
    end, via = (tie.asker, tie.holder) if backwards else (tie.holder, tie.asker)
    return NeedRow(
        name=end.name if end else None,
        version=end.version if end else None,
        architecture=end.architecture if end else None,
        depth=step.depth,
        kind=tie.need.kind,
        requirement=tie.need.text,
        status=status_of(tie),
        via=via.name if via else "",
        via_version=via.version if via else "",
        repeat=step.repeat,
        reason=why_without(tie.need) if end is None and tie.met else None,
        repository=end.repository if end is not None and end.state is State.AVAILABLE else None,
        archive_size=end.archive_size if end and end.state is State.AVAILABLE else None,
        chosen=known_chosen(system, end) if end is not None and end.state.present else None,
        would_meet=offers.get((tie.asker, tie.need.text), []) if tie.met is False else [],
    )


def _summary(
    subjects: list[NeedsSubject], rows: Sequence[NeedRow], ends: Iterable[Package | None],
    layout: Layout, scope: Scope,
) -> NeedsSummary:  # fmt: skip
    reached = [end for end in ends if end is not None]
    fetched = [package for package in reached if package.state is State.AVAILABLE]
    return NeedsSummary(
        subjects=subjects,
        packages=len(reached),
        installed_size=sum(p.installed_size or 0 for p in reached),
        needs=len(rows),
        unmet=sum(row.status is NeedStatus.UNMET for row in rows),
        to_fetch=len(fetched),
        fetch_size=sum(p.archive_size or 0 for p in fetched),
        deepest=max((row.depth for row in rows), default=0),
        scope=scope,
        layout=layout,
    )
