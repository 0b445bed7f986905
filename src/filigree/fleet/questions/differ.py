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
    held: dict[tuple[str, ...], list[str]] = {}
    for host, *key in fleet.run(
        "SELECT c.host, d.path, d.build, CASE WHEN coalesce(d.aspects, '') = '' THEN d.verdict ELSE "
        "concat(d.verdict, ': ', d.aspects) END, coalesce(d.digest, '') FROM deviations d JOIN "
        "chosen c ON "
        "c.deviations = d.part WHERE d.build IS NOT NULL ORDER BY c.host"
    ):
        held.setdefault(tuple(map(str, key)), []).append(str(host))
    if not held:
        return []
    facts = {
        str(build): (str(name), str(version), int(hosts))
        for build, name, version, hosts in fleet.run(
            "SELECT build, name, version, count(DISTINCT host) FROM had WHERE build IN (SELECT "
            "build FROM "
            "deviations) GROUP BY build, name, version"
        )
    }
    usual = {
        (str(build), str(path)): digest
        for build, path, digest in fleet.run(
            "SELECT f.build, f.path, coalesce(f.digest, f.link_target) FROM build_files f JOIN "
            "(SELECT DISTINCT "
            "build, path FROM deviations WHERE build IS NOT NULL) d ON d.build = f.build AND "
            "d.path = f.path"
        )
    }
    off: dict[tuple[str, str], int] = {}
    for (path, build, _, _), hosts in held.items():
        off[build, path] = off.get((build, path), 0) + len(hosts)
    rows = []
    for (path, build, verdict, digest), hosts in held.items():
        name, version, total = facts.get(build, ("", "", 0))
        most = total - off[build, path]
        if len(hosts) < total - len(hosts):
            rows.append(DifferRow(
                len(hosts), most, total, path, name, version, verdict, digest or None,
                usual.get((build, path)), hosts[:_NAMED],
            ))  # fmt: skip
    return rows
