"""What only few hosts have."""

from dataclasses import dataclass
from enum import StrEnum

from filigree.fleet.asked import Fleet, FleetSummary, counted
from filigree.model.answer import Answer, Gap
from filigree.questions.finding.ranks import Rank
from filigree.questions.rules.others import NEED_UNMET

AT_MOST = 3


class Rarity(StrEnum):
    """What may be rare, what matters most first."""

    FILE = "file"
    KEY = "key"
    REPOSITORY = "repository"
    PACKAGE = "package"
    BUILD = "build"
    NEED = "need"


@dataclass(frozen=True, slots=True)
class RareRow:
    """Something that so many hosts have, and no others; `which` are those. A file is one of nobody's,
    by its path; a build is a package in a version whose files are others than anywhere else; a
    need is one that nobody meets there."""

    hosts: int
    what: Rarity
    subject: str
    detail: str | None
    which: list[str]


def rare(
    fleet: Fleet, at_most: int = AT_MOST, kinds: frozenset[Rarity] = frozenset(Rarity)
) -> Answer[RareRow, FleetSummary]:
    """What at most so many hosts have: what matters most first, and of that the rarest. Of a family of
    which there are no more hosts than that nothing is rare."""
    fleet.engine.keep("many", _MANY, [at_most])
    rows = [row for kind in Rarity if kind in kinds for row in _few(fleet, kind, at_most)]
    few = int(
        fleet.run("SELECT count(*) FROM chosen WHERE host NOT IN (SELECT host FROM many)")[0][0]
    )
    if few:
        why = f"there are no more than {at_most} of their family: nothing of theirs is called rare"
        fleet.gaps.append(Gap(f"what is rare at {counted(few, 'host')}", why))
    return fleet.answer("rare", rows)


_MANY = (
    "SELECT c.* FROM chosen c JOIN (SELECT family FROM chosen GROUP BY family HAVING count(*) > ?) f "
    "ON f.family = c.family"
)
_RANKS = {rank.value: place for place, rank in enumerate(Rank)}


def _few(fleet: Fleet, kind: Rarity, at_most: int) -> list[RareRow]:
    part, text = _HAVE[kind]
    if kind in _SELDOM:
        # What is rare is of builds that are: those of them are few.
        fleet.count_builds()
        fleet.engine.keep("seldom", _SELDOM[kind], [at_most] if kind is Rarity.PACKAGE else [])
    fleet.engine.keep("had", f"SELECT DISTINCT subject, detail, part FROM ({text}) told")
    fleet.engine.keep("few", _FEW.format(part=part), [at_most])
    held: dict[tuple[str, str | None], dict[str, None]] = {}
    for subject, detail, host in fleet.run(_WHICH.format(part=part)):
        held.setdefault((subject, detail or None), {})[host] = None
    rows = [
        RareRow(len(which), kind, subject, detail, list(which))
        for (subject, detail), which in held.items()
    ]
    return sorted(rows, key=lambda row: (_RANKS.get(row.detail or "", 0), row.hosts, row.subject))


# A part that many hosts have in common counts as often as there are such hosts.
_FEW = """
SELECT h.subject AS subject, h.detail AS detail
FROM had h
JOIN (SELECT {part} AS part, count(*) AS hosts FROM chosen GROUP BY {part}) w ON w.part = h.part
GROUP BY h.subject, h.detail HAVING sum(w.hosts) <= ?
"""
_WHICH = """
SELECT f.subject, f.detail, c.host
FROM few f JOIN had h ON h.subject = f.subject AND h.detail = f.detail
JOIN chosen c ON c.{part} = h.part
WHERE c.host IN (SELECT host FROM many)
ORDER BY f.subject, f.detail, c.host
"""
_SELDOM = {
    Rarity.PACKAGE: """
SELECT b.build AS build, b.name AS name, b.family AS family
FROM builds b
JOIN (
    SELECT o.name AS name, o.family AS family FROM builds o JOIN build_hosts h ON h.build = o.build
    GROUP BY o.name, o.family HAVING max(h.hosts) <= ?
) few ON few.name = b.name AND few.family = b.family
""",
    Rarity.BUILD: """
SELECT b.build AS build, b.name AS name, b.version AS version,
    coalesce(b.architecture, '') AS architecture
FROM builds b
JOIN (
    SELECT o.family AS family, o.name AS name, o.version AS version,
        coalesce(o.architecture, '') AS architecture
    FROM builds o JOIN build_hosts h ON h.build = o.build
    GROUP BY o.family, o.name, o.version, coalesce(o.architecture, '') HAVING count(*) > 1
) several ON several.family = b.family AND several.name = b.name AND several.version = b.version
    AND several.architecture = coalesce(b.architecture, '')
""",
}
_HAVE = {
    Rarity.FILE: (
        "deviations",
        "SELECT path AS subject, coalesce(role, '') AS detail, part FROM deviations "
        "WHERE verdict = 'stray'",
    ),
    Rarity.KEY: (
        "keys", "SELECT fingerprint AS subject, coalesce(identity, '') AS detail, part FROM keys"
    ),
    Rarity.REPOSITORY: (
        "repositories",
        "SELECT identity AS subject, coalesce(address, '') AS detail, part FROM repositories",
    ),
    Rarity.PACKAGE: (
        "sets",
        "SELECT b.name AS subject, b.family AS detail, s.part AS part FROM seldom b JOIN sets s "
        "ON s.build = b.build",
    ),
    Rarity.BUILD: (
        "sets",
        "SELECT concat(b.name, ' ', b.version, ' ', coalesce(b.architecture, '')) AS subject, "
        "b.build AS detail, s.part AS part FROM seldom b JOIN sets s ON s.build = b.build",
    ),
    Rarity.NEED: (
        "findings",
        "SELECT title AS subject, coalesce(package, '') AS detail, part FROM findings "
        f"WHERE rule = '{NEED_UNMET}'",
    ),
}  # fmt: skip
