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
    it, the largest being 1; `off` counts the builds in which it differs from the middle of those: what
    more than half of them have. `deviations` are its files that are not as they came, and of
    nobody's."""

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
            host=host, family=family, label=label, seen_at=time_of(taken_at),
            age=max(0, (int(fleet.wish.moment.timestamp()) - int(taken_at)) // 86400),
            packages=int(packages), deviations=int(deviations or 0), gaps=int(gaps or 0), vouched=vouched,
            cluster=clusters.get(host, 0), off=off.get(host, 0),
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
    SELECT s.part AS part, count(*) AS pieces FROM sets s
    JOIN of_set o ON o.part = s.part
    JOIN middle ON middle.cluster = o.cluster AND middle.build = s.build
    GROUP BY s.part
) b ON b.part = c.sets
"""


def _clusters(fleet: Fleet) -> dict[str, int]:
    """The cluster of each host: the largest set that is left leads those that are like it. Kept as
    `of_cluster` is the cluster of each host and set."""
    fleet.engine.keep("left_sets", _SETS)
    groups = []
    for number in range(1, _CLUSTERS + 1):
        leader = fleet.run(
            "SELECT part, size FROM left_sets ORDER BY hosts DESC, size DESC, part LIMIT 1"
        )
        if not leader:
            break
        part, size = leader[0]
        fleet.engine.keep(f"cluster_{number}", _LIKE_IT, [part, part, size])
        fleet.engine.keep(
            "left_sets",
            f"SELECT * FROM left_sets WHERE part NOT IN (SELECT part FROM cluster_{number})",
        )
        (count,) = fleet.run(f"SELECT sum(hosts) FROM cluster_{number}")[0]
        groups.append((-int(count), number, f"cluster_{number}"))
    if fleet.run("SELECT part FROM left_sets LIMIT 1"):
        groups.append((0, _CLUSTERS + 1, "left_sets"))
    told = [
        f"SELECT part, {place} AS cluster FROM {table}"
        for place, (_, _, table) in enumerate(sorted(groups), 1)
    ]
    fleet.engine.keep("of_set", " UNION ALL ".join(told) or "SELECT '' AS part, 0 AS cluster")
    fleet.engine.keep(
        "of_cluster",
        "SELECT c.host AS host, c.sets AS sets, o.cluster AS cluster, c.packages AS size FROM chosen c "
        "JOIN of_set o ON o.part = c.sets",
    )
    return {
        str(host): int(number) for host, number in fleet.run("SELECT host, cluster FROM of_cluster")
    }


_SETS = """
SELECT c.sets AS part, min(s.size) AS size, count(*) AS hosts
FROM chosen c JOIN (SELECT part, count(*) AS size FROM sets GROUP BY part) s ON s.part = c.sets
GROUP BY c.sets
"""
_LIKE_IT = f"""
SELECT l.part AS part, l.size AS size, l.hosts AS hosts
FROM left_sets l
LEFT JOIN (
    SELECT part, count(*) AS pieces FROM sets
    WHERE build IN (SELECT build FROM sets WHERE part = ?) GROUP BY part
) b ON b.part = l.part
WHERE l.part = ? OR 100 * coalesce(b.pieces, 0) >= {_LIKE} * (l.size + ? - coalesce(b.pieces, 0))
"""


def _middles(fleet: Fleet) -> None:
    """Keep what more than half of the hosts of each cluster have."""
    fleet.engine.keep("middle", _MIDDLE)


_MIDDLE = """
SELECT o.cluster AS cluster, s.build AS build
FROM sets s JOIN of_set o ON o.part = s.part JOIN weights w ON w.part = s.part
JOIN (SELECT cluster, count(*) AS hosts FROM of_cluster GROUP BY cluster) n ON n.cluster = o.cluster
GROUP BY o.cluster, s.build, n.hosts HAVING 2 * sum(w.hosts) > n.hosts
"""
