"""What became of each host from one time to another, and what of it nothing explains."""

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from filigree.fleet.asked import Fleet, FleetSummary, many
from filigree.model.answer import Answer, Gap


class Changed(StrEnum):
    """What may have changed."""

    FILE = "file"
    KEY = "key"
    REPOSITORY = "repository"
    PACKAGE = "package"


@dataclass(frozen=True, slots=True)
class ChangedRow:
    """One difference of one host. `explained_by` is the step of the host's own history, or the change
    of the package, that accounts for it; None where nothing does."""

    host: str
    what: Changed
    change: str
    subject: str
    before: str | None
    after: str | None
    explained_by: str | None


def changed(
    fleet: Fleet, since: datetime, until: datetime | None
) -> Answer[ChangedRow, FleetSummary]:
    """What differs at each host between what was seen last at two times, what nothing explains first. Bad
    news where something is unexplained."""
    both = fleet.choose("later", until)
    fleet.choose("earlier", since)
    pairs = int(fleet.run("SELECT count(*) FROM later l JOIN earlier e ON e.host = l.host")[0][0])
    if pairs < both:
        fleet.gaps.append(
            Gap(many(both - pairs), "there is no snapshot of them as of the first time")
        )
    moved = _packages(fleet)
    rows = [*moved]
    packages = {(row.host, row.subject): row for row in moved}
    for kind, table, subject, value in (
        (Changed.FILE, "deviations", "t.path", "concat(t.verdict, ' ', coalesce(t.digest, ''))"),
        (Changed.KEY, "keys", "t.fingerprint", "coalesce(t.identity, '')"),
        (Changed.REPOSITORY, "repositories", "t.identity",
         "concat(coalesce(t.address, ''), CASE WHEN t.enabled = 1 THEN ' enabled' ELSE ' disabled' END)"),
    ):  # fmt: skip
        rows += _others(fleet, kind, table, subject, value, packages)
    rows.sort(key=lambda row: (row.explained_by is not None, row.host, row.what, row.subject))
    return fleet.answer("changed", rows, any(row.explained_by is None for row in rows))


def _packages(fleet: Fleet) -> list[ChangedRow]:
    before = _only_in(fleet, "earlier", "later")
    after = _only_in(fleet, "later", "earlier")
    steps = {(h, n, v): f"{action} by the history" for h, n, v, action in fleet.run(_STEPS)}
    rows = []
    for host, name in sorted({*before, *after}):
        was, is_ = before.get((host, name)), after.get((host, name))
        change = "came" if was is None else "gone" if is_ is None else "altered"
        why = steps.get((host, name, is_)) or (
            steps.get((host, name, was)) if is_ is None else None
        )
        # The same version with other files is no step of any history.
        rows.append(ChangedRow(
            host, Changed.PACKAGE, change, name, was, is_, None if was == is_ else why
        ))  # fmt: skip
    return rows


def _only_in(fleet: Fleet, one: str, other: str) -> dict[tuple[str, str], str]:
    """The packages that each host has at one time, in builds that it has not at the other one."""
    names = {"one": one, "other": other}
    fleet.engine.keep("pairs", _PAIRS.format(**names))
    fleet.engine.keep("moved", _MOVED)
    told = fleet.run(_ONLY_IN.format(**names))
    return {(str(host), str(name)): str(version) for host, name, version in told}


# Sets that differ, each pair of them once: many hosts have the same.
_PAIRS = """
SELECT DISTINCT e.sets AS mine, o.sets AS theirs FROM {one} e JOIN {other} o ON o.host = e.host
WHERE e.sets <> o.sets
"""
_MOVED = """
SELECT p.mine AS mine, p.theirs AS theirs, b.name AS name, min(b.version) AS version
FROM pairs p
JOIN sets s ON s.part = p.mine
LEFT JOIN sets t ON t.part = p.theirs AND t.build = s.build
JOIN builds b ON b.build = s.build
WHERE t.build IS NULL
GROUP BY p.mine, p.theirs, b.name
"""
_ONLY_IN = """
SELECT e.host, m.name, m.version
FROM {one} e JOIN {other} o ON o.host = e.host
JOIN moved m ON m.mine = e.sets AND m.theirs = o.sets
"""
# A clock of a log may be a day off, for want of a zone.
_STEPS = """
SELECT l.host, v.package, v.version, min(v.action)
FROM later l JOIN earlier e ON e.host = l.host
JOIN events v ON v.part = l.events
WHERE e.sets <> l.sets AND v.happened_at > e.taken_at - 86400
GROUP BY l.host, v.package, v.version
"""


def _others(
    fleet: Fleet, kind: Changed, table: str, subject: str, value: str,
    packages: dict[tuple[str, str], ChangedRow],
) -> list[ChangedRow]:  # fmt: skip
    owner = "t.package" if kind is Changed.FILE else "NULL"
    text = (
        f"SELECT c.host, {subject}, {value}, {owner} FROM {{one}} c JOIN {{other}} o ON o.host = "
        f"c.host JOIN "
        f"{table} t ON t.part = c.{table} WHERE c.{table} <> o.{table}"
    )
    before: dict[tuple[str, str], tuple[str, str | None]] = {}
    after: dict[tuple[str, str], tuple[str, str | None]] = {}
    for held, one, other in ((before, "earlier", "later"), (after, "later", "earlier")):
        for host, what, told, package in fleet.run(text.format(one=one, other=other)):
            held[str(host), str(what)] = (str(told).strip(), package)
    rows = []
    for key in sorted({*before, *after}):
        was, is_ = before.get(key), after.get(key)
        if (was and was[0]) == (is_ and is_[0]):
            continue
        change = "came" if was is None else "gone" if is_ is None else "altered"
        package = (is_ or was or ("", None))[1]
        move = packages.get((key[0], package)) if package else None
        why = None
        if move is not None and move.explained_by is not None and is_ is None:
            why = f"{package} {move.change}: {move.explained_by}"
        rows.append(ChangedRow(
            key[0], kind, change, key[1], was and was[0], is_ and is_[0], why
        ))  # fmt: skip
    return rows
