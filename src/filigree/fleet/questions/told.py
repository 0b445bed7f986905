"""What hosts tell of keys, repositories, findings and gaps: each once, at how many hosts."""

from dataclasses import dataclass
from datetime import datetime

from filigree.fleet.asked import Fleet, FleetSummary, time_of
from filigree.model.answer import Answer
from filigree.model.findings import Severity, severity_rank
from filigree.questions.rules.findings import every_rule


@dataclass(frozen=True, slots=True)
class FleetKeyRow:
    """A key that so many hosts trust: `everywhere` is at how many it counts for everything."""

    hosts: int
    fingerprint: str
    identity: str | None
    everywhere: int
    weakness: str | None
    expires_at: datetime | None
    first_host: str


@dataclass(frozen=True, slots=True)
class FleetRepositoryRow:
    """A repository that so many hosts have: at how many it is enabled, need not be signed, and of which
    release it is where that is another than the host's. `made_last` is when the newest index was made."""

    hosts: int
    identity: str
    address: str | None
    enabled: int
    unsigned_allowed: int
    signature: str | None
    other_release: str | None
    made_first: datetime | None
    made_last: datetime | None
    first_host: str


@dataclass(frozen=True, slots=True)
class FleetFindingRow:
    """What a rule finds, at how many hosts; `pieces` is of how many things in all."""

    hosts: int
    severity: Severity
    rule: str
    title: str
    pieces: int
    first_host: str


@dataclass(frozen=True, slots=True)
class FleetGapRow:
    """What could not be looked at, at how many hosts; or a snapshot that was refused (`hosts` is 0
    then)."""

    hosts: int
    what: str
    why: str
    first_host: str | None


def fleet_keys(fleet: Fleet) -> Answer[FleetKeyRow, FleetSummary]:
    """Every key, what the fewest hosts trust first."""
    rows = [
        FleetKeyRow(
            int(hosts), print_, identity, int(every or 0), weakness, time_of(expires), first
        )
        for hosts, print_, identity, every, weakness, expires, first in fleet.run(
            _KEYS.format(by=fleet.by("c.host"))
        )
    ]
    return fleet.answer("keys", rows)


_KEYS = """
SELECT count(DISTINCT c.host), k.fingerprint, min(k.identity),
    count(DISTINCT CASE WHEN k.everything = 1 THEN c.host END),
    min(k.weakness), min(k.expires_at), min(c.host)
FROM keys k JOIN chosen c ON c.keys = k.part
GROUP BY {by}k.fingerprint ORDER BY 1, k.fingerprint
"""


def fleet_repos(fleet: Fleet) -> Answer[FleetRepositoryRow, FleetSummary]:
    """Every repository, what the fewest hosts have first."""
    rows = [
        FleetRepositoryRow(
            hosts=int(hosts), identity=identity, address=address, enabled=int(enabled),
            unsigned_allowed=int(unsigned), signature=signature, other_release=other,
            made_first=time_of(made), made_last=time_of(last), first_host=first,
        )
        for (
            hosts, identity, address, enabled, unsigned, signature, other, made, last, first,
        ) in fleet.run(_REPOSITORIES.format(by=fleet.by("c.host")))
    ]  # fmt: skip
    return fleet.answer("repos", rows)


_REPOSITORIES = """
SELECT count(DISTINCT c.host), r.identity, r.address,
    count(DISTINCT CASE WHEN r.enabled = 1 THEN c.host END),
    count(DISTINCT CASE WHEN r.unsigned_allowed = 1 THEN c.host END),
    min(r.signature), min(r.other_release), min(r.made_at), max(r.made_at), min(c.host)
FROM repositories r JOIN chosen c ON c.repositories = r.part
GROUP BY {by}r.identity, r.address ORDER BY 1, r.identity, coalesce(r.address, '')
"""


def fleet_findings(fleet: Fleet) -> Answer[FleetFindingRow, FleetSummary]:
    """What rules found: the worst first, each rule once for all hosts, or by host each finding of its
    own. Bad news where one is high or worse."""
    by_host = fleet.wish.by_host
    titles = {one.facts.identity: one.facts.title for one in every_rule()}
    group = "f.rule, f.severity" + (", f.title, c.host" if by_host else "")
    rows = [
        FleetFindingRow(
            int(hosts), Severity(severity), rule, title if by_host else titles.get(rule, title),
            int(pieces or 0), first,
        )
        for hosts, severity, rule, title, pieces, first in fleet.run(f"{_FINDINGS} GROUP BY {group}")
        if severity in list(Severity)
    ]  # fmt: skip
    rows.sort(
        key=lambda row: (
            severity_rank(row.severity),
            row.hosts,
            row.rule,
            row.title,
            row.first_host,
        )
    )
    grave = any(row.severity.at_least(Severity.HIGH) for row in rows)
    return fleet.answer("findings", rows, grave)


_FINDINGS = """
SELECT count(DISTINCT c.host), f.severity, f.rule, min(f.title), sum(f.pieces), min(c.host)
FROM findings f JOIN chosen c ON c.findings = f.part
"""


def fleet_gaps(fleet: Fleet) -> Answer[FleetGapRow, FleetSummary]:
    """What could not be looked at, and what was refused, what concerns the most hosts first."""
    told = fleet.run(_GAPS.format(by=fleet.by("c.host")))
    rows = [FleetGapRow(int(hosts), what, why, first) for hosts, what, why, first in told]
    rows += [
        FleetGapRow(0, what, why, host)
        for what, host, why in fleet.run(
            "SELECT DISTINCT what, host, why FROM refused ORDER BY what, why"
        )
    ]
    return fleet.answer("gaps", rows)


_GAPS = """
SELECT count(DISTINCT c.host) AS hosts, g.what, g.why, min(c.host)
FROM gaps g JOIN chosen c ON c.gaps = g.part
GROUP BY {by}g.what, g.why ORDER BY hosts DESC, g.what, g.why
"""
