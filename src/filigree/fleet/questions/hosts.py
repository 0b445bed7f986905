"""Who is there: how old, of which kind, and how far from the middle of those that are like it."""

from dataclasses import dataclass
from datetime import datetime

from filigree.fleet.asked import Fleet, FleetSummary, time_of
from filigree.model.answer import Answer

_LIKE = 50
"""Of a hundred builds that one of two hosts has both have so many: they are alike."""
_CLUSTERS = 64


@dataclass(frozen=True, slots=True)
class HostRow:
    """One host, as it was seen last. `age` is in days. `cluster` is the number of those that are like
    it, the
    largest being 1; `off` counts the builds in which it differs from the middle of those: what more than
    half of them have. `deviations` are its files that are not as they came, and of nobody's."""

    host: str
    family: str
    label: str
    seen_at: datetime | None
    age: int
    packages: int
    deviations: int
    gaps: int
    vouched: str
    cluster: int
    off: int


def hosts(fleet: Fleet) -> Answer[HostRow, FleetSummary]:
    """Every host, those that are furthest from the middle of their like first."""
    clusters = _clusters(fleet)
    _middles(fleet)
    off = {str(host): int(count) for host, count in fleet.run(_OFF)}
    rows = [
        HostRow(
            host, family, label, time_of(taken_at),
            max(0, (int(fleet.wish.moment.timestamp()) - int(taken_at)) // 86400), int(packages),
            int(deviations or 0), int(gaps or 0), vouched, clusters.get(host, 0), off.get(host, 0),
        )
        for host, family, label, taken_at, packages, vouched, deviations, gaps in fleet.run(_HOSTS)
    ]  # fmt: skip
    rows.sort(key=lambda row: (-row.off, row.host))
    return fleet.answer("hosts", rows)


_HOSTS = """
SELECT host, family, label, taken_at, packages, vouched, d.pieces, g.pieces
FROM chosen
LEFT JOIN (SELECT part, count(*) AS pieces FROM deviations GROUP BY part) d ON d.part = chosen.deviations
LEFT JOIN (SELECT part, count(*) AS pieces FROM gaps GROUP BY part) g ON g.part = chosen.gaps
ORDER BY host
"""
_OFF = """
SELECT c.host, c.size + m.size - 2 * coalesce(b.pieces, 0)
FROM of_cluster c
JOIN (SELECT cluster, count(*) AS size FROM middle GROUP BY cluster) m ON m.cluster = c.cluster
LEFT JOIN (
    SELECT c.host, count(*) AS pieces FROM of_cluster c
    JOIN sets ON sets.part = c.sets
    JOIN middle ON middle.cluster = c.cluster AND middle.build = sets.build
    GROUP BY c.host
) b ON b.host = c.host
"""


def _clusters(fleet: Fleet) -> dict[str, int]:
    """The cluster of each host: the largest set that is left leads those that are like it."""
    sizes = {
        (str(part), int(size)): int(number) for part, size, number in fleet.run(
            "SELECT chosen.sets, max(s.size), count(*) FROM chosen JOIN (SELECT part, count(*) "
            "AS size FROM "
            "sets GROUP BY part) s ON s.part = chosen.sets GROUP BY chosen.sets"
        )
    }  # fmt: skip
    left = sorted(sizes, key=lambda one: (-sizes[one], -one[1], one[0]))
    of_part: dict[str, int] = {}
    leaders = 0
    while left and leaders < _CLUSTERS:
        leader, size = left[0]
        leaders += 1
        common = {str(part): int(number) for part, number in fleet.run(_COMMON, [leader])}
        for part, other in left:
            both = common.get(part, 0)
            if part == leader or 100 * both >= _LIKE * (size + other - both):
                of_part[part] = leaders
        left = [one for one in left if one[0] not in of_part]
    for part, _ in left:
        of_part[part] = leaders + 1
    found = {
        str(host): of_part.get(str(part), 0)
        for host, part in fleet.run("SELECT host, sets FROM chosen")
    }
    order = sorted(set(found.values()), key=lambda one: (-list(found.values()).count(one), one))
    numbers = {one: place for place, one in enumerate(order, 1)}
    named = {host: numbers[one] for host, one in found.items()}
    _keep(fleet, {part: numbers[one] for part, one in of_part.items() if one in numbers})
    return named


_COMMON = """
SELECT other.part, count(*) FROM sets one JOIN sets other ON other.build = one.build
WHERE one.part = ? AND other.part IN (SELECT sets FROM chosen) GROUP BY other.part
"""


def _keep(fleet: Fleet, clusters: dict[str, int]) -> None:
    """Keep which set is of which cluster, as a table."""
    cases: dict[int, list[str]] = {}
    for part, number in clusters.items():
        cases.setdefault(number, []).append(part)
    texts, values = [], []
    for number, parts in sorted(cases.items()):
        for part in parts:
            texts.append("(?, ?)")
            values += [part, number]
    rows = ", ".join(texts) or "('', 0)"
    fleet.engine.keep("of_set", f"SELECT * FROM (VALUES {rows}) AS told(part, cluster)", values)  # type: ignore[arg-type]
    fleet.engine.keep(
        "of_cluster",
        "SELECT chosen.host AS host, chosen.sets AS sets, of_set.cluster AS cluster, "
        "chosen.packages AS size "
        "FROM chosen JOIN of_set ON of_set.part = chosen.sets",
    )


def _middles(fleet: Fleet) -> None:
    """Keep what more than half of the hosts of each cluster have."""
    fleet.engine.keep(
        "middle",
        "SELECT c.cluster AS cluster, sets.build AS build FROM of_cluster c JOIN sets ON "
        "sets.part = c.sets "
        "JOIN (SELECT cluster, count(*) AS hosts FROM of_cluster GROUP BY cluster) n ON "
        "n.cluster = c.cluster "
        "GROUP BY c.cluster, sets.build, n.hosts HAVING 2 * count(DISTINCT c.host) > n.hosts",
    )
