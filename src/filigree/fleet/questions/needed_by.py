"""Which hosts would lose what, if a package went: of each set, until nothing more goes."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from filigree.fleet.asked import Fleet, FleetSummary, like_of, many
from filigree.fleet.identity import text_of
from filigree.model.answer import Answer, Gap

_BITS = 62


@dataclass(frozen=True, slots=True)
class FleetNeededByRow:
    """A package that would not work any more at so many hosts: `depth` is how many steps away at most,
    `need` what nothing would meet then. By names: versions are not asked, as what is there meets them."""

    hosts: int
    depth: int
    name: str
    version: str
    need: str
    first_host: str


def fleet_needed_by(fleet: Fleet, names: Sequence[str]) -> Answer[FleetNeededByRow, FleetSummary]:
    """What would be lost at how many hosts without packages of these names or globs, the nearest first.
    What matches nothing is a note; hosts whose family does not record needs are a gap."""
    matches = " OR ".join(["b.name LIKE ? ESCAPE '!'"] * len(names))
    patterns = [like_of(text_of(one)) for one in names]
    for one, pattern in zip(names, patterns, strict=True):
        if not fleet.run("SELECT name FROM builds WHERE name LIKE ? ESCAPE '!' LIMIT 1", [pattern]):
            fleet.notes.append(f"no host has a package called {one}")
    needs = _Needs(fleet)
    first = [str(build) for (build,) in fleet.run(_FIRST.format(matches=matches), patterns)]
    sets = _Sets(fleet, needs.around(first))
    told = {str(build): (name, version) for build, name, version in fleet.run(_NAMED)}
    losses: dict[tuple[str, str], list[_Loss]] = {}
    for build, loss in _losses(needs, sets, first):
        losses.setdefault(told[build], []).append(loss)
    records = [
        FleetNeededByRow(
            hosts, max(one.depth for one in those), name, version, min(one.need for one in those), host
        )
        for (name, version), every in losses.items()
        for hosts, host, those in sets.told(every)
    ]  # fmt: skip
    records.sort(key=lambda row: (row.depth, -row.hosts, row.name, row.version))
    silent = int(fleet.run(_SILENT)[0][0])
    if silent:
        fleet.gaps.append(
            Gap(f"what would be lost at {many(silent)}", "no needs are on record there")
        )
    return fleet.answer("needed-by", records)


class _Loss(NamedTuple):
    """A need that nothing meets any more: how far away that is, the need, and in which sets that is so:
    each is a bit."""

    depth: int
    need: str
    where: int


class _Needs:
    """The clauses of all builds of the hosts that are meant, and what gives what is asked for."""

    def __init__(self, fleet: Fleet) -> None:
        fleet.engine.keep("wanted", _WANTED)
        self.clauses: dict[str, dict[tuple[int, str], set[str]]] = {}
        self._askers: dict[str, set[str]] = {}
        for build, clause, need, name in fleet.run("SELECT build, clause, need, name FROM wanted"):
            self.clauses.setdefault(build, {}).setdefault((int(clause), need), set()).add(name)
            self._askers.setdefault(name, set()).add(build)
        self.givers: dict[str, set[str]] = {}
        self._gives: dict[str, set[str]] = {}
        for build, name in fleet.run(_GIVES):
            self.givers.setdefault(name, set()).add(build)
            self._gives.setdefault(build, set()).add(name)

    def askers(self, build: str) -> set[str]:
        """The builds that ask for something that a build gives."""
        names = self._gives.get(build, ())
        return {asker for name in names for asker in self._askers.get(name, ())}

    def around(self, first: Sequence[str]) -> set[str]:
        """The builds that could be lost without some, whatever else is there, and all that could stand in
        for what those ask for."""
        reached, waiting = set(first), [*first]
        while waiting:
            new = self.askers(waiting.pop()) - reached
            reached |= new
            waiting += new
        names = {
            name for build in reached for asked in self.clauses.get(build, {}).values() for name in asked
        }  # fmt: skip
        return reached.union(*(self.givers.get(name, set()) for name in names))


class _Sets:
    """Which sets of the hosts that are meant have which builds: a build's sets are the bits of a number.
    Sets stand in the order of their first hosts, so the lowest bit tells the first of those."""

    def __init__(self, fleet: Fleet, builds: set[str]) -> None:
        fleet.engine.keep("placed", _PLACED)
        found = fleet.run(
            "SELECT w.part, w.hosts, w.first_host FROM weights w JOIN placed p ON p.part = w.part "
            "ORDER BY p.place, w.first_host"
        )
        self._hosts: dict[str, list[tuple[int, str]]] = {}
        for part, hosts, host in found:
            self._hosts.setdefault(str(part), []).append((int(hosts), str(host)))
        self._parts = [*self._hosts]
        self._by_weight: dict[int, int] = {}
        for number, told in enumerate(self._hosts.values()):
            weight = sum(hosts for hosts, _ in told)
            self._by_weight[weight] = self._by_weight.get(weight, 0) | 1 << number
        self._by_host = fleet.wish.by_host
        self._has: dict[str, int] = {}
        for build, block, bits in fleet.run(_HAVING):
            if build in builds:
                self._has[build] = self._has.get(build, 0) | int(bits) << _BITS * int(block)

    def having(self, build: str) -> int:
        """The sets that have a build."""
        return self._has.get(build, 0)

    def told(self, losses: Sequence[_Loss]) -> Iterator[tuple[int, str, Sequence[_Loss]]]:
        """How many hosts have some losses, the first of them, and which those are; each by itself where
        that is wanted."""
        where = 0
        for one in losses:
            where |= one.where
        if not self._by_host:
            hosts = sum(
                weight * (mask & where).bit_count() for weight, mask in self._by_weight.items()
            )
            lowest = (where & -where).bit_length() - 1
            yield hosts, self._hosts[self._parts[lowest]][0][1], losses
            return
        for number, part in enumerate(self._parts):
            if where >> number & 1:
                those = [one for one in losses if one.where >> number & 1]
                for hosts, host in self._hosts[part]:
                    yield hosts, host, those


def _losses(needs: _Needs, sets: _Sets, first: Sequence[str]) -> Iterator[tuple[str, _Loss]]:
    """What is lost where, step by step: of each set every build of which some clause is met no more by
    what was left after the step before."""
    gone = {build: sets.having(build) for build in first}
    fresh = set(first)
    depth = 0
    while fresh:
        depth += 1
        hit: dict[str, int] = {}
        for build in {asker for one in fresh for asker in needs.askers(one)}:
            left = sets.having(build) & ~gone.get(build, 0)
            for (_, need), names in needs.clauses[build].items() if left else ():
                met = 0
                for giver in {giver for name in names for giver in needs.givers.get(name, ())}:
                    met |= sets.having(giver) & ~gone.get(giver, 0)
                lost = left & ~met
                # What nothing met before is not lost by this.
                if lost and (lost := lost & _once_met(needs, sets, names)):
                    hit[build] = hit.get(build, 0) | lost
                    yield build, _Loss(depth, need, lost)
        for build, lost in hit.items():
            gone[build] = gone.get(build, 0) | lost
        fresh = set(hit)


def _once_met(needs: _Needs, sets: _Sets, names: set[str]) -> int:
    met = 0
    for giver in {giver for name in names for giver in needs.givers.get(name, ())}:
        met |= sets.having(giver)
    return met


_WANTED = """
SELECT n.build AS build, n.clause AS clause, n.need AS need, n.name AS name FROM build_needs n
WHERE n.kind IN ('requires', 'requires-first') AND n.name IS NOT NULL
    AND n.build IN (SELECT s.build FROM sets s JOIN weights w ON w.part = s.part)
