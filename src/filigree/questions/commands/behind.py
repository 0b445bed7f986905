"""What has a newer version, which of it is for security, and what is ahead of every repository."""

from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from enum import StrEnum

from filigree.model.answer import Answer, Gap, iso
from filigree.model.choices import Choice, Offering
from filigree.model.needs import Capability, Relation, terms_of
from filigree.model.package import Package
from filigree.model.repositories import Advisory, Reference
from filigree.questions.asking.silence import report_silence
from filigree.questions.dependencies.satisfaction import satisfies
from filigree.questions.offers.catalogue import Catalogue, open_catalogue
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System


class UpdateStatus(StrEnum):
    """How an installed package stands to what is offered.

    `different`: another version is offered, and nothing tells which of the two is newer.
    """

    BEHIND = "behind"
    REPLACED = "replaced"
    HELD = "held"
    PASSED_OVER = "passed-over"
    BACKWARDS = "backwards"
    DIFFERENT = "different"
    AHEAD = "ahead"

    @property
    def missing(self) -> bool:
        """Whether something newer is there that is not installed, or may be."""
        return self in _MISSING


_MISSING = frozenset({
    UpdateStatus.BEHIND, UpdateStatus.REPLACED, UpdateStatus.HELD, UpdateStatus.PASSED_OVER,
    UpdateStatus.DIFFERENT,
})  # fmt: skip


@dataclass(frozen=True, slots=True)
class AdvisoryRow:
    """An advisory that speaks of a version newer than the installed one."""

    identity: str
    kind: str
    severity: str | None
    title: str | None
    issued_at: datetime | None
    references: list[Reference]


@dataclass(frozen=True, slots=True)
class BehindRow:
    """One installed package, and the version that the system's rules would take. Size in bytes.

    `candidate_name` is another name than `name` where the package was replaced. `why_security` says in
    words why it is for security; `why` why a newer version is not simply taken. `security` is None where
    the family has no way to tell.
    """

    name: str
    architecture: str
    installed: str
    candidate: str | None
    repository: str | None
    size: int | None
    security: bool | None
    advisories: list[AdvisoryRow]
    held: bool
    status: UpdateStatus
    candidate_name: str | None
    why_security: str | None
    why: str | None


@dataclass(frozen=True, slots=True)
class BehindSummary:
    """How what is installed stands to what is offered. `size` in bytes, of what is behind or replaced.

    `security` counts what is missing for security; None where the family's repositories never tell.
    """

    installed: int
    not_offered: int
    security: int | None
    behind: int
    replaced: int
    held: int
    passed_over: int
    backwards: int
    different: int
    ahead: int
    size: int
    asked_at: datetime
    newest_index_at: datetime | None
    oldest_index_at: datetime | None
    keys_of: str
    advisories_told: bool


def behind(
    system: System, security: bool = False, options: RepositoryOptions = EVERYTHING
) -> Answer[BehindRow, BehindSummary]:
    """What is installed and not as new as it could be, or newer than anything that is offered.

    With `security` only what is for security. Bad news where an update for security is missing. An
    index that has expired is a gap: what is newer cannot be known from it.
    """
    with open_catalogue(system, options) as offered:
        rows = sorted(_rows(system, offered), key=lambda row: (row.name, row.architecture))
        told = offered.notices.tells_advisories
        if not told and report_silence(system, "advisories", "what of it is for security"):
            rows = [replace(row, security=None) for row in rows]
        _report_expired(system, offered)
        guessed = sum(row.status is UpdateStatus.DIFFERENT for row in rows)
        if guessed:
            report_silence(system, "order", f"whether {guessed:,} other versions are newer")
        summary = _summary(system, offered, rows)
        notes = offered.notes
        shown = [row for row in rows if row.security] if security else rows
        return Answer(
            "behind", system.system_label, shown, summary, system.gaps, notes,
            bad_news=bool(notes)
            or any(bool(row.security) and row.status.missing for row in rows),
        )  # fmt: skip


