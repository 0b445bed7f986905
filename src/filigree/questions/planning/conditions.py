"""Conditions as clauses: a literal that is true where a condition is, and only there."""

from collections.abc import Callable, Iterable, Sequence
from typing import Protocol

from filigree.model.needs import Condition, Join, Term, terms_of
from filigree.model.package import Package
from filigree.questions.dependencies.satisfaction import satisfies
from filigree.questions.planning.candidates import Candidate, ClauseReason
from filigree.questions.planning.solver import Solver, negated
from filigree.questions.planning.world import Offered, World


class Clauses(Protocol):
    """What clauses are added to, and what knows who meets a term."""

    world: World
    solver: Solver

    def require(self, literals: Iterable[int], reason: ClauseReason) -> None:
        """Add a clause: one of the literals at least."""
        ...

    def holding(self, term: Term, asker: Package) -> list[Candidate]:
        """The candidates that meet a term."""
        ...

    def later(
        self, offers: Callable[[], Iterable[Offered]], reason: ClauseReason
    ) -> tuple[int, ...]:
        """Literals for what is offered: looked up where nothing else will do."""
        ...

    def watch(self, name: str, enters: Callable[[Candidate], None]) -> None:
        """Have every package told that answers to a name, once it may come."""
        ...


def is_plain(condition: Condition) -> bool:
    """Whether it is one term, or any one of several."""
    if isinstance(condition, Term):
        return True
    return condition.join is Join.OR and all(isinstance(part, Term) for part in condition.parts)


def truth_of(
    problem: Clauses, candidate: Candidate, condition: Condition, reason: ClauseReason
) -> int:
    """A literal that is true where a condition is, and only there."""
    if isinstance(condition, Term) or condition.join in (Join.WITH, Join.WITHOUT):
        return _presence(problem, candidate, condition, reason)
    parts = [truth_of(problem, candidate, part, reason) for part in condition.parts]
    truth = problem.solver.variable()
    match condition.join:
        case Join.AND:
            _all(problem, truth, parts, reason)
        case Join.OR:
            _any(problem, truth, parts, reason)
        case Join.IF | Join.UNLESS:
            wanted, case, *other = parts
            if condition.join is Join.UNLESS:
                case = negated(case)
            # Where the case is: what is wanted; elsewhere: the other, if there is one.
            problem.require([negated(truth), negated(case), wanted], reason)
            problem.require([truth, negated(case), negated(wanted)], reason)
            if other:
                problem.require([negated(truth), case, other[0]], reason)
                problem.require([truth, case, negated(other[0])], reason)
            else:
                problem.require([truth, case], reason)
            problem.solver.demand(truth, [negated(case), wanted])
            problem.solver.demand(truth, [case, *other] if other else [truth])
    return truth


def _all(problem: Clauses, truth: int, parts: Sequence[int], reason: ClauseReason) -> None:
    for part in parts:
        problem.require([negated(truth), part], reason)
        problem.solver.demand(truth, [part])
    problem.require([truth, *map(negated, parts)], reason)


def _any(problem: Clauses, truth: int, parts: Sequence[int], reason: ClauseReason) -> None:
    problem.require([negated(truth), *parts], reason)
    problem.solver.demand(truth, parts)
    for part in parts:
        problem.require([truth, negated(part)], reason)


def _presence(
    problem: Clauses, candidate: Candidate, condition: Condition, reason: ClauseReason
) -> int:
    """A literal that is true where some package meets a term, or one package several of them."""
    truth = problem.solver.variable()
    terms = list(terms_of(condition))

    def holds(package: Package) -> bool:
        return _fits(problem.world, condition, candidate.package, package)

    def enters(other: Candidate) -> None:
        if holds(other.package):
            problem.require([truth, negated(other.literal)], reason)

    candidates = dict.fromkeys(
        one for term in terms for one in problem.holding(term, candidate.package)
    )
    found = [one for one in candidates if holds(one.package)]
    for one in found:
        problem.require([truth, negated(one.literal)], reason)

    def offers() -> Iterable[Offered]:
        first = next(iter(terms))
        return [offer for offer in problem.world.offers(first.name) if holds(offer.package)]

    wanted = [*(one.literal for one in found if one.here), *problem.later(offers, reason)]
    problem.require([negated(truth), *wanted], reason)
    problem.solver.demand(truth, wanted)
    for name in dict.fromkeys(term.name for term in terms):
        problem.watch(name, enters)
    return truth


def _fits(world: World, condition: Condition, asker: Package, package: Package) -> bool:
    """Whether one package by itself meets a condition."""
    if isinstance(condition, Term):
        if satisfies(world, condition, asker, package, world.capabilities(package)):
            return True
        return condition.name.startswith("/") and (
            any(owner is package for owner in world.owners(condition.name))
            or (not package.state.present and world.owns(package, condition.name))
        )
    parts = [_fits(world, part, asker, package) for part in condition.parts]
    match condition.join:
        case Join.WITHOUT:
            return parts[0] and not any(parts[1:])
        case Join.OR:
            return any(parts)
        case _:
            return all(parts)
