"""What is not as new as it could be, at how many hosts."""

from dataclasses import dataclass

from filigree.fleet.asked import Fleet, FleetSummary, many
from filigree.model.answer import Answer, Gap


@dataclass(frozen=True, slots=True)
class FleetBehindRow:
    """A package that has a newer version, at so many hosts; `security` is whether it is for security,
    None where nothing tells. It is told by the indexes that each host had when it was seen."""

    hosts: int
    name: str
    installed: str
    candidate: str | None
    repository: str | None
    status: str
    security: bool | None
    advisories: str | None
    first_host: str


def fleet_behind(fleet: Fleet, security: bool = False) -> Answer[FleetBehindRow, FleetSummary]:
    """What has a newer version where: what is for security first, then what most hosts lack; with
    `security` only that. Bad news where an update for security is missing. Hosts that were gathered
    before this was asked of them, or that have no index, are a gap."""
    text = _BEHIND.format(weights=fleet.weights_of("behind"), by=fleet.by("w.first_host"))
    rows = [
        FleetBehindRow(
            hosts=int(hosts), name=name, installed=installed, candidate=candidate,
            repository=repository, status=status, advisories=advisories, first_host=first,
            security=None if urgent is None else bool(urgent),
        )
        for hosts, name, installed, candidate, repository, status, urgent, advisories, first
        in fleet.run(text)
    ]  # fmt: skip
    shown = [row for row in rows if row.security or not security]
    shown.sort(key=lambda row: (not row.security, -row.hosts, row.name, row.installed))
    unasked = int(fleet.run("SELECT count(*) FROM chosen WHERE behind IS NULL")[0][0])
    if unasked:
        why = "they were gathered before that was asked of them"
        fleet.gaps.append(Gap(f"what is behind at {many(unasked)}", why))
    blind = int(fleet.run(_BLIND)[0][0])
    if blind:
        why = "they had no index of any repository when they were seen"
        fleet.gaps.append(Gap(f"what is behind at {many(blind)}", why))
    return fleet.answer("behind", shown, any(row.security for row in rows))


_BEHIND = """
SELECT CAST(sum(w.hosts) AS BIGINT), b.package, b.version, b.candidate, b.repository, b.status,
    max(b.security), min(b.advisories), min(w.first_host)
FROM behind b JOIN ({weights}) w ON w.part = b.part
WHERE b.status <> 'ahead'
GROUP BY {by}b.package, b.version, b.candidate, b.repository, b.status
ORDER BY b.package, b.version, b.status
"""
_BLIND = """
SELECT count(*) FROM chosen c WHERE c.behind IS NOT NULL AND NOT EXISTS (
    SELECT 1 FROM repositories r WHERE r.part = c.repositories AND r.packages > 0
)
"""