def _rows(system: System, offered: Catalogue) -> Iterator[BehindRow]:
    present = [p for p in system.packages if p.state.present]
    names = list(dict.fromkeys(p.name for p in present))
    advisories = offered.notices.advisories(names)
    replaced = _replacements(system, offered, present)
    for here, choices in offered.choices(present, offered.called(names)):
        if not here:
            continue
        newest = _newest(offered, here)
        row = _row(offered, newest, choices, advisories.get(newest.name, []))
        if row is not None:
            yield row
        elif newest in replaced:
            yield _replaced(newest, replaced[newest])


def _newest(offered: Catalogue, packages: Sequence[Package]) -> Package:
    """The newest of several; where that would be a guess, the one that is on record first."""
    best = packages[0]
    for package in packages[1:]:
        if _is_newer(offered, package, best):
            best = package
    return best


def _row(
    offered: Catalogue,
    here: Package,
    choices: Sequence[Choice],
    told: Sequence[Advisory],
) -> BehindRow | None:
    offers = [one for choice in choices for one in choice.offers]
    newer, older, unsure = _by_age(offered, here, offers)
    taken = next((choice for choice in choices if choice.taken), None)
    top = newer[0] if newer else None
    speaking = _speaking(offered, here, told, top.package) if top is not None else []
    if not newer and taken is not None:
        # What mends a hole is told of the very version that is offered: whether or not that is newer.
        offered_now = {one.package.version for one in taken.offers if one in unsure}
        speaking = [
            _advisory(one) for one in told if any(fixed[1] in offered_now for fixed in one.fixed)
        ]
    urgent = [one for one in newer if one.repository.security]
    why = _why_security(urgent, speaking)

    def row(status: UpdateStatus, one: Offering | None, words: str | None = None) -> BehindRow:
        return BehindRow(
            name=here.name, architecture=here.architecture, installed=here.version,
            candidate=one.package.version if one else None,
            repository=one.repository.identity if one else None,
            size=one.package.archive_size if one else None, security=bool(why) and status.missing,
            advisories=speaking, held=here.held, status=status, candidate_name=None,
            why_security=why, why=words,
        )  # fmt: skip

    if taken is None or taken.installed or not taken.offers:
        if not newer:
            return (
                row(UpdateStatus.AHEAD, offers[0]) if offers and len(older) == len(offers) else None
            )
        # The rules pass over what is newer: that is the system's own will, but for security.
        verdict = next((c.verdict for c in choices if top in c.offers), None)
        return row(UpdateStatus.PASSED_OVER, top, verdict) if why else None
    best = _best_offer(taken.offers)
    if best in older:
        return row(UpdateStatus.BACKWARDS, best, taken.why)
    if here.held:
        guess = "; that the other is newer is a guess" if best in unsure else ""
        return row(UpdateStatus.HELD, best, f"it is held at its version{guess}")
    return row(UpdateStatus.DIFFERENT if best in unsure else UpdateStatus.BEHIND, best)


def _by_age(
    offered: Catalogue, here: Package, offers: Sequence[Offering]
) -> tuple[list[Offering], list[Offering], list[Offering]]:
    """What is offered that is newer than a package, what is older, and what is another version only."""
    newer: list[Offering] = []
    older: list[Offering] = []
    unsure: list[Offering] = []
    for one in offers:
        order = offered.order(one.package, here)
        if order is None:
            unsure.append(one)
        elif order:
            (newer if order > 0 else older).append(one)
    return newer, older, unsure


def _best_offer(offers: Sequence[Offering]) -> Offering:
    """Of the repositories that offer a version, one that is there for security if any is."""
    return next((one for one in offers if one.repository.security), offers[0])


def _why_security(urgent: Sequence[Offering], told: Sequence[AdvisoryRow]) -> str | None:
    security = [one for one in told if one.kind == "security"]
    if security:
        return ", ".join(one.identity for one in security)
    if urgent:
        return f"{urgent[0].package.version} is offered by {urgent[0].repository.identity}"
    return None


def _speaking(
    offered: Catalogue, here: Package, told: Iterable[Advisory], top: Package
) -> list[AdvisoryRow]:
    """The advisories of versions newer than the installed one, and offered, the newest first.

    What may be such a version is told as one: a hole that is not told of would be the worse mistake.
    """

    def fits(version: str) -> bool:
        fixed = replace(here, version=version)
        after, ahead = offered.order(fixed, here), offered.order(fixed, top)
        return (after is None or after > 0) and (ahead is None or ahead <= 0)

    found = [
        _advisory(one)
        for one in told
        if any(
            architecture in (here.architecture, "") and fits(version)
            for _, version, architecture in one.fixed
        )
    ]
    return sorted(found, key=_issued, reverse=True)


