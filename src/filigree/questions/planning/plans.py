"""From wishes to a plan: what would be added, dropped and changed, and what asks for or forces it."""

from collections.abc import Collection, Sequence
from time import monotonic

from filigree.model.needs import Need, Relation, Term, terms_of
from filigree.model.package import Package
from filigree.questions.dependencies.ties import HARD
from filigree.questions.planning.candidates import Candidate, ClauseReason, Ground, by_weight
from filigree.questions.planning.changes import PlanChanges
from filigree.questions.planning.outcomes import PlanOutcome, Wishes
from filigree.questions.planning.problem import ResolutionProblem
from filigree.questions.planning.solver import negated
from filigree.questions.planning.world import Offered, World, in_place_of, place_of

SECONDS = 60
"""So long a plan is looked for before the search is given up."""


class Planner:
    """Wishes put to one world. `remarks` are what is to be said of them before anything is decided."""

    def __init__(self, world: World, wishes: Wishes) -> None:
        self.world = world
        self.wishes = wishes
        self.remarks: list[str] = []
        self.problem = problem = ResolutionProblem(world)
        self.holds = problem.solver.variable()
        self.lossless = problem.solver.variable()
        self.untouched = problem.solver.variable()
        self._dropped = set(wishes.drop)
        self._moved = {p.name for p in (*wishes.add, *wishes.upgrade)}
        self.here = [candidate for candidate in problem.candidates if candidate.here]
        for package in wishes.add:
            candidate = problem.candidate_of(package)
            problem.require([candidate.literal], ClauseReason(Ground.ASKED, package, why="add"))
        self._drop()
        self._keep()
        for package in wishes.upgrade:
            wanted = [problem.candidate_of(o.package).literal for o in self._better(package)]
            if wanted:
                problem.require(wanted, ClauseReason(Ground.ASKED, package, why="upgrade"))
            else:
                self.remarks.append(f"nothing newer of {package.name} would be taken")

    def _drop(self) -> None:
        problem = self.problem
        for package in self.wishes.drop:
            reason = ClauseReason(Ground.ASKED, package, why="drop")
            place = place_of(self.world, package)
            rest = [i for i in problem.at(place) if i.here]
            if all(candidate.package in self._dropped for candidate in rest):
                problem.bar(place, reason)
            else:
                problem.require([negated(problem.candidate_of(package).literal)], reason)

    def _keep(self) -> None:
        problem = self.problem
        for candidate in self.here:
            package = candidate.package
            if package in self._dropped:
                continue
            if package.held and package.name not in self._moved:
                reason = ClauseReason(Ground.HELD, package)
                problem.require([negated(self.holds), candidate.literal], reason)
            if package.protected:
                reason = ClauseReason(Ground.PROTECTED, package)
                problem.require([problem.there(package)], reason)
            problem.require(
                [negated(self.untouched), candidate.literal], ClauseReason(Ground.STAYS, package)
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
        problem = self.problem
        kept = {}
        for package in by_weight(candidate.package for candidate in self.here):
            if package not in self._dropped:
                there = problem.there(package)
                reason = ClauseReason(Ground.STAYS, package)
                problem.require([negated(self.lossless), there], reason)
                kept[there] = package
        return list(kept)

    def decide(self, soft: Sequence[int] = ()) -> PlanOutcome:
        """The plan that keeps the most. `soft` are put first, of what else would count hard."""
        problem, wishes = self.problem, self.wishes
        problem.solver.deadline = monotonic() + SECONDS
        for literal, ground in ((self.holds, Ground.HELD), (problem.rules, Ground.RULES)):
            if literal not in soft:
                problem.require([literal], ClauseReason(ground, why="always"))
        same = [i.literal for i in self.here if i.package not in self._dropped]
        base = [*soft, self.untouched]
        if not wishes.everything and not problem.settle(base):
            return PlanOutcome(problem, obstacles=problem.why_not())
        if wishes.everything or not problem.solver.value(self.untouched):
            kept = self._losses_are_told()
            newer = self._as_new_as_can_be() if wishes.everything else []
            if wishes.may_drop:
                base = [*soft, *newer, self.lossless, *kept, *same]
            else:
                base = [*soft, self.lossless, *newer, *kept, *same]
            if not problem.settle(base):
                return PlanOutcome(problem, obstacles=problem.why_not())
        if wishes.recommends:
            base = self._recommended(base)
        final = self._spared(base)
        return PlanChanges(problem, wishes, self.here).told(final)

    def _as_new_as_can_be(self) -> list[int]:
        held = {i.package.name for i in self.here if i.package.held}
        self.remarks += (
            f"{candidate.package.name} is held at {candidate.package.version}, and stays"
            for candidate in self.here
            if candidate.package.held and self._better(candidate.package)
        )
        return [
            self.problem.candidate_of(one.package).literal
            for candidate in self.here
            if candidate.package.name not in held and candidate.package not in self._dropped
            for one in self._better(candidate.package)[:1]
        ]

    def _recommended(self, base: Sequence[int]) -> list[int]:
        """The preferences, and after them that what comes brings what it recommends."""
        problem = self.problem
        preferences, asked = list(base), set()
        while True:
            news = [i for i in problem.final() if not i.here and i.literal not in asked]
            if not news:
                return preferences
            for candidate in news:
                asked.add(candidate.literal)
                for need in self.world.needs(candidate.package):
                    if need.kind is Relation.RECOMMENDS and need.granted is None:
                        heard = problem.solver.variable()
                        reason = ClauseReason(Ground.NEED, candidate.package, need)
                        wanted = [
                            negated(candidate.literal),
                            *problem.wanted(candidate, need, reason),
                        ]
                        problem.require([negated(heard), *wanted], reason)
                        problem.solver.demand(heard, wanted)
                        preferences.append(heard)
            problem.settle(preferences)

    def _spared(self, base: Sequence[int]) -> list[Candidate]:
        """The plan without what came into it on a way that was not taken in the end."""
        problem = self.problem
        final = problem.final()
        added = [candidate for candidate in final if not candidate.here]
        if added:
            chosen = {candidate.literal for candidate in added}
            others = [i for i in problem.candidates if not i.here and i.literal not in chosen]
            spared = [*problem.not_looked_at(), *(i.literal for i in (*others, *reversed(added)))]
            found = problem.settle([*base, *map(negated, spared)])
            assert found, "what was a plan is one still"
        return self._without_needless(problem.final())

    def _without_needless(self, final: list[Candidate]) -> list[Candidate]:
        """The packages of a plan without those that none of the others would miss.

        What was not looked at yet may lead to what is in the plan anyway: the solver does not know that.
        """
        kinds = (*HARD, Relation.RECOMMENDS) if self.wishes.recommends else HARD
        asking = self._asking(final, kinds)
        asked = {self.problem.candidate_of(package) for package in self.wishes.add}
        here = {place_of(self.world, candidate.package) for candidate in self.here}
        kept = set(final)
        for candidate in reversed(final):
            if (
                candidate.here
                or candidate in asked
                or place_of(self.world, candidate.package) in here
            ):
                continue
            if any(n.kind is Relation.OBSOLETES for n in self.world.needs(candidate.package)):
                continue  # it may stay for what it takes the place of
            if any(
                path.startswith("/") and self.world.owns(candidate.package, path) for path in asking
            ):
                continue
            rest = kept - {candidate}
            names = dict.fromkeys(c.name for c in self.world.capabilities(candidate.package))
            missed = (
                one for name in names for one in asking.get(name, ()) if one[0] is not candidate
            )
            if all(n.kind in kinds and self.problem.is_met(n, asker, rest) for asker, n in missed):
                kept = rest
        return [candidate for candidate in final if candidate in kept]

    def _asking(
        self, final: Sequence[Candidate], kinds: Collection[Relation]
    ) -> dict[str, list[tuple[Candidate, Need]]]:
        """Who of a plan needs something of a name, or has a condition that speaks of it."""
        asking: dict[str, list[tuple[Candidate, Need]]] = {}
        for asker in final:
            for need in self.world.needs(asker.package):
                away = not need.kind.positive and not isinstance(need.condition, Term)
                if need.kind in kinds or away:
                    for term in terms_of(need.condition):
                        asking.setdefault(term.name, []).append((asker, need))
        return asking
