"""Which hosts have a package, in which versions."""

from collections.abc import Sequence
from dataclasses import dataclass

from filigree.families.registry import family_named
from filigree.fleet.asked import Fleet, FleetSummary, like_of, many
from filigree.fleet.identity import text_of
from filigree.model.answer import Answer, Gap


@dataclass(frozen=True, slots=True)
class FleetCensusRow:
    """One package at one host."""

    host: str
    name: str
    version: str
    architecture: str | None
    family: str
    state: str


@dataclass(frozen=True, slots=True)
class FleetVersionsRow:
    """One package in one version: at how many hosts, and the first of them."""

    hosts: int
    name: str
    version: str
    architecture: str | None
    family: str
    first_host: str


def fleet_census(
    fleet: Fleet, names: Sequence[str], older_than: str | None = None
) -> Answer[FleetCensusRow | FleetVersionsRow, FleetSummary]:
    """Where packages are, by name or glob; those alone that are `older_than` a version; each host by
    itself or each version, older ones first. What matches nothing is a note."""
    matches = " OR ".join(["b.name LIKE ? ESCAPE '!'"] * len(names)) or "true"
    older, values = _older(fleet, older_than)
    values = [*(like_of(text_of(one)) for one in names), *values]
    for one in names:
        pattern = like_of(text_of(one))
        if not fleet.run("SELECT name FROM builds WHERE name LIKE ? ESCAPE '!' LIMIT 1", [pattern]):
            fleet.notes.append(f"no host has a package called {one}")
    text, row = (_HOSTS, FleetCensusRow) if fleet.wish.by_host else (_VERSIONS, FleetVersionsRow)
    rows = [row(*told) for told in fleet.run(text.format(where=f"({matches}) AND {older}"), values)]
    return fleet.answer("census", rows)


_HOSTS = """
SELECT c.host, b.name, b.version, b.architecture, b.family, s.state
FROM builds b JOIN sets s ON s.build = b.build JOIN chosen c ON c.sets = s.part
WHERE {where}
ORDER BY b.name, b.family, b.version_key, b.version, c.host, b.architecture
"""
_VERSIONS = """
SELECT CAST(sum(w.hosts) AS BIGINT), b.name, b.version, b.architecture, b.family, min(w.first_host)
FROM builds b JOIN sets s ON s.build = b.build JOIN weights w ON w.part = s.part
WHERE {where}
GROUP BY b.name, b.version, b.architecture, b.family, b.version_key
ORDER BY b.name, b.family, b.version_key, b.version, b.architecture
"""


def _older(fleet: Fleet, version: str | None) -> tuple[str, list[str]]:
    """The condition that a build is older than a version, by the order of its family."""
    if version is None:
        return "true", []
    parts, values = [], []
    for (name,) in fleet.run("SELECT DISTINCT family FROM chosen ORDER BY family"):
        family = family_named(str(name))
        if family.sort_key is None or family.order("1-1", "2-1") is None:
            count = int(fleet.run("SELECT count(*) FROM chosen WHERE family = ?", [name])[0][0])
            why = f"versions of the {name} family have no order of their own"
            fleet.gaps.append(Gap(f"what is older at {many(count)}", why))
            continue
        parts.append("(b.family = ? AND b.version_key < ?)")
        values += [str(name), family.sort_key(version)]
    return f"({' OR '.join(parts) or 'false'})", values
