"""A host of a store, handed over: what tables hold of it, as the answers that a report is made of."""

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import Any

from filigree.families.registry import family_named
from filigree.fleet.asked import time_of
from filigree.fleet.held import Held, HeldBuild
from filigree.fleet.identity import path_of
from filigree.model.answer import Answer, Gap
from filigree.model.files import Aspect, Difference, Evidence, FileRecord, Kind, Role, Verdict
from filigree.model.findings import Finding, Severity, severity_rank
from filigree.model.package import Package, Reason, State
from filigree.questions.asking.package_urls import url_of
from filigree.questions.commands.behind import BehindRow, UpdateStatus
from filigree.questions.reporting.audit import Audit, AuditPart
from filigree.questions.reporting.inventory import Component, InventorySummary
from filigree.questions.verifying.verdicts import FileVerdict

_REST = Gap(
    "the rest of it",
    "tables hold packages, findings, what is not as it came and what is behind; others of the fleet's "
    "questions tell its keys, repositories and history",
)


def inventory_of(held: Held, with_files: bool) -> Answer[Component, InventorySummary]:
    """A host as an inventory: what needs what is told by names."""
    family = family_named(held.label.family)
    urls = {one.identity: url_of(family, _package(held, one), {}) for one in held.packages}
    needs, unmet = _needs(held)
    records = [
        Component(
            package=_package(held, one), url=urls[one.identity],
            needs=sorted({urls[other] for other in needs.get(one.identity, ()) if other in urls}),
            unmet=sorted(unmet.get(one.identity, ())), outsider=None, told_in=held.label.root,
            files=[*map(_record, held.files_of(one.identity).values())] if with_files else [],
        )
        for one in held.packages
    ]  # fmt: skip
    summary = InventorySummary({"NAME": held.label.label}, len(records), 0, bool(needs), False)
    return Answer("inventory", held.label, records, summary, [*held.gaps, _REST])


def findings_of_held(held: Held) -> Answer[Finding, None]:
    """What rules found of a host when it was gathered, the worst first; of each only the first thing that
    it is made of."""
    rows = [
        Finding(
            rule=row["rule"], severity=Severity(row["severity"]), title=path_of(row["title"]),
            package=row["package"] and path_of(row["package"]),
            paths=_first(row, True), packages=[], subjects=_first(row, False), count=row["pieces"] or 1,
            cause=None, evidence=None, since=time_of(row["since"]), advice="look at the host itself",
            explained_by=None,
        )
        for row in held.rows("findings")
        if row["severity"] in list(Severity)
    ]  # fmt: skip
    rows.sort(key=lambda row: (severity_rank(row.severity), row.rule, row.title))
    return Answer("findings", held.label, rows, None, [*held.gaps, _REST])


def audit_of_held(held: Held, parts: tuple[AuditPart, ...]) -> Audit:
    """An audit of what tables hold, of the wanted parts: findings, files, packages, what is behind."""
    inventory = inventory_of(held, False)
    packages = [one.package for one in inventory.records]
    told: dict[AuditPart, Answer[Any, Any]] = {
        AuditPart.FINDINGS: findings_of_held(held),
        AuditPart.FILES: Answer("verify", held.label, [*_verdicts(held)], None, []),
        AuditPart.PACKAGES: Answer("census", held.label, packages, None, []),
        AuditPart.BEHIND: Answer("behind", held.label, [*_behind(held)], None, []),
    }
    silent = [
        Gap(f"{part.value} of it", "tables do not hold that") for part in parts if part not in told
    ]
    return Audit(
        held.label, datetime.now(UTC), {part: told[part] for part in told if part in parts},
        [*held.gaps, *silent],
    )  # fmt: skip


def _first(row: Mapping[str, Any], path: bool) -> list[str]:
    first = path_of(row["first_of"] or "")
    return [first] if first and first.startswith("/") == path else []


def _package(held: Held, one: HeldBuild) -> Package:
    return Package(
        path_of(one.name), path_of(one.version), path_of(one.architecture), held.label.family,
        state=State(one.state) if one.state in list(State) else State.UNKNOWN,
        reason=Reason(one.reason) if one.reason in list(Reason) else None,
        source=one.source and path_of(one.source), vendor=one.vendor and path_of(one.vendor),
        installed_size=one.size,
    )  # fmt: skip


def _needs(held: Held) -> tuple[dict[str, set[str]], dict[str, set[str]]]:
    """What each build does not work without: other builds of the host by the names that they answer to;
    and the needs that none of those meets."""
    wanted, gives = held.ties()
    here = {one.identity for one in held.packages}
    givers: dict[str, set[str]] = {}
    for build, name in gives:
        if build in here:
            givers.setdefault(name, set()).add(build)
    clauses: dict[tuple[str, int], tuple[str, set[str]]] = {}
    for build, clause, need, name in wanted:
        clauses.setdefault((build, clause), (need, set()))[1].update(givers.get(name, ()))
    met: dict[str, set[str]] = {}
    unmet: dict[str, set[str]] = {}
    for (build, _), (need, others) in clauses.items():
        met.setdefault(build, set()).update(others - {build})
        if not others:
            unmet.setdefault(build, set()).add(path_of(need))
    return met, unmet


def _record(row: tuple[Any, ...]) -> FileRecord:
    path, kind, owner, group, digest, target, _, mode, size = row
    return FileRecord(
        path_of(path), path_of(path), kind=Kind(kind) if kind in list(Kind) else None, digest=digest,
        size=size, mode=mode, owner=owner, group=group, link_target=target and path_of(target),
    )  # fmt: skip


def _verdicts(held: Held) -> Iterator[FileVerdict]:
    places = {one.identity: one for one in held.packages}
    for row in held.rows("deviations"):
        build = places.get(str(row["build"]))
        if row["verdict"] not in list(Verdict) or build is None:
            continue
        aspects = [Aspect(one) for one in (row["aspects"] or "").split() if one in list(Aspect)]
        yield FileVerdict(
            package=path_of(build.name), architecture=build.architecture, path=path_of(row["path"]),
            role=Role(row["role"]), verdict=Verdict(row["verdict"]), evidence=Evidence(row["evidence"]),
            differences=[Difference(one, "as on record", row["digest"] or "another") for one in aspects],
            reason=None, version=path_of(build.version), seen=None,
        )  # fmt: skip


def _behind(held: Held) -> Iterator[BehindRow]:
    for row in held.rows("behind"):
        if row["status"] in list(UpdateStatus):
            yield BehindRow(
                name=path_of(row["package"]), architecture=row["architecture"] or "",
                installed=path_of(row["version"]), candidate=row["candidate"],
                repository=row["repository"] and path_of(row["repository"]), size=None,
                security=None if row["security"] is None else bool(row["security"]), advisories=[],
                held=False, status=UpdateStatus(row["status"]), candidate_name=None, why_security=None,
                why=row["advisories"],
            )  # fmt: skip
