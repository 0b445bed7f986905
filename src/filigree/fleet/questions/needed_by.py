"""Which hosts would lose what, if a package went: set by set, until nothing more goes."""

from collections.abc import Sequence
from dataclasses import dataclass

from filigree.fleet.asked import Fleet, FleetSummary, like_of, many
from filigree.fleet.identity import text_of
from filigree.model.answer import Answer, Gap

_DEEPEST = 128


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
    fleet.engine.keep("wanted", _WANTED)
    fleet.engine.keep("gives", _GIVES)
    fleet.engine.keep("gone", _FIRST.format(matches=matches), patterns)
    for depth in range(_DEEPEST):
        fleet.engine.keep("hit", _HIT, [depth])
        fleet.engine.keep("lost", _LOST)
        if not fleet.run("SELECT part FROM lost LIMIT 1"):
            break
        fleet.engine.keep(
            "gone",
            f"SELECT part, build, depth, need FROM gone UNION ALL SELECT part, build, {depth + 1} AS "
            "depth, min(need) AS need FROM lost GROUP BY part, build",
        )
    rows = [FleetNeededByRow(*row) for row in fleet.run(_ROWS.format(by=fleet.by("w.first_host")))]
    silent = int(fleet.run(_SILENT)[0][0])
    if silent:
        fleet.gaps.append(
            Gap(f"what would be lost at {many(silent)}", "no needs are on record there")
        )
    return fleet.answer("needed-by", rows)


_WANTED = (
    "SELECT * FROM build_needs WHERE kind IN ('requires', 'requires-first') AND name IS NOT NULL"
)
# A path is given by whoever has it on record.
_GIVES = """
SELECT build, name FROM build_gives
UNION ALL
SELECT f.build AS build, f.path AS name FROM build_files f
WHERE f.path IN (SELECT name FROM wanted WHERE name LIKE '/%')
"""
_FIRST = """
SELECT s.part AS part, s.build AS build, 0 AS depth, '' AS need
FROM sets s JOIN builds b ON b.build = s.build
WHERE s.part IN (SELECT part FROM weights) AND ({matches})
"""
# Clauses of what is left that something asks for which went in the last step.
_HIT = """
SELECT DISTINCT g.part AS part, n.build AS build, n.clause AS clause, n.need AS need
FROM gone g
JOIN gives v ON v.build = g.build
JOIN wanted n ON n.name = v.name
JOIN sets s ON s.part = g.part AND s.build = n.build
WHERE g.depth = ? AND NOT EXISTS (SELECT 1 FROM gone o WHERE o.part = g.part AND o.build = n.build)
"""
_LOST = """
SELECT h.part AS part, h.build AS build, h.clause AS clause, h.need AS need FROM hit h
WHERE NOT EXISTS (
    SELECT 1 FROM wanted n
    JOIN gives v ON v.name = n.name
    JOIN sets s ON s.build = v.build
    WHERE n.build = h.build AND n.clause = h.clause AND s.part = h.part
    AND NOT EXISTS (SELECT 1 FROM gone o WHERE o.part = s.part AND o.build = s.build)
)
"""
_ROWS = """
SELECT CAST(sum(w.hosts) AS BIGINT), max(l.depth), l.name, l.version, min(l.need), min(w.first_host)
FROM (
    SELECT g.part AS part, b.name AS name, b.version AS version, max(g.depth) AS depth,
        min(g.need) AS need
    FROM gone g JOIN builds b ON b.build = g.build WHERE g.depth > 0 GROUP BY g.part, b.name, b.version
) l JOIN weights w ON w.part = l.part
GROUP BY {by}l.name, l.version
ORDER BY 2, 1 DESC, l.name, l.version
"""
_SILENT = """
SELECT count(*) FROM chosen c WHERE NOT EXISTS (
    SELECT 1 FROM sets s JOIN build_needs n ON n.build = s.build WHERE s.part = c.sets
)
"""
