"""Files that are unlike what the same package in the same version has at most hosts."""

from dataclasses import dataclass

from filigree.fleet.asked import Fleet, FleetSummary
from filigree.model.answer import Answer

_NAMED = 5


@dataclass(frozen=True, slots=True)
class DifferRow:
    """A file that is another at so many `hosts` than at most hosts with that package in that version:
    `most`
    is how many have what is usual, of `of` that have the package. That is a count, and not the truth.

    `how` is `record` where the record of it is another one, or the verdict on the file where that is
    not as
    its record says. `found` is its digest there, `usual` that of most hosts; `which` names the first
    hosts.
    """

    hosts: int
    most: int
    of: int
    path: str
    package: str
    version: str
    how: str
    found: str | None
    usual: str | None
    which: list[str]


def differ(fleet: Fleet) -> Answer[DifferRow, FleetSummary]:
    """Every file that is unlike most of its kind, the rarest first. Bad news where there is any."""
    fleet.engine.keep("had", _HAD)
    rows = [*_records(fleet), *_deviating(fleet)]
    rows.sort(key=lambda row: (row.hosts, row.path, row.package))
    return fleet.answer("differ", rows, bad_news=bool(rows))


_HAD = """
SELECT c.host AS host, b.build AS build, b.family AS family, b.name AS name, b.version AS version,
    coalesce(b.architecture, '') AS architecture
FROM chosen c JOIN sets s ON s.part = c.sets JOIN builds b ON b.build = s.build
"""
_KIND = "family, name, version, architecture"


def _records(fleet: Fleet) -> list[DifferRow]:
    """Where one package in one version has several builds: the files in which their records differ."""
    fleet.engine.keep(
        "several",
        f"SELECT build, {_KIND}, count(DISTINCT host) AS hosts FROM had h WHERE EXISTS (SELECT 1 FROM "
        "(SELECT family AS f, name AS n, version AS v, architecture AS a FROM had GROUP BY family, name, "
        "version, architecture HAVING count(DISTINCT build) > 1) m WHERE m.f = h.family AND m.n "
        "= h.name AND "
        f"m.v = h.version AND m.a = h.architecture) GROUP BY build, {_KIND}",
    )
    fleet.engine.keep(
        "told",
        f"SELECT {_KIND}, path, digest, sum(hosts) AS hosts FROM (SELECT s.family, s.name, s.version, "
        "s.architecture, p.path AS path, coalesce(f.digest, f.link_target, f.kind, 'not in its "
        "record') AS digest, "
        "s.hosts AS hosts FROM several s JOIN (SELECT DISTINCT o.family AS family, o.name AS "
        "name, o.version AS "
        "version, o.architecture AS architecture, g.path AS path FROM several o JOIN build_files "
        "g ON g.build = "
        "o.build) p ON p.family = s.family AND p.name = s.name AND p.version = s.version AND "
        "p.architecture = "
        "s.architecture LEFT JOIN build_files f ON f.build = s.build AND f.path = p.path) t "
        f"GROUP BY {_KIND}, path, digest",
    )
    found: dict[tuple[str, ...], list[tuple[str, int]]] = {}
    for *key, digest, hosts in fleet.run(
        f"SELECT {_KIND}, path, digest, hosts FROM told ORDER BY hosts DESC, digest"
    ):
        found.setdefault(tuple(map(str, key)), []).append((str(digest), int(hosts)))
    rows = []
    for (family, name, version, architecture, path), variants in found.items():
        (usual, most), *others = variants
        total = most + sum(hosts for _, hosts in others)
        for digest, hosts in others:
            which = fleet.run(
                "SELECT DISTINCT h.host FROM had h LEFT JOIN build_files f ON f.build = h.build "
                "AND f.path = ? "
                "WHERE h.family = ? AND h.name = ? AND h.version = ? AND h.architecture = ? AND "
                "coalesce(f.digest, f.link_target, f.kind, 'not in its record') = ? ORDER BY h.host "
                f"LIMIT {_NAMED}",
                [path, family, name, version, architecture, digest],
            )
            rows.append(DifferRow(
                hosts, most, total, path, name, version, "record", digest, usual,
                [str(host) for (host,) in which],
            ))  # fmt: skip
    return rows


def _deviating(fleet: Fleet) -> list[DifferRow]:
    """Files that are not as their record says, where most hosts with that very build have them so."""
    fleet.engine.keep("off", _OFF)
    fleet.engine.keep(
        "total",
        "SELECT build, name, version, count(DISTINCT host) AS hosts FROM had WHERE build IN "
        "(SELECT build "
        "FROM off) GROUP BY build, name, version",
    )  # fmt: skip
    fleet.engine.keep("few", _FEW)
    which: dict[tuple[object, ...], list[str]] = {}
    for host, *key in fleet.run(
        "SELECT c.host, f.path, f.build, f.how, f.digest FROM few f JOIN deviations d ON d.path "
        "= f.path AND "
        f"d.build = f.build AND {_HOW} = f.how AND coalesce(d.digest, '') = f.digest JOIN chosen c ON "
        "c.deviations = d.part JOIN sets s ON s.part = c.sets AND s.build = f.build ORDER BY c.host"
    ):
        which.setdefault(tuple(key), []).append(str(host))
    return [
        DifferRow(
            int(hosts), int(total) - int(off), int(total), path, name, version, how, digest or None,
            usual,
            which.get((path, build, how, digest), [])[:_NAMED],
        )
        for path, build, how, digest, hosts, off, total, name, version, usual in fleet.run(
            "SELECT w.path, w.build, w.how, w.digest, w.hosts, w.off, w.total, w.name, w.version, "
            "min(coalesce(f.digest, f.link_target)) FROM few w LEFT JOIN build_files f ON "
            "f.build = w.build AND "
            "f.path = w.path GROUP BY w.path, w.build, w.how, w.digest, w.hosts, w.off, w.total, "
            "w.name, w.version"
        )
    ]  # fmt: skip


_HOW = "CASE WHEN coalesce(d.aspects, '') = '' THEN d.verdict ELSE concat(d.verdict, ': ', d.aspects) END"
# Of a part, which many hosts may have in common, each row is counted as often as there are such hosts.
_OFF = f"""
SELECT d.path AS path, d.build AS build, {_HOW} AS how, coalesce(d.digest, '') AS digest, sum(n.hosts)
AS hosts
FROM deviations d
JOIN (SELECT deviations AS part, count(*) AS hosts FROM chosen GROUP BY deviations) n ON n.part = d.part
WHERE d.build IS NOT NULL
GROUP BY d.path, d.build, {_HOW}, coalesce(d.digest, '')
"""
_FEW = """
SELECT o.path AS path, o.build AS build, o.how AS how, o.digest AS digest, o.hosts AS hosts, a.hosts AS
off,
    t.hosts AS total, t.name AS name, t.version AS version
FROM off o
JOIN total t ON t.build = o.build
JOIN (SELECT path, build, sum(hosts) AS hosts FROM off GROUP BY path, build) a
    ON a.path = o.path AND a.build = o.build
WHERE 2 * o.hosts < t.hosts
"""
