"""What only few hosts have."""

from dataclasses import dataclass
from enum import StrEnum

from filigree.fleet.asked import Fleet, FleetSummary, counted
from filigree.model.answer import Answer, Gap
from filigree.questions.finding.ranks import Rank

AT_MOST = 3


class Rarity(StrEnum):
    """What may be rare, what matters most first."""

    FILE = "file"
    KEY = "key"
    REPOSITORY = "repository"
    PACKAGE = "package"
    BUILD = "build"


@dataclass(frozen=True, slots=True)
class RareRow:
    """Something that so many hosts have, and no others; `which` are those. A file is one of nobody's,
    by its
    path; a build is a package in a version whose files are others than anywhere else."""

    hosts: int
    what: Rarity
    subject: str
    detail: str | None
    which: list[str]


def rare(
    fleet: Fleet, at_most: int = AT_MOST, kinds: frozenset[Rarity] = frozenset(Rarity)
) -> Answer[RareRow, FleetSummary]:
    """What at most so many hosts have: what matters most first, and of that the rarest. Of a family of
    which
    there are no more hosts than that nothing is rare."""
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
    fleet.engine.keep(f"rare_{kind.value}", _HAVE[kind])
    held: dict[tuple[str, str | None], dict[str, None]] = {}
    for subject, detail, host in fleet.run(
        f"SELECT r.subject, r.detail, r.host FROM rare_{kind.value} r JOIN (SELECT subject, detail FROM "
        f"rare_{kind.value} GROUP BY subject, detail HAVING count(DISTINCT host) <= ?) few "
        "ON few.subject = r.subject AND coalesce(few.detail, '') = coalesce(r.detail, '') "
        "WHERE r.host IN (SELECT host FROM many) ORDER BY r.subject, r.detail, r.host",
        [at_most],
    ):
        held.setdefault((subject, detail), {})[host] = None
    rows = [
        RareRow(len(which), kind, subject, detail, list(which))
        for (subject, detail), which in held.items()
    ]
    return sorted(rows, key=lambda row: (_RANKS.get(row.detail or "", 0), row.hosts, row.subject))


_HAVE = {
    Rarity.FILE: (
        "SELECT d.path AS subject, d.role AS detail, c.host AS host FROM deviations d JOIN chosen c "
        "ON c.deviations = d.part WHERE d.verdict = 'stray'"
    ),
    Rarity.KEY: (
        "SELECT k.fingerprint AS subject, k.identity AS detail, c.host AS host FROM keys k JOIN chosen c "
        "ON c.keys = k.part"
    ),
    Rarity.REPOSITORY: (
        "SELECT r.identity AS subject, r.address AS detail, c.host AS host FROM repositories r "
        "JOIN chosen c "
        "ON c.repositories = r.part"
    ),
    Rarity.PACKAGE: (
        "SELECT b.name AS subject, b.family AS detail, c.host AS host FROM builds b JOIN sets s "
        "ON s.build = b.build JOIN chosen c ON c.sets = s.part"
    ),
    Rarity.BUILD: (
        "SELECT concat(b.name, ' ', b.version, ' ', coalesce(b.architecture, '')) AS subject, b.build AS "
        "detail, c.host AS host FROM builds b JOIN sets s ON s.build = b.build JOIN chosen c ON "
        "c.sets = s.part "
        "WHERE concat(b.family, ' ', b.name, ' ', b.version, ' ', coalesce(b.architecture, '')) "
        "IN (SELECT "
        "concat(family, ' ', name, ' ', version, ' ', coalesce(architecture, '')) FROM builds "
        "GROUP BY family, "
        "name, version, architecture HAVING count(*) > 1)"
    ),
}  # fmt: skip
