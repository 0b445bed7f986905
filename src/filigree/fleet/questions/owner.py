"""Whose a path or a digest is, at how many hosts."""

from collections.abc import Sequence
from dataclasses import dataclass

from filigree.fleet.asked import Fleet, FleetSummary
from filigree.fleet.identity import text_of
from filigree.model.answer import Answer


@dataclass(frozen=True, slots=True)
class FleetOwnerRow:
    """A path, and what has it at so many hosts: a package in a version, or nobody. `verdict` is
    `on-record` for what a package has there, or how it was found to be otherwise; `first_host` names
    one of them."""

    hosts: int
    path: str
    package: str | None
    version: str | None
    verdict: str
    digest: str | None
    first_host: str


def fleet_owner(fleet: Fleet, subjects: Sequence[str]) -> Answer[FleetOwnerRow, FleetSummary]:
    """Whose paths are, or files of a digest (`sha256:…`, `md5:…`, or its digits alone). What nothing
    has is a note."""
    rows: list[FleetOwnerRow] = []
    for subject in subjects:
        text = text_of(subject)
        is_path = text.startswith("/")
        where = "path = ?" if is_path else "(digest = ? OR digest LIKE ?)"
        values = [text] if is_path else [text, f"%:{text}"]
        told = {"where": where, "by": fleet.by("c.host")}
        found = [
            FleetOwnerRow(int(hosts), path, name, version, verdict, digest, first)
            for hosts, path, name, version, verdict, digest, first in (
                *fleet.run(_ON_RECORD.format(**told), values),
                *fleet.run(_DEVIATING.format(**told), values),
            )
        ]
        if not found:
            fleet.notes.append(f"no host has {subject}")
        rows += sorted(found, key=lambda row: (row.path, -row.hosts, row.package or ""))
    return fleet.answer("owner", rows)


_ON_RECORD = """
SELECT count(DISTINCT c.host), f.path, b.name, b.version, 'on-record', f.digest, min(c.host)
FROM build_files f JOIN builds b ON b.build = f.build JOIN sets s ON s.build = b.build
JOIN chosen c ON c.sets = s.part
WHERE {where} GROUP BY {by}f.path, b.name, b.version, f.digest
"""
_DEVIATING = """
SELECT count(DISTINCT c.host), d.path, d.package, b.version, d.verdict, d.digest, min(c.host)
FROM deviations d JOIN chosen c ON c.deviations = d.part LEFT JOIN builds b ON b.build = d.build
WHERE {where} GROUP BY {by}d.path, d.package, b.version, d.verdict, d.digest
"""
