"""From wishes to a plan: what would be added, dropped and changed, and what asks for or forces it."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from enum import StrEnum
from time import monotonic
from typing import NamedTuple

from filigree.model.needs import Need, Relation, Term, terms_of
from filigree.model.package import Package
from filigree.questions.dependencies.satisfaction import satisfy
from filigree.questions.dependencies.ties import HARD
from filigree.questions.planning.problem import (
    Candidate,
    ClauseReason,
    Ground,
    ResolutionProblem,
    by_weight,
)
from filigree.questions.planning.solver import negated
from filigree.questions.planning.world import Offered, World, in_place_of, place_of

SECONDS = 60
"""So long a plan is looked for before the search is given up."""


class PlanAction(StrEnum):
    """What a plan does with a package. A `change` is to another version, of which nothing tells whether
    it is newer."""

    ADD = "add"
    DROP = "drop"
    UPGRADE = "upgrade"
    DOWNGRADE = "downgrade"
    CHANGE = "change"
    LEFTOVER = "leftover"


@dataclass(frozen=True, slots=True)
class Wishes:
    """What is asked of a plan. With `everything` each package is to be as new as it can be.

    `may_drop` puts being new before keeping what is there. `recommends` adds what new packages
    recommend, where that takes nothing away.
    """

    add: Sequence[Package] = ()
    drop: Sequence[Package] = ()
    upgrade: Sequence[Package] = ()
    everything: bool = False
    may_drop: bool = False
    recommends: bool = False


class PlannedChange(NamedTuple):
    """What happens to one package; `before` is what it was, where another version of it was there.

    `replaced` is whether another package takes the place of what goes: then it is no loss.
    """

    action: PlanAction
    package: Package
    before: Package | None
    reason: str
    asked: bool
    replaced: bool = False

    @property
    def lost(self) -> bool:
        """Whether something goes that nobody asked to, and for nothing in its place."""
        return self.action is PlanAction.DROP and not self.asked and not self.replaced


@dataclass(slots=True)
class PlanOutcome:
    """A plan, or why there is none. `lossless` is whether nothing goes that was not asked to."""

    universe: ResolutionProblem
    found: bool = False
    lossless: bool = True
    changes: list[PlannedChange] = field(default_factory=list)
    final: list[Candidate] = field(default_factory=list)
    obstacles: list[ClauseReason] = field(default_factory=list)


class Planner:
    """Wishes put to one world. `remarks` are what is to be said of them before anything is decided."""

    def __init__(self, world: World, wishes: Wishes) -> None:
        self.world = world
        self.wishes = wishes
        self.remarks: list[str] = []
        self.universe = universe = ResolutionProblem(world)
        self.holds = universe.solver.variable()
        self.lossless = universe.solver.variable()
        self.untouched = universe.solver.variable()
        self._dropped = set(wishes.drop)
        self._moved = {p.name for p in (*wishes.add, *wishes.upgrade)}
        self.here = [item for item in universe.items if item.here]
        for package in wishes.add:
            item = universe.item(package)
            universe.require([item.literal], ClauseReason(Ground.ASKED, package, why="add"))
        self._drop()
        self._keep()
        for package in wishes.upgrade:
            wanted = [universe.item(o.package).literal for o in self._better(package)]
            if wanted:
                universe.require(wanted, ClauseReason(Ground.ASKED, package, why="upgrade"))
            else:
                self.remarks.append(f"nothing newer of {package.name} would be taken")

    def _drop(self) -> None:
        universe = self.universe
        for package in self.wishes.drop:
            reason = ClauseReason(Ground.ASKED, package, why="drop")
            place = place_of(self.world, package)
            rest = [i for i in universe.at(place) if i.here]
            if all(item.package in self._dropped for item in rest):
                universe.bar(place, reason)
            else:
                universe.require([negated(universe.item(package).literal)], reason)

    def _keep(self) -> None:
        universe = self.universe
        for item in self.here:
            package = item.package
            if package in self._dropped:
                continue
            if package.held and package.name not in self._moved:
                reason = ClauseReason(Ground.HELD, package)
                universe.require([negated(self.holds), item.literal], reason)
            if package.protected:
                reason = ClauseReason(Ground.PROTECTED, package)
                universe.require([universe.there(package)], reason)
            universe.require(
                [negated(self.untouched), item.literal], ClauseReason(Ground.STAYS, package)
            )

    def _better(self, package: Package) -> list[Offered]:
        """What the rules would take in the place of an installed package."""
        here = package.name, package.version
        return [
            one
            for one in in_place_of(self.world, package)
            if one.passed_over is None and (one.package.name, one.package.version) != here
        ]

    def _losses_are_told(self) -> list[int]:
        """The literals that each name stays; made where not everything can be left as it is."""
        universe = self.universe
        kept = {}
        for package in by_weight(item.package for item in self.here):
            if package not in self._dropped:
                there = universe.there(package)
                reason = ClauseReason(Ground.STAYS, package)
                universe.require([negated(self.lossless), there], reason)
                kept[there] = package
        return list(kept)

    def decide(self, soft: Sequence[int] = ()) -> PlanOutcome:
        """The plan that keeps the most. `soft` are put first, of what else would count hard."""
        universe, wishes = self.universe, self.wishes
        universe.solver.deadline = monotonic() + SECONDS
        for literal, ground in ((self.holds, Ground.HELD), (universe.rules, Ground.RULES)):
            if literal not in soft:
                universe.require([literal], ClauseReason(ground, why="always"))
        same = [i.literal for i in self.here if i.package not in self._dropped]
        base = [*soft, self.untouched]
        if not wishes.everything and not universe.settle(base):
            return PlanOutcome(universe, obstacles=universe.why_not())
        if wishes.everything or not universe.solver.value(self.untouched):
            kept = self._losses_are_told()
            newer = self._as_new_as_can_be() if wishes.everything else []
            if wishes.may_drop:
                base = [*soft, *newer, self.lossless, *kept, *same]
            else:
                base = [*soft, self.lossless, *newer, *kept, *same]
            if not universe.settle(base):
                return PlanOutcome(universe, obstacles=universe.why_not())
        if wishes.recommends:
            base = self._recommended(base)
        return self._told(self._spared(base))

    def _as_new_as_can_be(self) -> list[int]:
        held = {i.package.name for i in self.here if i.package.held}
        self.remarks += (
            f"{item.package.name} is held at {item.package.version}, and stays"
            for item in self.here
            if item.package.held and self._better(item.package)
        )
        return [
            self.universe.item(one.package).literal
            for item in self.here
            if item.package.name not in held and item.package not in self._dropped
            for one in self._better(item.package)[:1]
        ]

    def _recommended(self, base: Sequence[int]) -> list[int]:
        """The preferences, and after them that what comes brings what it recommends."""
        universe = self.universe
        preferences, asked = list(base), set()
        while True:
            news = [i for i in universe.final() if not i.here and i.literal not in asked]
            if not news:
                return preferences
            for item in news:
                asked.add(item.literal)
                for need in self.world.needs(item.package):
                    if need.kind is Relation.RECOMMENDS and need.granted is None:
                        heard = universe.solver.variable()
                        reason = ClauseReason(Ground.NEED, item.package, need)
                        wanted = [negated(item.literal), *universe.wanted(item, need, reason)]
                        universe.require([negated(heard), *wanted], reason)
                        universe.solver.demand(heard, wanted)
                        preferences.append(heard)
            universe.settle(preferences)

    def _spared(self, base: Sequence[int]) -> list[Candidate]:
        """The plan without what came into it on a way that was not taken in the end."""
        universe = self.universe
        final = universe.final()
        added = [item for item in final if not item.here]
        if added:
            chosen = {item.literal for item in added}
            others = [i for i in universe.items if not i.here and i.literal not in chosen]
            spared = [*universe.not_looked_at(), *(i.literal for i in (*others, *reversed(added)))]
            found = universe.settle([*base, *map(negated, spared)])
            assert found, "what was a plan is one still"
        return self._without_needless(universe.final())

    def _without_needless(self, final: list[Candidate]) -> list[Candidate]:
        """The packages of a plan without those that none of the others would miss.

        What was not looked at yet may lead to what is in the plan anyway: the solver does not know that.
        """
        kinds = (*HARD, Relation.RECOMMENDS) if self.wishes.recommends else HARD
        asking: dict[str, list[tuple[Candidate, Need]]] = {}
        for asker in final:
            for need in self.world.needs(asker.package):
                away = not need.kind.positive and not isinstance(need.condition, Term)
                if need.kind in kinds or away:
                    for term in terms_of(need.condition):
                        asking.setdefault(term.name, []).append((asker, need))
        asked = {self.universe.item(package) for package in self.wishes.add}
        here = {place_of(self.world, item.package) for item in self.here}
        kept = set(final)
        for item in reversed(final):
            if item.here or item in asked or place_of(self.world, item.package) in here:
                continue
            rest = kept - {item}
            names = dict.fromkeys(c.name for c in self.world.capabilities(item.package))
            if any(n.kind is Relation.OBSOLETES for n in self.world.needs(item.package)):
                continue  # it may stay for what it takes the place of
            if any(path.startswith("/") and self.world.owns(item.package, path) for path in asking):
                continue
            if all(
                need.kind in kinds and self._is_met(need, asker, rest)
                for name in names
                for asker, need in asking.get(name, ())
                if asker is not item
            ):
                kept = rest
        return [item for item in final if item in kept]

    # -- telling ---------------------------------------------------------------------------

    def _told(self, final: list[Candidate]) -> PlanOutcome:
        outcome = PlanOutcome(self.universe, found=True, final=final)
        outcome.changes = sorted(
            self._changes(outcome.final),
            key=lambda one: (_ORDER[one.action], not one.asked, one.package.name),
        )
        outcome.lossless = not any(one.lost for one in outcome.changes)
        return outcome

    def _changes(self, final: Sequence[Candidate]) -> Iterator[PlannedChange]:
        kept = set(final)
        came = [item for item in final if not item.here]
        gone = [item for item in self.here if item not in kept]
        replaced: set[Candidate] = set()
        asked = {self.universe.item(package) for package in self.wishes.add}
        upgraded = {package.name for package in self.wishes.upgrade}
        befores = {
            item: next((g for g in gone if self._is_same(g.package, item.package)), None)
            for item in came
        }
        askers = self._askers(final, [item for item in came if item in asked], befores)
        for item in came:
            package, before = item.package, befores[item]
            action = PlanAction.ADD
            if before is not None:
                replaced.add(before)
                action = _action(self.world.order(package, before.package))
            newer = action in (PlanAction.UPGRADE, PlanAction.CHANGE)
            wished = item in asked or (newer and package.name in upgraded)
            reason = "asked for" if wished else askers.get(item) or self._otherwise(item)
            yield PlannedChange(action, package, before.package if before else None, reason, wished)
        yield from self._losses([item for item in gone if item not in replaced], final)

    def _losses(
        self, gone: Sequence[Candidate], final: Sequence[Candidate]
    ) -> Iterator[PlannedChange]:
        """What goes, each with what forces it: from what was asked for outwards, never in a circle."""
        left = dict.fromkeys(gone)
        there = {*final, *gone}
        asking: dict[str, list[Candidate]] = {}
        for item in gone:
            for need in self.world.needs(item.package):
                if need.kind in HARD:
                    for term in terms_of(need.condition):
                        asking.setdefault(term.name, []).append(item)
        paths = {name for name in asking if name.startswith("/")}
        suspects = list(gone)
        while left:
            causes = {i: cause for i in suspects if (cause := self._cause(i, final, there))}
            if not causes:
                stood = {item: self._who_stands_against(item, final) for item in left}
                causes = {key: (words, False, False) for key, words in stood.items() if words}
            if not causes:
                causes = dict.fromkeys(left, ("it cannot stay beside the rest", False, False))
            for item in causes:
                del left[item]
                yield PlannedChange(PlanAction.DROP, item.package, None, *causes[item])
            there.difference_update(causes)
            names = {c.name for i in causes for c in self.world.capabilities(i.package)} | paths
            nearby = {item for name in names for item in asking.get(name, ())}
            suspects = [item for item in left if item in nearby]

    def _cause(
        self, item: Candidate, final: Sequence[Candidate], there: Collection[Candidate]
    ) -> tuple[str, bool, bool] | None:
        """Why something goes, whether it was asked to, and whether another takes its place."""
        by = self._replaced_by(item, final)
        if item.package in self._dropped:
            return "asked for", True, by is not None
        if by is not None:
            return f"{by.name} takes its place", False, True
        forced = self._missed(item, there)
        return (
            None
            if forced is None
            else (f"it needs {forced.text}, which would be gone", False, False)
        )

    def _is_same(self, one: Package, other: Package) -> bool:
        """Whether one version takes the other's place."""
        return place_of(self.world, one) == place_of(self.world, other)

    def _askers(
        self,
        final: Sequence[Candidate],
        first: Sequence[Candidate],
        befores: Mapping[Candidate, Candidate | None],
    ) -> dict[Candidate, str]:
        """Who asks for what comes: the nearest to what was wished, in words."""
        kinds = (*HARD, Relation.RECOMMENDS) if self.wishes.recommends else HARD
        there = set(final)
        told: dict[Candidate, str] = dict.fromkeys(first, "")
        rest = sorted((item for item in final if item not in told), key=lambda i: i.here)
        missing = sum(not item.here for item in rest)
        front = [*first]
        while (front or rest) and missing:
            asker = front.pop(0) if front else rest.pop(0)
            for need in self.world.needs(asker.package):
                if need.kind not in kinds or need.granted is not None:
                    continue
                holding = [
                    item
                    for term in terms_of(need.condition)
                    for item in self.universe.holding(term, asker.package)
                ]
                found = [item for item in holding if item in there]
                before = {item for item in holding if item.here}
                if any(item.here or befores[item] in before for item in found):
                    # What was there before would have done.
                    continue
                for item in found:
                    if item not in told and item is not asker:
                        verb = "recommends" if need.kind is Relation.RECOMMENDS else "needs"
                        told[item] = f"{asker.package.name} {verb} {need.text}"
                        front.append(item)
                        missing -= 1
        return told

    def _otherwise(self, item: Candidate) -> str:
        """Why something comes that nothing new asks for."""
        before = [b.package for b in self.here if self._is_same(b.package, item.package)]
        if before and self.wishes.everything:
            newer = any((self.world.order(item.package, one) or 0) > 0 for one in before)
            return "it is newer" if newer else "it is what the rules would take"
        if before:
            return "to go with the rest"
        return "it takes the place of another"

    def _is_met(self, need: Need, asker: Candidate, there: Collection[Candidate]) -> bool:
        """Whether a need is met by the items of these identities."""

        def holders(term: Term) -> list[Package]:
            holding = self.universe.holding(term, asker.package)
            return [item.package for item in holding if item in there]

        return need.granted is not None or satisfy(need.condition, holders).met

    def _replaced_by(self, item: Candidate, final: Sequence[Candidate]) -> Package | None:
        """What of a plan takes the place of something under another name."""
        there = {one.package for one in final}
        for reason in self.universe.against(item):
            if (
                reason.need is not None
                and reason.need.kind is Relation.OBSOLETES
                and reason.one is not None
                and reason.other is item.package
                and reason.one in there
            ):
                return reason.one
        return None

    def _missed(self, item: Candidate, there: Collection[Candidate]) -> Need | None:
        """A need of a package that nothing meets of what is there."""
        for need in self.world.needs(item.package):
            if need.kind in HARD and not self._is_met(need, item, there):
                return need
        return None

    def _who_stands_against(self, item: Candidate, final: Sequence[Candidate]) -> str | None:
        for reason in self.universe.against(item):
            other = reason.one if reason.one is not item.package else reason.other
            if other is None or not any(one.package is other for one in final):
                continue
            need = reason.need
            if reason.ground is Ground.RIVAL or need is None:
                return f"{other.name} {other.version}: {reason.why}"
            verb = "breaks" if need.kind is Relation.BREAKS else "conflicts with"
            who = reason.one.name if reason.one else ""
            return f"{who} {verb} {need.text}"
        return None


_ORDER = {action: at for at, action in enumerate(
    (
        PlanAction.DROP, PlanAction.ADD, PlanAction.UPGRADE, PlanAction.CHANGE, PlanAction.DOWNGRADE,
        PlanAction.LEFTOVER,
    )
)}  # fmt: skip


def _action(order: int | None) -> PlanAction:
    """What it is that one version takes the place of another."""
    if order is None:
        return PlanAction.CHANGE
    return PlanAction.DOWNGRADE if order < 0 else PlanAction.UPGRADE