"""
# A path is given by whoever has it on record.
_GIVES = """
SELECT g.build AS build, g.name AS name FROM build_gives g WHERE g.name IN (SELECT name FROM wanted)
UNION
SELECT f.build AS build, f.path AS name FROM build_files f
WHERE f.path IN (SELECT name FROM wanted WHERE name LIKE '/%')
"""
_FIRST = "SELECT b.build FROM builds b WHERE {matches}"
_NAMED = "SELECT build, name, version FROM builds"
# A number has so many sets of a build as it has bits; the first of them are those of the first hosts.
_PLACED = f"""
SELECT part, place, CAST(floor(place / {_BITS}.0) AS BIGINT) AS block,
    CAST(power(2, place % {_BITS}) AS BIGINT) AS bit
FROM (
    SELECT part, row_number() OVER (ORDER BY min(first_host), part) - 1 AS place
    FROM weights GROUP BY part
) numbered
"""
_HAVING = """
SELECT s.build, p.block, bit_or(p.bit) FROM sets s JOIN placed p ON p.part = s.part
GROUP BY s.build, p.block
"""
_SILENT = """
SELECT count(*) FROM chosen c WHERE NOT EXISTS (
    SELECT 1 FROM sets s JOIN build_needs n ON n.build = s.build WHERE s.part = c.sets
)
"""
