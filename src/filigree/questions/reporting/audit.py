"""A whole audit: the answers that make it, asked once, part by part."""

from collections.abc import Callable, Collection, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from enum import StrEnum
from typing import Any

from filigree.model.answer import Answer, Gap, SystemLabel
from filigree.model.errors import BadQuestion
from filigree.model.files import Verdict
from filigree.model.findings import Finding, severity_rank
from filigree.model.signatures import SignatureVerdict
from filigree.questions.commands.behind import behind
from filigree.questions.commands.census import Filter, Order, census
from filigree.questions.commands.draw import draw
from filigree.questions.commands.keys import keys
from filigree.questions.commands.repos import repos
from filigree.questions.commands.survey import survey
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.questions.reporting.by_hand import ByHand, by_hand
from filigree.questions.rules.findings import AS_USUAL, FindingsWish, findings_of
from filigree.questions.rules.observed import Observed
from filigree.questions.timeline.timeline import TimelineWish, timeline
from filigree.questions.verifying.verdicts import VerifyProgress
from filigree.system import System

_DRAWN = 6
"""So many packages of findings are drawn with what is around them."""
_NODES = 40
_ORDER = (Verdict.DOCTORED, Verdict.ALTERED, Verdict.MISSING, Verdict.UNREADABLE, Verdict.EDITED)
_GRAVE = {verdict: place for place, verdict in enumerate(_ORDER)}


class AuditPart(StrEnum):
    """The parts of an audit, in the order in which they are told."""

    FINDINGS = "findings"
    SYSTEM = "system"
    FILES = "files"
    PACKAGES = "packages"
    TIMELINE = "timeline"
    REPOSITORIES = "repositories"
    KEYS = "keys"
    BEHIND = "behind"
    GRAPH = "graph"


@dataclass(frozen=True, slots=True)
class EarlierFindings:
    """What was found of an earlier state: of which, the identities of findings that it did not have, and
    its findings that are found no more, the worst first."""

    system: SystemLabel
    new: frozenset[tuple[str, str]]
    gone: list[Finding]


@dataclass(frozen=True, slots=True)
class Audit:
    """The answers of an audit by part, of which system, when; what could not be looked at, once; what was
    found earlier (None where there is nothing to hold against); and what it takes to check it by hand."""

    system: SystemLabel
    asked_at: datetime
    parts: dict[AuditPart, Answer[Any, Any]]
    gaps: list[Gap]
    earlier: EarlierFindings | None = None
    by_hand: ByHand = field(default_factory=ByHand)


@dataclass(frozen=True, slots=True)
class AuditWish:
    """Which parts are wanted (all without any), what rules are asked of, and an earlier state."""

    parts: Collection[AuditPart] = tuple(AuditPart)
    findings: FindingsWish = AS_USUAL
    since: System | None = None
    progress: Callable[[VerifyProgress], None] | None = None


def audit(
    system: System, wish: AuditWish = AuditWish(), options: RepositoryOptions = EVERYTHING
) -> Audit:
    """Ask all that an audit is made of. Raises BadQuestion for rules and parts that are none."""
    now = wish.findings.now or datetime.now(UTC)
    seen = Observed(system, options, wish.findings.without, now, wish.progress)
    parts: dict[AuditPart, Answer[Any, Any]] = {}
    for part in AuditPart:
        if part in wish.parts:
            answer = _asked(part, system, seen, wish, parts)
            if answer is not None:
                parts[part] = answer
    earlier = None
    if wish.since is not None and AuditPart.FINDINGS in parts:
        before = Observed(wish.since, options, wish.findings.without, now)
        earlier = _held_against(
            parts[AuditPart.FINDINGS].records,
            findings_of(before, wish.findings).records,
            wish.since,
        )
    gaps = list(dict.fromkeys(gap for answer in parts.values() for gap in answer.gaps))
    if wish.since is not None and not _is_vouched(wish.since):
        why = f"no key of yours vouches for {wish.since.root}: somebody could have made it up"
        gaps.append(Gap("what is new", why))
    told = parts.get(AuditPart.FINDINGS)
    checks = ByHand() if told is None else by_hand(told.records, seen)
    return Audit(system.system_label, now, parts, gaps, earlier, checks)


def _held_against(
    now: Sequence[Finding], before: Sequence[Finding], since: System
) -> EarlierFindings:
    here, there = {identity_of(one) for one in now}, {identity_of(one) for one in before}
    gone = [one for one in before if identity_of(one) not in here]
    gone.sort(key=lambda one: (severity_rank(one.severity), one.rule, one.title))
    return EarlierFindings(since.system_label, frozenset(here - there), gone)


def _is_vouched(system: System) -> bool:
    found = system.snapshot_signature
    return found is not None and found.verdict is SignatureVerdict.GOOD


def identity_of(one: Finding) -> tuple[str, str]:
    """What tells a finding from others at every run: its rule, and the package or the first thing that it
    is of."""
    first = one.package or next(iter((*one.paths, *one.subjects, *one.packages)), "")
    return one.rule, first


def parts_named(names: Sequence[str]) -> tuple[AuditPart, ...]:
    """Parts by their names; all without any. Raises BadQuestion for what is none."""
    known = [one.value for one in AuditPart]
    for name in names:
        if name not in known:
            raise BadQuestion(f"there is no part {name}", None, f"known are {', '.join(known)}")
    return tuple(map(AuditPart, names)) or tuple(AuditPart)


def _asked(
    part: AuditPart, system: System, seen: Observed, wish: AuditWish,
    parts: dict[AuditPart, Answer[Any, Any]],
) -> Answer[Any, Any] | None:  # fmt: skip
    options = seen.options
    if part is AuditPart.FINDINGS:
        return findings_of(seen, wish.findings)
    if part is AuditPart.SYSTEM:
        return survey(system, seen.now)
    if part is AuditPart.FILES:
        rows, tally = seen.verdicts, seen.tally
        if tally is None:
            return None
        rows = sorted(rows, key=lambda row: (_GRAVE.get(row.verdict, len(_GRAVE)), row.path))
        return Answer("verify", system.system_label, rows, tally, list(system.gaps))
    if part is AuditPart.PACKAGES:
        return census(system, Filter(), Order.SIZE, options=options)
    if part is AuditPart.TIMELINE:
        return timeline(system, (), TimelineWish(now=seen.now))
    if part is AuditPart.REPOSITORIES:
        return repos(system, now=seen.now, options=options)
    if part is AuditPart.KEYS:
        return keys(system, options=options)
    if part is AuditPart.BEHIND:
        return behind(system, options=options)
    names = list(dict.fromkeys(_packages(parts)))[:_DRAWN]
    return draw(system, names, depth=1, limit=_NODES) if names else None


def _packages(parts: dict[AuditPart, Answer[Any, Any]]) -> Iterator[str]:
    """The packages of findings, of the worst first."""
    told = parts.get(AuditPart.FINDINGS)
    every: list[Finding] = [] if told is None else told.records
    for one in sorted(every, key=lambda one: severity_rank(one.severity)):
        if one.package:
            yield one.package