def _advisory(one: Advisory) -> AdvisoryRow:
    return AdvisoryRow(
        one.identity, one.kind, one.severity, one.title, one.issued_at, list(one.references)
    )


def _issued(one: AdvisoryRow) -> tuple[str, str]:
    return iso(one.issued_at) if one.issued_at else "", one.identity


def _replacements(
    system: System, offered: Catalogue, present: Sequence[Package]
) -> dict[Package, Offering]:
    """What is offered in the place of installed packages, under another name."""
    by_name: dict[str, list[Package]] = {}
    for package in present:
        by_name.setdefault(package.name, []).append(package)
    found: dict[Package, Offering] = {}
    for name, newcomer in offered.known_as("obsoletes", by_name):
        if newcomer.name == name or newcomer.name in by_name:
            continue
        offering = offered.offering(newcomer)
        if offering.barred is not None:
            continue
        for package in by_name[name]:
            if _obsoletes(system, offered, newcomer, package):
                known = found.get(package)
                if known is None or _is_newer(offered, newcomer, known.package):
                    found[package] = offering
    return found


def _is_newer(offered: Catalogue, one: Package, other: Package) -> bool:
    """Whether one is surely newer."""
    return (offered.order(one, other) or 0) > 0


def _obsoletes(system: System, offered: Catalogue, newcomer: Package, package: Package) -> bool:
    own = Capability(package.name, package.version)
    return any(
        satisfies(system.database.rules, term, newcomer, package, (own,))
        for need in offered.records(newcomer).needs()
        if need.kind is Relation.OBSOLETES
        for term in terms_of(need.condition)
    )


def _replaced(here: Package, by: Offering) -> BehindRow:
    status = UpdateStatus.HELD if here.held else UpdateStatus.REPLACED
    return BehindRow(
        name=here.name, architecture=here.architecture, installed=here.version,
        candidate=by.package.version, repository=by.repository.identity,
        size=by.package.archive_size, security=False, advisories=[], held=here.held,
        status=status, candidate_name=by.package.name, why_security=None,
        why=f"{by.package.name} takes its place",
    )  # fmt: skip


def _report_expired(system: System, offered: Catalogue) -> None:
    for repository, _ in offered.indexes.tables:
        expires = repository.copy.expires_at if repository.copy else None
        if expires is not None and expires < offered.indexes.now:
            system.report(
                Gap(f"what is new at {repository.identity}", f"its index expired on {iso(expires)}")
            )


def _summary(system: System, offered: Catalogue, rows: Sequence[BehindRow]) -> BehindSummary:
    made = [one.copy.made_at for one, _ in offered.indexes.tables if one.copy and one.copy.made_at]
    present = [p for p in system.packages if p.state.present]
    names = offered.known(p.name for p in present)
    counted = Counter(row.status for row in rows)
    silent = "advisories" in system.family.silent_on and not offered.notices.tells_advisories
    return BehindSummary(
        installed=len(present),
        not_offered=sum(p.name not in names for p in present),
        security=None if silent else sum(bool(row.security) for row in rows),
        behind=counted[UpdateStatus.BEHIND],
        replaced=counted[UpdateStatus.REPLACED],
        held=counted[UpdateStatus.HELD],
        passed_over=counted[UpdateStatus.PASSED_OVER],
        backwards=counted[UpdateStatus.BACKWARDS],
        different=counted[UpdateStatus.DIFFERENT],
        ahead=counted[UpdateStatus.AHEAD],
        size=sum(
            r.size or 0 for r in rows if r.status in (UpdateStatus.BEHIND, UpdateStatus.REPLACED)
        ),
        asked_at=offered.indexes.now,
        newest_index_at=max(made, default=None),
        oldest_index_at=min(made, default=None),
        keys_of=offered.indexes.keys_of,
        advisories_told=offered.notices.tells_advisories,
    )
