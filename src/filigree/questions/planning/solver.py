"""A solver for propositional logic. It knows nothing of packages.

Clauses over literals; a literal is an even number for a variable and the odd number after it for its
negation. The search learns a clause from each conflict and goes back as far as that clause allows
(Marques-Silva and Sakallah, "GRASP: a search algorithm for propositional satisfiability", 1999), and
looks at two literals of each clause alone (Moskewicz et al., "Chaff", 2001).

It decides in the order that it is told: first the preferences, one after the other, then what the
demands of a true literal ask for, and at last every other variable is false. So of all solutions it
finds the one that keeps the first preference if any does, of those the one that keeps the second, and
so on: a preference is given up only where the clauses and the preferences before it leave no choice.
"""

from collections.abc import Iterable, Sequence
from time import monotonic

PATIENCE = 200_000
"""So many conflicts are looked into before the search is given up."""


_Cursor = tuple[int, int, int]
"""How far the preferences, the literals whose demands are followed, and the variables are decided."""
_START = (0, 0, 0)


class GivenUp(Exception):
    """The search took too long: nothing is known."""


def negated(literal: int) -> int:
    """The literal that is true where this one is false."""
    return literal ^ 1


class Solver:
    """Clauses, and a search for values that make all of them true."""

    def __init__(self) -> None:
        self._clauses: list[list[int]] = []
        self._learnt_from: dict[int, tuple[list[int], list[int]]] = {}
        self._watching: list[list[int]] = []
        self._values: list[bool | None] = []
        self._level: list[int] = []
        self._why: list[int | None] = []
        self._trail: list[int] = []
        self._looked = 0
        self._marks: list[tuple[int, _Cursor]] = []
        self._cursor: _Cursor = _START
        self._units: list[int] = []
        self._empty: int | None = None
        self._demands: dict[int, list[Sequence[int]]] = {}
        self._conflict: int | None = None
        self.deadline: float | None = None
        """When to give the search up, by the clock that never goes back."""

    def variable(self) -> int:
        """A new variable, as its positive literal."""
        literal = len(self._values)
        self._values += (None, None)
        self._watching += ([], [])
        self._level.append(0)
        self._why.append(None)
        return literal

    def add(self, literals: Iterable[int]) -> int:
        """Add a clause: at least one of the literals is true. Its number comes back."""
        once = list(dict.fromkeys(literals))
        number = len(self._clauses)
        self._clauses.append(once)
        if any(literal ^ 1 in once for literal in once):
            return number
        if not once:
            self._empty = number
        elif len(once) == 1:
            self._units.append(number)
        else:
            self._watching[once[0]].append(number)
            self._watching[once[1]].append(number)
        return number

    def clause(self, number: int) -> list[int]:
        """The literals of a clause."""
        return self._clauses[number]

    def demand(self, literal: int, wanted: Sequence[int]) -> None:
        """Where `literal` is true and none of `wanted` is, decide for the first that can be."""
        self._demands.setdefault(literal, []).append(wanted)

    def solve(self, preferences: Sequence[int] = ()) -> bool:
        """Whether all clauses can be true. Raises GivenUp where that took too long."""
        self._conflict = self._empty
        self._go_back(0)
        self._cursor = _START
        if self._conflict is not None or not self._propagate_units():
            return False
        # Clauses that were added since may rest on literals that are false for good.
        self._looked = 0
        conflicts = 0
        while True:
            conflict = self._propagate()
            if conflict is None:
                literal = self._next(preferences)
                if literal is None:
                    return True
                self._marks.append((len(self._trail), self._cursor))
                self._set(literal, None)
                continue
            if not self._marks:
                self._conflict = conflict
                return False
            conflicts += 1
            late = self.deadline is not None and monotonic() > self.deadline
            if conflicts > PATIENCE or late:
                raise GivenUp
            self._learn(conflict)

    def value(self, literal: int) -> bool:
        """Whether a literal is true in the solution that was found."""
        return self._values[literal] is True

    def core(self) -> list[int]:
        """The numbers of clauses, of those that were added, that cannot all be true together."""
        assert self._conflict is not None, "there is a solution"
        found: set[int] = set()
        seen: set[int] = set()
        pending = [self._conflict]
        while pending:
            number = pending.pop()
            if number in seen:
                continue
            seen.add(number)
            clauses, variables = self._learnt_from.get(number, ((), ()))
            if number not in self._learnt_from:
                found.add(number)
            pending += clauses
            # What was false before any decision was made false by clauses, too.
            for variable in (*variables, *(literal >> 1 for literal in self._clauses[number])):
                why = self._why[variable]
                if self._level[variable] == 0 and why is not None:
                    pending.append(why)
        return sorted(found)

    # -- the search ------------------------------------------------------------------------

    def _set(self, literal: int, why: int | None) -> None:
        self._values[literal] = True
        self._values[literal ^ 1] = False
        self._level[literal >> 1] = len(self._marks)
        self._why[literal >> 1] = why
        self._trail.append(literal)

    def _propagate_units(self) -> bool:
        for number in self._units:
            literal = self._clauses[number][0]
            value = self._values[literal]
            if value is False:
                self._conflict = number
                return False
            if value is None:
                self._set(literal, number)
        return True

    def _propagate(self) -> int | None:
        """Draw every conclusion; the clause that came out false comes back."""
        values, clauses, watching = self._values, self._clauses, self._watching
        while self._looked < len(self._trail):
            false = self._trail[self._looked] ^ 1
            self._looked += 1
            watchers = watching[false]
            kept = []
            for at, number in enumerate(watchers):
                clause = clauses[number]
                if clause[0] == false:
                    clause[0], clause[1] = clause[1], false
                first = clause[0]
                if values[first] is True:
                    kept.append(number)
                    continue
                for place in range(2, len(clause)):
                    if values[clause[place]] is not False:
                        clause[1], clause[place] = clause[place], false
                        watching[clause[1]].append(number)
                        break
                else:
                    kept.append(number)
                    if values[first] is False:
                        watching[false] = kept + watchers[at + 1 :]
                        return number
                    self._set(first, number)
            watching[false] = kept
        return None

    def _next(self, preferences: Sequence[int]) -> int | None:
        """The literal to decide for; None where every variable has a value."""
        preferred, followed, swept = self._cursor
        values = self._values
        while preferred < len(preferences):
            if values[preferences[preferred]] is None:
                self._cursor = preferred, followed, swept
                return preferences[preferred]
            preferred += 1
        while followed < len(self._trail):
            for wanted in self._demands.get(self._trail[followed], ()):
                free = None
                for literal in wanted:
                    value = values[literal]
                    if value is True:
                        break
                    if value is None and free is None:
                        free = literal
                else:
                    if free is not None:
                        self._cursor = preferred, followed, swept
                        return free
            followed += 1
        while swept < len(values) and values[swept] is not None:
            swept += 2
        self._cursor = preferred, followed, swept
        return swept + 1 if swept < len(values) else None

    def _learn(self, conflict: int) -> None:
        """Go back behind a conflict, with a clause that keeps the search from coming there again."""
        here = len(self._marks)
        clauses, fixed = [conflict], []
        learnt: list[int] = []
        seen: set[int] = set()
        open_ = 0
        at = len(self._trail)
        literals: Iterable[int] = self._clauses[conflict]
        while True:
            for literal in literals:
                variable = literal >> 1
                if variable in seen:
                    continue
                seen.add(variable)
                if self._level[variable] == here:
                    open_ += 1
                elif self._level[variable] > 0:
                    learnt.append(literal)
                else:
                    fixed.append(variable)
            at -= 1
            while self._trail[at] >> 1 not in seen:
                at -= 1
            pivot = self._trail[at]
            open_ -= 1
            if open_ == 0:
                break
            why = self._why[pivot >> 1]
            assert why is not None
            clauses.append(why)
            literals = [literal for literal in self._clauses[why] if literal != pivot]
        back = max((self._level[literal >> 1] for literal in learnt), default=0)
        self._go_back(back)
        learnt.sort(key=lambda literal: -self._level[literal >> 1])
        number = len(self._clauses)
        self._clauses.append([pivot ^ 1, *learnt])
        self._learnt_from[number] = clauses, fixed
        if learnt:
            self._watching[pivot ^ 1].append(number)
            self._watching[learnt[0]].append(number)
        else:
            self._units.append(number)
        self._set(pivot ^ 1, number)

    def _go_back(self, level: int) -> None:
        if len(self._marks) <= level:
            return
        length, cursor = self._marks[level]
        for literal in self._trail[length:]:
            self._values[literal] = self._values[literal ^ 1] = None
        del self._trail[length:]
        del self._marks[level:]
        self._cursor = cursor
        self._looked = min(self._looked, length)


def irreducible(groups: dict[int, list[list[int]]], needed: Iterable[int] = ()) -> list[int]:
    """Of groups of clauses that cannot all be true, some that cannot, none of which can be left out.

    `needed` are looked at last: they stay where others can go instead.
    """
    last = set(needed)
    kept = sorted(groups, key=lambda name: (name in last, name))
    for name in list(kept):
        if name in kept:
            core = _core({other: groups[other] for other in kept if other != name})
            kept = kept if core is None else [other for other in kept if other in core]
    return kept


def _core(groups: dict[int, list[list[int]]]) -> set[int] | None:
    """Those of the groups that cannot all be true together; None where they can."""
    solver = Solver()
    ours: dict[int, int] = {}
    owners = []
    for name, clauses in groups.items():
        for clause in clauses:
            for literal in clause:
                if literal & ~1 not in ours:
                    ours[literal & ~1] = solver.variable()
            solver.add(ours[literal & ~1] | (literal & 1) for literal in clause)
            owners.append(name)
    if solver.solve():
        return None
    return {owners[number] for number in solver.core()}
