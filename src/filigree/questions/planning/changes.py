"""From a plan to its changes, each with its reason: who asks for what comes, what forces what goes."""

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence

from filigree.model.needs import Need, Relation, terms_of
from filigree.model.package import Package
from filigree.questions.dependencies.ties import HARD
from filigree.questions.planning.candidates import Candidate, Ground
from filigree.questions.planning.outcomes import PlanAction, PlannedChange, PlanOutcome, Wishes
from filigree.questions.planning.problem import ResolutionProblem
from filigree.questions.planning.world import place_of


class PlanChanges:
    """The changes of one plan. `here` are the candidates that are installed."""

    def __init__(
        self, problem: ResolutionProblem, wishes: Wishes, here: Sequence[Candidate]
    ) -> None:
        self.problem = problem
        self.world = problem.world
        self.wishes = wishes
        self.here = here
        self._dropped = set(wishes.drop)

    def told(self, final: list[Candidate]) -> PlanOutcome:
        """The outcome of a plan: every change, with its reason."""
        outcome = PlanOutcome(self.problem, found=True, final=final)
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
        asked = {self.problem.item(package) for package in self.wishes.add}
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
        asking = self._asking(gone)
        paths = {name for name in asking if name.startswith("/")}
        suspects = list(gone)
        while left:
            causes = {i: cause for i in suspects if (cause := self._cause(i, final, there))}
            causes = causes or self._standing_against(left, final)
            for item in causes:
                del left[item]
                yield PlannedChange(PlanAction.DROP, item.package, None, *causes[item])
            there.difference_update(causes)
            names = {c.name for i in causes for c in self.world.capabilities(i.package)} | paths
            nearby = {item for name in names for item in asking.get(name, ())}
            suspects = [item for item in left if item in nearby]

    def _asking(self, gone: Sequence[Candidate]) -> dict[str, list[Candidate]]:
        """Of what goes: who needs something of a name."""
        asking: dict[str, list[Candidate]] = {}
        for item in gone:
            for need in self.world.needs(item.package):
                if need.kind in HARD:
                    for term in terms_of(need.condition):
                        asking.setdefault(term.name, []).append(item)
        return asking

    def _standing_against(
        self, left: Iterable[Candidate], final: Sequence[Candidate]
    ) -> dict[Candidate, tuple[str, bool, bool]]:
        """Why what lacks nothing cannot stay: what stands against it, or else the rest together."""
        stood = {item: self._who_stands_against(item, final) for item in left}
        told = {key: (words, False, False) for key, words in stood.items() if words}
        return told or dict.fromkeys(left, ("it cannot stay beside the rest", False, False))

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
                    for item in self.problem.holding(term, asker.package)
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

    def _replaced_by(self, item: Candidate, final: Sequence[Candidate]) -> Package | None:
        """What of a plan takes the place of something under another name."""
        there = {one.package for one in final}
        for reason in self.problem.against(item):
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
            if need.kind in HARD and not self.problem.is_met(need, item, there):
                return need
        return None

    def _who_stands_against(self, item: Candidate, final: Sequence[Candidate]) -> str | None:
        for reason in self.problem.against(item):
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
