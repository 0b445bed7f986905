"""Files that are unlike what the same package in the same version has at most hosts."""

from dataclasses import dataclass

from filigree.fleet.asked import Fleet, FleetSummary
from filigree.model.answer import Answer

_NAMED = 5


@dataclass(frozen=True, slots=True)
class DifferRow:
    """A file that is another at so many `hosts` than at most hosts with that package in that version:
    `most` is how many have what is usual, of `of` that have the package. That is a count, and not the
    truth.

    `how` is `record` where the record of it is another one, or the verdict on the file where that is
    not as its record says. `found` is its digest there, `usual` that of most hosts; `which` names the
    first hosts.
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
    fleet.count_builds()
    rows = [*_records(fleet), *_deviating(fleet)]
    rows.sort(key=lambda row: (row.hosts, row.path, row.package))
    return fleet.answer("differ", rows, bad_news=bool(rows))


def _records(fleet: Fleet) -> list[DifferRow]:
    """Where one package in one version has several builds: the files in which their records differ."""
    fleet.engine.keep("several", _SEVERAL)
    fleet.engine.keep("told", _TOLD)
    fleet.engine.keep("ranked", _RANKED)
    which: dict[tuple[object, ...], list[str]] = {}
    for host, *key in fleet.run(_WHICH):
        which.setdefault(tuple(key), []).append(str(host))
    named = _named(fleet)
    return [
        DifferRow(
            hosts=int(hosts), most=int(most), of=int(total), path=path, package=name, version=version,
            how="record", found=digest, usual=usual,
            which=which[family, name, version, architecture, path, digest][:named],
        )
        for (
            family, name, version, architecture, path, digest, hosts, usual, most, total,
        ) in fleet.run(_UNLIKE)
    ]  # fmt: skip


def _named(fleet: Fleet) -> int | None:
    """So many hosts are named of those that have it; all of them where each is told by itself."""
    return None if fleet.wish.by_host else _NAMED


_KIND = "family, name, version, architecture"
_SAID = "coalesce(f.digest, f.link_target, f.kind, 'not in its record')"
_SEVERAL = """
SELECT b.build AS build, b.family AS family, b.name AS name, b.version AS version,
    coalesce(b.architecture, '') AS architecture, h.hosts AS hosts
FROM builds b JOIN build_hosts h ON h.build = b.build
JOIN (
    SELECT o.family AS family, o.name AS name, o.version AS version,
        coalesce(o.architecture, '') AS architecture
    FROM builds o JOIN build_hosts g ON g.build = o.build
    GROUP BY o.family, o.name, o.version, coalesce(o.architecture, '') HAVING count(*) > 1
) m ON m.family = b.family AND m.name = b.name AND m.version = b.version
    AND m.architecture = coalesce(b.architecture, '')
"""
_TOLD = f"""
SELECT s.build AS build, s.family AS family, s.name AS name, s.version AS version,
    s.architecture AS architecture, p.path AS path, {_SAID} AS digest, s.hosts AS hosts
FROM several s
JOIN (
    SELECT DISTINCT o.family AS family, o.name AS name, o.version AS version,
        o.architecture AS architecture, g.path AS path
    FROM several o JOIN build_files g ON g.build = o.build
) p ON p.family = s.family AND p.name = s.name AND p.version = s.version
    AND p.architecture = s.architecture
LEFT JOIN build_files f ON f.build = s.build AND f.path = p.path
"""
_RANKED = f"""
SELECT {_KIND}, path, digest, hosts,
    row_number() OVER (PARTITION BY {_KIND}, path ORDER BY hosts DESC, digest) AS place,
    sum(hosts) OVER (PARTITION BY {_KIND}, path) AS total
FROM (
    SELECT {_KIND}, path, digest, CAST(sum(hosts) AS BIGINT) AS hosts FROM told
    GROUP BY {_KIND}, path, digest
) counted
"""
_SAME = (
    "{0}.family = r.family AND {0}.name = r.name AND {0}.version = r.version "
    "AND {0}.architecture = r.architecture AND {0}.path = r.path"
)
_UNLIKE = f"""
SELECT r.family, r.name, r.version, r.architecture, r.path, r.digest, r.hosts, u.digest, u.hosts,
    r.total
FROM ranked r JOIN ranked u ON {_SAME.format("u")}
WHERE r.place > 1 AND u.place = 1
"""
_WHICH = f"""
SELECT c.host, r.family, r.name, r.version, r.architecture, r.path, r.digest
FROM ranked r
JOIN told t ON {_SAME.format("t")} AND t.digest = r.digest
JOIN sets s ON s.build = t.build JOIN chosen c ON c.sets = s.part
WHERE r.place > 1
ORDER BY c.host
"""


def _deviating(fleet: Fleet) -> list[DifferRow]:
    """Files that are not as their record says, where most hosts with that very build have them so."""
    fleet.engine.keep("off", _OFF)
    fleet.engine.keep("total", _TOTAL)
    fleet.engine.keep("few", _FEW)
    which: dict[tuple[object, ...], list[str]] = {}
    for host, *key in fleet.run(_WHO):
        which.setdefault(tuple(key), []).append(str(host))
    named = _named(fleet)
    return [
        DifferRow(
            hosts=int(hosts), most=int(total) - int(off), of=int(total), path=path, package=name,
            version=version, how=how, found=digest or None, usual=usual,
            which=which.get((path, build, how, digest), [])[:named],
        )
        for path, build, how, digest, hosts, off, total, name, version, usual in fleet.run(_USUAL)
    ]  # fmt: skip


_TOTAL = """
SELECT b.build AS build, b.name AS name, b.version AS version, h.hosts AS hosts
FROM builds b JOIN build_hosts h ON h.build = b.build WHERE b.build IN (SELECT build FROM off)
"""
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
_WHO = f"""
SELECT c.host, f.path, f.build, f.how, f.digest
FROM few f
JOIN deviations d ON d.path = f.path AND d.build = f.build AND {_HOW} = f.how
    AND coalesce(d.digest, '') = f.digest
JOIN chosen c ON c.deviations = d.part
JOIN sets s ON s.part = c.sets AND s.build = f.build
ORDER BY c.host
"""
_USUAL = """
SELECT w.path, w.build, w.how, w.digest, w.hosts, w.off, w.total, w.name, w.version,
    min(coalesce(f.digest, f.link_target))
FROM few w LEFT JOIN build_files f ON f.build = w.build AND f.path = w.path
GROUP BY w.path, w.build, w.how, w.digest, w.hosts, w.off, w.total, w.name, w.version
"""
