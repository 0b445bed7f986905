"""The solver against exhaustive search, and against clauses that are known to be hard to see through."""

from itertools import combinations, product

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.questions.planning import solver as module
from filigree.questions.planning.impact import standing_on
from filigree.questions.planning.reachability import parts
from filigree.questions.planning.solver import GivenUp, Solver, irreducible, negated

Clauses = list[list[int]]


@st.composite
def problems(draw: st.DrawFn) -> tuple[int, Clauses, list[int], int]:
    """Variables, clauses, preferences, and how many clauses are added before the first search."""
    count = draw(st.integers(1, 8))
    literals = st.integers(0, 2 * count - 1)
    clauses = draw(st.lists(st.lists(literals, min_size=1, max_size=4), max_size=40))
    order = draw(st.permutations(range(count)))
    chosen = order[: draw(st.integers(0, count))]
    preferences = [2 * variable + draw(st.integers(0, 1)) for variable in chosen]
    return count, clauses, preferences, draw(st.integers(0, len(clauses)))


def best(count: int, clauses: Clauses, preferences: list[int]) -> tuple[bool, ...] | None:
    """Which preferences are kept where as early ones as can be are; None where nothing is a solution."""
    found = None
    for values in product((True, False), repeat=count):

        def true(literal: int, values: tuple[bool, ...] = values) -> bool:
            return values[literal >> 1] is not bool(literal & 1)

        if all(any(map(true, clause)) for clause in clauses):
            kept = tuple(map(true, preferences))
            found = kept if found is None else max(found, kept)
    return found


@given(problems())
def test_the_best_solution_is_found_or_a_core_that_has_none(
    problem: tuple[int, Clauses, list[int], int],
) -> None:
    count, clauses, preferences, first = problem
    solver = Solver()
    for _ in range(count):
        solver.variable()
    added = {solver.add(clause): clause for clause in clauses[:first]}
    solver.solve(preferences)
    added |= {solver.add(clause): clause for clause in clauses[first:]}
    expected = best(count, clauses, preferences)
    assert solver.solve(preferences) is (expected is not None)
    if expected is not None:
        assert tuple(map(solver.value, preferences)) == expected
        assert all(any(map(solver.value, clause)) for clause in clauses)
        return
    core = [added[number] for number in solver.core()]
    assert best(count, core, []) is None
    least = irreducible({number: [added[number]] for number in solver.core()})
    assert best(count, [added[number] for number in least], []) is None
    for left_out in least:
        rest = [added[number] for number in least if number != left_out]
        assert best(count, rest, []) is not None


def pigeons(holes: int) -> Solver:
    """One pigeon more than there are holes: no solution, and hard to prove."""
    solver = Solver()
    place = [[solver.variable() for _ in range(holes)] for _ in range(holes + 1)]
    for row in place:
        solver.add(row)
    for hole in range(holes):
        for one, other in combinations(range(holes + 1), 2):
            solver.add([negated(place[one][hole]), negated(place[other][hole])])
    return solver


def test_pigeons_do_not_fit() -> None:
    solver = pigeons(5)
    assert not solver.solve()
    # Every clause is needed for it.
    assert len(solver.core()) == 6 + 5 * 15


def test_a_search_that_takes_too_long_is_given_up(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "PATIENCE", 50)
    with pytest.raises(GivenUp):
        pigeons(9).solve()
    solver = pigeons(9)
    solver.deadline = 0.0
    with pytest.raises(GivenUp):
        solver.solve()


def test_demands_are_followed_in_their_order() -> None:
    solver = Solver()
    a, b, c, d = (solver.variable() for _ in range(4))
    solver.add([a])
    solver.add([negated(a), b, c, d])
    solver.demand(a, [c, b, d])
    assert solver.solve()
    assert [solver.value(literal) for literal in (a, b, c, d)] == [True, False, True, False]
    solver.add([negated(c)])
    assert solver.solve()
    assert [solver.value(literal) for literal in (a, b, c, d)] == [True, True, False, False]


def test_an_empty_clause_is_no_solution() -> None:
    solver = Solver()
    number = solver.add([])
    assert not solver.solve()
    assert solver.core() == [number]


graphs = st.integers(1, 9).flatmap(
    lambda count: st.tuples(
        st.just(count),
        st.lists(st.tuples(st.integers(0, count - 1), st.integers(0, count - 1)), max_size=25),
    )
)


def reachable(count: int, links: list[tuple[int, int]]) -> list[set[int]]:
    """From where each number is reached, itself left out, by looking again until nothing is new."""
    found: list[set[int]] = [set() for _ in range(count)]
    for _ in range(count + 1):
        for one, other in links:
            found[other] |= {one, *found[one]}
    return [others - {number} for number, others in enumerate(found)]


@given(graphs)
def test_how_many_stand_on_each_is_what_a_plain_walk_counts(
    graph: tuple[int, list[tuple[int, int]]],
) -> None:
    count, links = graph
    below = reachable(count, links)
    assert standing_on(count, links) == [len(others) for others in below]
    # The same where there is room for a few at a time.
    wide = count + 70
    spread = [*links, *((number, number % count) for number in range(count, wide))]
    expected = [len(others) for others in reachable(wide, spread)]
    assert standing_on(wide, spread, room=0) == expected
    found = parts(count, links)
    assert sorted(number for part in found for number in part) == list(range(count))
    place = {number: at for at, part in enumerate(found) for number in part}
    for one in range(count):
        for other in range(count):
            together = one == other or (one in below[other] and other in below[one])
            assert (place[one] == place[other]) is together
    assert all(place[one] >= place[other] for one, other in links)
