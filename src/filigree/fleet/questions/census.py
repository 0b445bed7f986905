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
    """One package in one version: at how many hosts. `first_hosts` names the first of them."""

    hosts: int
    name: str
    version: str
    architecture: str | None
    family: str
    first_hosts: list[str]


NAMED = 5


def fleet_census(
    fleet: Fleet, names: Sequence[str], older_than: str | None = None, by_version: bool = False
) -> Answer[FleetCensusRow | FleetVersionsRow, FleetSummary]:
    """Where packages are, by name or glob; those alone that are `older_than` a version; each host by
    itself
    or `by_version`, older ones first. What matches nothing is a note."""
    matches = " OR ".join(["b.name LIKE ? ESCAPE '!'"] * len(names)) or "true"
    older, values = _older(fleet, older_than)
    fleet.engine.keep(
        "found",
        "SELECT c.host AS host, b.name AS name, b.version AS version, b.architecture AS architecture, "
        "b.family AS family, s.state AS state, b.version_key AS version_key "
        "FROM builds b JOIN sets s ON s.build = b.build JOIN chosen c ON c.sets = s.part "
        f"WHERE ({matches}) AND {older}",
        [*(like_of(text_of(one)) for one in names), *values],
    )
    for one in names:
        if not fleet.run(
            "SELECT name FROM builds WHERE name LIKE ? ESCAPE '!' LIMIT 1", [like_of(text_of(one))]
        ):
            fleet.notes.append(f"no host has a package called {one}")
    if by_version:
        return fleet.answer("census", _versions(fleet), bad_news=False)
    rows: list[FleetCensusRow | FleetVersionsRow] = [
        FleetCensusRow(*row) for row in fleet.run(
            "SELECT host, name, version, architecture, family, state FROM found "
            "ORDER BY name, family, version_key, version, host, architecture"
        )
    ]  # fmt: skip
    return fleet.answer("census", rows)


def _versions(fleet: Fleet) -> list[FleetCensusRow | FleetVersionsRow]:
    told = fleet.run(
        "SELECT count(DISTINCT host), name, version, architecture, family FROM found "
        "GROUP BY name, version, architecture, family, version_key "
        "ORDER BY name, family, version_key, version, architecture"
    )
    named: dict[tuple[object, ...], list[str]] = {}
    for host, *key in fleet.run(
        f"SELECT host, name, version, architecture, family FROM (SELECT *, row_number() OVER "
        f"(PARTITION BY name, "
        f"version, architecture, family ORDER BY host) AS place FROM found) f WHERE place <= "
        f"{NAMED} ORDER BY host"
    ):
        named.setdefault(tuple(key), []).append(str(host))
    return [
        FleetVersionsRow(int(count), name, version, architecture, family,
                         named.get((name, version, architecture, family), []))
        for count, name, version, architecture, family in told
    ]  # fmt: skip


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
