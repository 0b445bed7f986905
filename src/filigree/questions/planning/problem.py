"""The packages that may come into a plan, and what each says of the others, as clauses.

Only what may matter is looked at: the needs of a package become clauses once a plan would have it, and
what is offered for a need once nothing installed meets it in that plan. A clause that is left out can
only be missing where it would hold anyway, so that "there is no way" is as sound as a plan is.
"""

from collections.abc import Callable, Collection, Iterable, Iterator, Sequence

from filigree.model.needs import Combined, Condition, Need, Relation, Term, terms_of
from filigree.model.package import Package
from filigree.questions.dependencies.satisfaction import forbidden, satisfies, satisfy
from filigree.questions.dependencies.ties import HARD
from filigree.questions.planning.candidates import Candidate, ClauseReason, Ground
from filigree.questions.planning.conditions import is_plain, truth_of
from filigree.questions.planning.solver import Solver, irreducible, negated
from filigree.questions.planning.world import Offered, Place, World, in_place_of, place_of

_AWAY = (Relation.BREAKS, Relation.CONFLICTS, Relation.OBSOLETES)


class ResolutionProblem:
    """Everything that is installed, and what a plan reaches beside it."""

    def __init__(self, world: World) -> None:
        self.world = world
        self.solver = Solver()
        self.candidates: list[Candidate] = []
        self._reasons: dict[int, ClauseReason] = {}
        self._against_it: dict[Package, list[ClauseReason]] = {}
        self._of: dict[Package, Candidate] = {}
        self._named: dict[str, list[Candidate]] = {}
        self._answering: dict[str, list[Candidate]] = {}
        self._against: dict[str, list[tuple[Candidate, Need, Term]]] = {}
        self._watched: dict[str, list[Callable[[Candidate], None]]] = {}
        self._pending: dict[int, Callable[[], None]] = {}
        self._asked: dict[str, list[tuple[Candidate, Need]]] = {}
        self._likely: list[int] = []
        self._against_rules: set[int] = set()
        self._asked_paths: set[str] = set()
        self._told: set[tuple[Candidate, Need]] = set()
        self._gone: set[int] = set()
        self._newcomers: list[Candidate] = []
        self._barred: dict[Place, ClauseReason] = {}
        self._there: dict[Place, int] = {}
        self.rules = self.solver.variable()
        """True where only what the system's rules take is taken."""
        here = [self._enter(package, here=True) for package in world.installed()]
        self._present = frozenset(candidate.literal for candidate in here)
        for candidate in here:
            self._note(candidate)

    # -- asking ----------------------------------------------------------------------------

    def candidate_of(self, package: Package, passed_over: str | None = None) -> Candidate:
        """The candidate of a package; what was not known enters."""
        candidate = self._of.get(package) or self._same(package)
        if candidate is None:
            candidate = self._enter(package, here=False, passed_over=passed_over)
            self._newcomers.append(candidate)
            self._meet_others(candidate)
            self._pending[candidate.literal] = lambda: self._expand(candidate)
            if passed_over is not None:
                why = ClauseReason(Ground.RULES, package, why=passed_over)
                self.require([negated(self.rules), negated(candidate.literal)], why)
        return candidate

    def _same(self, package: Package) -> Candidate | None:
        """What is there of the very version: another copy of it would change nothing."""
        if self.is_given(package):
            return None
        same = (package.version, package.architecture)
        return next(
            (
                candidate
                for candidate in self._named.get(package.name, ())
                if (candidate.package.version, candidate.package.architecture) == same
            ),
            None,
        )

    def is_given(self, package: Package) -> bool:
        """Whether it is an archive that was given."""
        return package.repository is None and not package.state.present

    def at(self, place: Place) -> list[Candidate]:
        """The candidates of a name and a kind of machine."""
        found = self._named.get(place[0], ())
        return [
            candidate for candidate in found if place_of(self.world, candidate.package) == place
        ]

    def require(self, literals: Iterable[int], reason: ClauseReason) -> None:
        """Add a clause, with its reason."""
        self._reasons[self.solver.add(literals)] = reason
        if reason.ground in (Ground.CLASH, Ground.RIVAL):
            for package in (reason.one, reason.other):
                if package is not None:
                    self._against_it.setdefault(package, []).append(reason)

    def bar(self, place: Place, reason: ClauseReason) -> None:
        """No version of a place may be in a plan."""
        self._barred[place] = reason
        for candidate in self.at(place):
            self.require([negated(candidate.literal)], reason)

    def there(self, package: Package) -> int:
        """The literal that a package stays: one version of it at least, or what takes its place."""
        world = self.world
        place = place_of(world, package)
        known = self._there.get(place)
        if known is None:
            known = self._there[place] = self.solver.variable()
            reason = ClauseReason(Ground.PROTECTED if package.protected else Ground.STAYS, package)
            more = self.later(lambda: in_place_of(world, package), reason)
            wanted = [*(candidate.literal for candidate in self.at(place) if candidate.here), *more]
            self.require([negated(known), *wanted], reason)
            self.solver.demand(known, wanted)
        return known

    def settle(self, preferences: Sequence[int]) -> bool:
        """Whether there is a plan; what it turns to is looked at until nothing is left to look at."""
        while self.solver.solve(preferences):
            turned_to = [literal for literal in self._pending if self.solver.value(literal)]
            self._look_at(turned_to)
            if not self._look_at_what_is_lost() and not turned_to:
                return True
        return False

    def _look_at(self, literals: Iterable[int]) -> None:
        """Look at what a plan turned to, and at what it will likely turn to next."""
        queue = list(literals)
        while queue:
            act = self._pending.pop(queue.pop(), None)
            if act is not None:
                act()
                queue += self._likely
                self._likely.clear()

    def _look_at_what_is_lost(self) -> bool:
        """Whether a plan does without something installed whose askers were not heard yet."""
        lost = [
            candidate
            for candidate in self.candidates
            if candidate.here
            and candidate.literal not in self._gone
            and not self.solver.value(candidate.literal)
        ]
        queue = list(lost)
        while queue:
            candidate = queue.pop()
            if candidate.literal in self._gone:
                continue
            self._gone.add(candidate.literal)
            for capability in self.world.capabilities(candidate.package):
                queue += self._hear(capability.name)
            for path in sorted(self._asked_paths):
                if any(owner is candidate.package for owner in self.world.owners(path)):
                    self._asked_paths.discard(path)
                    queue += self._hear(path)
        return bool(lost)

    def _hear(self, name: str) -> Iterator[Candidate]:
        """Take what the installed packages need of a name into account; who will likely go comes back."""
        for asker, need in self._asked.pop(name, ()):
            if (asker, need) not in self._told:
                self._told.add((asker, need))
                wanted = self._ask(asker, need)
                if wanted and all(lit in self._gone or lit not in self._present for lit in wanted):
                    self._look_at(lit for lit in wanted if lit not in self._against_rules)
                    yield asker

    def not_looked_at(self) -> list[int]:
        """The literals of what no plan has turned to yet."""
        return list(self._pending)

    def final(self) -> list[Candidate]:
        """The candidates of the plan that was found."""
        return [candidate for candidate in self.candidates if self.solver.value(candidate.literal)]

    def why_not(self, wanted: Iterable[tuple[int, ClauseReason]] = ()) -> list[ClauseReason]:
        """Reasons that cannot hold together with these wishes, and none of which could be left out."""
        number_of: dict[ClauseReason, int] = {}
        groups: dict[int, list[list[int]]] = {}
        reasons: list[ClauseReason] = []
        clauses = [(self.solver.clause(n), reason) for n, reason in self._reasons.items()]
        for clause, reason in (*clauses, *(([literal], reason) for literal, reason in wanted)):
            number = number_of.setdefault(reason, len(reasons))
            if number == len(reasons):
                reasons.append(reason)
            groups.setdefault(number, []).append(clause)
        last = [at for at, reason in enumerate(reasons) if reason.ground is Ground.ASKED]
        # Which can be left out depends on where it is begun: the smaller set is the clearer one.
        turned = {-number: clauses for number, clauses in groups.items()}
        least = irreducible(groups, last)
        other = [-number for number in irreducible(turned, [-at for at in last])]
        return [reasons[n] for n in sorted(least if len(least) <= len(other) else other)]

    def against(self, candidate: Candidate) -> list[ClauseReason]:
        """The reasons for which a package cannot be there together with another."""
        return self._against_it.get(candidate.package, [])

    # -- packages --------------------------------------------------------------------------

    def _enter(self, package: Package, here: bool, passed_over: str | None = None) -> Candidate:
        candidate = Candidate(package, self.solver.variable(), here, passed_over)
        self.candidates.append(candidate)
        self._of[package] = candidate
        for rival in self._named.setdefault(package.name, []):
            why = self.world.rivals(rival.package, package)
            if why is not None and not (here and rival.here):
                reason = ClauseReason(Ground.RIVAL, rival.package, other=package, why=why)
                self.require([negated(rival.literal), negated(candidate.literal)], reason)
        self._named[package.name].append(candidate)
        for name in dict.fromkeys(one.name for one in self.world.capabilities(package)):
            self._answering.setdefault(name, []).append(candidate)
        place = place_of(self.world, package)
        if place in self._barred:
            self.require([negated(candidate.literal)], self._barred[place])
        return candidate

    def _meet_others(self, candidate: Candidate) -> None:
        """What others have against a package, and which conditions speak of it."""
        for capability in self.world.capabilities(candidate.package):
            for asker, need, term in self._against.get(capability.name, ()):
                if forbidden(
                    self.world, need.kind, term, asker.package, candidate.package, (capability,)
                ):
                    self._clash(asker, need, candidate)
        for name in dict.fromkeys(c.name for c in self.world.capabilities(candidate.package)):
            for watcher in self._watched.get(name, ()):
                watcher(candidate)

    def _clash(self, asker: Candidate, need: Need, other: Candidate) -> None:
        reason = ClauseReason(Ground.CLASH, asker.package, need, other.package)
        self.require([negated(asker.literal), negated(other.literal)], reason)

    def _note(self, candidate: Candidate) -> None:
        """What an installed package asks: heard where a plan loses what it may rest on."""
        for need in self.world.needs(candidate.package):
            if need.kind in HARD and need.granted is None:
                plain = True
                for term in terms_of(need.condition):
                    self._asked.setdefault(term.name, []).append((candidate, need))
                    if term.name.startswith("/"):
                        self._asked_paths.add(term.name)
                if isinstance(need.condition, Combined):
                    plain = is_plain(need.condition)
                if not plain:
                    # What comes may make a sentence false, too.
                    self._told.add((candidate, need))
                    self._ask(candidate, need)
            elif need.kind in _AWAY:
                self._avoid(candidate, need)

    def _expand(self, candidate: Candidate) -> None:
        """What a package asks of the others."""
        for need in self.world.needs(candidate.package):
            if need.kind in HARD and need.granted is None:
                self._ask(candidate, need)
            elif need.kind in _AWAY:
                self._avoid(candidate, need)

    def _avoid(self, candidate: Candidate, need: Need) -> None:
        """What a package cannot be there together with."""
        if isinstance(need.condition, Term):
            self._forbid(candidate, need, need.condition)
            return
        reason = ClauseReason(Ground.CLASH, candidate.package, need)
        if not (candidate.here and self._is_true(need.condition, candidate)):
            truth = truth_of(self, candidate, need.condition, reason)
            self.require([negated(candidate.literal), negated(truth)], reason)

    def _forbid(self, candidate: Candidate, need: Need, term: Term) -> None:
        self._against.setdefault(term.name, []).append((candidate, need, term))
        for other in self._answering.get(term.name, ()):
            if (
                other is candidate
                or (candidate.here and other.here)
                or not forbidden(
                    self.world,
                    need.kind,
                    term,
                    candidate.package,
                    other.package,
                    self.world.capabilities(other.package),
                )
            ):
                continue
            self._clash(candidate, need, other)

    def _ask(self, candidate: Candidate, need: Need) -> list[int]:
        reason = ClauseReason(Ground.NEED, candidate.package, need)
        if candidate.here and not self._is_true(need.condition, candidate):
            # It is broken already: no plan has to mend it.
            return []
        wanted = self.wanted(candidate, need, reason)
        self.require([negated(candidate.literal), *wanted], reason)
        self.solver.demand(candidate.literal, wanted)
        if not candidate.here and not self._present.intersection(wanted):
            self._likely += wanted[:1]
        return wanted

    def wanted(self, candidate: Candidate, need: Need, reason: ClauseReason) -> list[int]:
        """The literals of which one at least meets a need of a package."""
        if is_plain(need.condition):
            terms = terms_of(need.condition)
            found = [
                literal for term in terms for literal in self._satisfying(candidate, term, reason)
            ]
            return list(dict.fromkeys(found))
        return [truth_of(self, candidate, need.condition, reason)]

    # -- what meets a condition ------------------------------------------------------------

    def watch(self, name: str, enters: Callable[[Candidate], None]) -> None:
        """Have every package told that answers to a name, once it may come."""
        self._watched.setdefault(name, []).append(enters)

    def is_met(self, need: Need, asker: Candidate, there: Collection[Candidate]) -> bool:
        """Whether some of these packages meet a need."""

        def holders(term: Term) -> list[Package]:
            holding = self.holding(term, asker.package)
            return [candidate.package for candidate in holding if candidate in there]

        return need.granted is not None or satisfy(need.condition, holders).met

    def _is_true(self, condition: Condition, asker: Candidate) -> bool:
        """Whether a condition is true of what is installed."""

        def holders(term: Term) -> list[Package]:
            return [i.package for i in self.holding(term, asker.package) if i.here]

        return satisfy(condition, holders).met

    def holding(self, term: Term, asker: Package) -> list[Candidate]:
        """The candidates that meet a term."""
        found = [
            candidate
            for candidate in self._answering.get(term.name, ())
            if self._meets(term, asker, candidate.package)
        ]
        if term.name.startswith("/"):
            found += (self._of[owner] for owner in self.world.owners(term.name))
            found += (i for i in self._newcomers if self.world.owns(i.package, term.name))
            found = list(dict.fromkeys(found))
        return found

    def _meets(self, term: Term, asker: Package, holder: Package) -> bool:
        return satisfies(self.world, term, asker, holder, self.world.capabilities(holder))

    def _satisfying(self, candidate: Candidate, term: Term, reason: ClauseReason) -> list[int]:
        """The literals of what meets a term: what is there, and what is offered."""
        asker = candidate.package
        holding = self.holding(term, asker)
        found = [one.literal for one in holding if one.here or one is candidate]

        def offers() -> Iterable[Offered]:
            return [
                offer
                for offer in self.world.offers(term.name)
                if self._meets(term, asker, offer.package)
                or (term.name.startswith("/") and self.world.owns(offer.package, term.name))
            ]

        return [*found, *self.later(offers, reason)]

    def later(
        self, offers: Callable[[], Iterable[Offered]], reason: ClauseReason
    ) -> tuple[int, ...]:
        """Literals for what is offered: looked up where nothing else will do.

        The first is for what the rules take, the second for what they pass over.
        """
        taken, passed = self.solver.variable(), self.solver.variable()
        self._against_rules.add(passed)
        self.require([negated(passed), negated(self.rules)], reason)
        known: list[Offered] = []

        def look_up(literal: int, against_rules: bool) -> None:
            if not known:
                known.extend(offers())
                reason.found.extend(known)
            candidates = [
                self.candidate_of(*offer)
                for offer in known
                if (offer.passed_over is not None) is against_rules
            ]
            wanted = [one.literal for one in candidates]
            self.require([negated(literal), *wanted], reason)
            self.solver.demand(literal, wanted)
            self._likely += wanted[:1]

        self._pending[taken] = lambda: look_up(taken, against_rules=False)
        self._pending[passed] = lambda: look_up(passed, against_rules=True)
        return taken, passed
