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
        came = [candidate for candidate in final if not candidate.here]
        gone = [candidate for candidate in self.here if candidate not in kept]
        replaced: set[Candidate] = set()
        asked = {self.problem.candidate_of(package) for package in self.wishes.add}
        upgraded = {package.name for package in self.wishes.upgrade}
        befores = {
            candidate: next((g for g in gone if self._is_same(g.package, candidate.package)), None)
            for candidate in came
        }
        askers = self._askers(
            final, [candidate for candidate in came if candidate in asked], befores
        )
        for candidate in came:
            package, before = candidate.package, befores[candidate]
            action = PlanAction.ADD
            if before is not None:
                replaced.add(before)
                action = _action(self.world.order(package, before.package))
            newer = action in (PlanAction.UPGRADE, PlanAction.CHANGE)
            wished = candidate in asked or (newer and package.name in upgraded)
            reason = "asked for" if wished else askers.get(candidate) or self._otherwise(candidate)
            yield PlannedChange(action, package, before.package if before else None, reason, wished)
        yield from self._losses(
            [candidate for candidate in gone if candidate not in replaced], final
        )

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
            for candidate in causes:
                del left[candidate]
                yield PlannedChange(PlanAction.DROP, candidate.package, None, *causes[candidate])
            there.difference_update(causes)
            names = {c.name for i in causes for c in self.world.capabilities(i.package)} | paths
            nearby = {candidate for name in names for candidate in asking.get(name, ())}
            suspects = [candidate for candidate in left if candidate in nearby]

    def _asking(self, gone: Sequence[Candidate]) -> dict[str, list[Candidate]]:
        """Of what goes: who needs something of a name."""
        asking: dict[str, list[Candidate]] = {}
        for candidate in gone:
            for need in self.world.needs(candidate.package):
                if need.kind in HARD:
                    for term in terms_of(need.condition):
                        asking.setdefault(term.name, []).append(candidate)
        return asking

    def _standing_against(
        self, left: Iterable[Candidate], final: Sequence[Candidate]
    ) -> dict[Candidate, tuple[str, bool, bool]]:
        """Why what lacks nothing cannot stay: what stands against it, or else the rest together."""
        stood = {candidate: self._who_stands_against(candidate, final) for candidate in left}
        told = {key: (words, False, False) for key, words in stood.items() if words}
        return told or dict.fromkeys(left, ("it cannot stay beside the rest", False, False))

    def _cause(
        self, candidate: Candidate, final: Sequence[Candidate], there: Collection[Candidate]
    ) -> tuple[str, bool, bool] | None:
        """Why something goes, whether it was asked to, and whether another takes its place."""
        by = self._replaced_by(candidate, final)
        if candidate.package in self._dropped:
            return "asked for", True, by is not None
        if by is not None:
            return f"{by.name} takes its place", False, True
        forced = self._missed(candidate, there)
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
        rest = sorted(
            (candidate for candidate in final if candidate not in told), key=lambda i: i.here
        )
        missing = sum(not candidate.here for candidate in rest)
        front = [*first]
        while (front or rest) and missing:
            asker = front.pop(0) if front else rest.pop(0)
            for need in self.world.needs(asker.package):
                if need.kind not in kinds or need.granted is not None:
                    continue
                holding = [
                    candidate
                    for term in terms_of(need.condition)
                    for candidate in self.problem.holding(term, asker.package)
                ]
                found = [candidate for candidate in holding if candidate in there]
                before = {candidate for candidate in holding if candidate.here}
                if any(candidate.here or befores[candidate] in before for candidate in found):
                    # What was there before would have done.
                    continue
                for candidate in found:
                    if candidate not in told and candidate is not asker:
                        verb = "recommends" if need.kind is Relation.RECOMMENDS else "needs"
                        told[candidate] = f"{asker.package.name} {verb} {need.text}"
                        front.append(candidate)
                        missing -= 1
        return told

    def _otherwise(self, candidate: Candidate) -> str:
        """Why something comes that nothing new asks for."""
        before = [b.package for b in self.here if self._is_same(b.package, candidate.package)]
        if before and self.wishes.everything:
            newer = any((self.world.order(candidate.package, one) or 0) > 0 for one in before)
            return "it is newer" if newer else "it is what the rules would take"
        if before:
            return "to go with the rest"
        return "it takes the place of another"

    def _replaced_by(self, candidate: Candidate, final: Sequence[Candidate]) -> Package | None:
        """What of a plan takes the place of something under another name."""
        there = {one.package for one in final}
        for reason in self.problem.against(candidate):
            if (
                reason.need is not None
                and reason.need.kind is Relation.OBSOLETES
                and reason.one is not None
                and reason.other is candidate.package
                and reason.one in there
            ):
                return reason.one
        return None

    def _missed(self, candidate: Candidate, there: Collection[Candidate]) -> Need | None:
        """A need of a package that nothing meets of what is there."""
        for need in self.world.needs(candidate.package):
            if need.kind in HARD and not self.problem.is_met(need, candidate, there):
                return need
        return None

    def _who_stands_against(self, candidate: Candidate, final: Sequence[Candidate]) -> str | None:
        for reason in self.problem.against(candidate):
            other = reason.one if reason.one is not candidate.package else reason.other
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
