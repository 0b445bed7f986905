"""What the histories of hosts tell, day by day: the same step once, at how many hosts."""

from dataclasses import dataclass
from datetime import UTC, datetime

from filigree.fleet.asked import LATER, Fleet, FleetSummary, many
from filigree.model.answer import Answer, Gap


@dataclass(frozen=True, slots=True)
class FleetStepRow:
    """A step of a day (`on`, in UTC; None where no time is told): what was done with a package, in which
    version, at how many hosts, and the first of them."""

    hosts: int
    on: str | None
    action: str
    package: str
    version: str | None
    first_host: str


def fleet_timeline(
    fleet: Fleet, since: datetime | None = None, until: datetime | None = None
) -> Answer[FleetStepRow, FleetSummary]:
    """Every step between two times, in their order. Hosts without any history are a gap."""
    begin = -LATER if since is None else int(since.timestamp())
    end = LATER if until is None else int(until.timestamp())
    text = _STEPS.format(weights=fleet.weights_of("events"), by=fleet.by("w.first_host"))
    values = [begin, end, int(begin == -LATER)]
    rows = [
        FleetStepRow(int(hosts), _day(day), action, package, version, first)
        for hosts, day, action, package, version, first in fleet.run(text, values)
    ]
    silent = int(
        fleet.run("SELECT count(*) FROM chosen WHERE events NOT IN (SELECT part FROM events)")[0][0]
    )
    if silent:
        fleet.gaps.append(Gap(f"what happened at {many(silent)}", "no history is on record there"))
    return fleet.answer("timeline", rows)


def _day(number: int | None) -> str | None:
    return (
        None if number is None else f"{datetime.fromtimestamp(int(number) * 86400, UTC):%Y-%m-%d}"
    )


_STEPS = """
SELECT CAST(sum(w.hosts) AS BIGINT), e.day, e.action, e.package, e.version, min(w.first_host)
FROM (
    SELECT DISTINCT part, CAST(floor(happened_at / 86400.0) AS BIGINT) AS day, action, package, version
    FROM events WHERE (happened_at >= ? AND happened_at <= ?) OR (happened_at IS NULL AND ? = 1)
) e
JOIN ({weights}) w ON w.part = e.part
GROUP BY {by}e.day, e.action, e.package, e.version
ORDER BY e.day, e.package, e.action, e.version
"""
