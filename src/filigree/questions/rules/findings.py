"""What is wrong with a system, worst first, each thing told once."""

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from importlib.metadata import entry_points

from filigree.formats.office_files import Waiver
from filigree.model.answer import Answer, Gap
from filigree.model.errors import BadQuestion
from filigree.model.findings import Finding, Part, RuleFacts, Severity, severity_rank
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.questions.rules import nobodys_files, others, package_files, trust
from filigree.questions.rules.observed import Observed
from filigree.questions.rules.protocol import FindingRule
from filigree.questions.rules.waivers import Waivers, exact
from filigree.questions.verifying.verdicts import VerifyProgress
from filigree.system import System

GROUP = "filigree.rules"
"""The group of entry points by which rules from elsewhere are found: each names a Rule, or several."""


@dataclass(frozen=True, slots=True)
class FindingsWish:
    """What of the findings is told: those at least so bad, of these rules, about these packages or paths.

    `without` are parts that are not looked at; `fail_at` decides what is bad news. An office's own
    settings: `severities` gives rules other severities, `left_out` names rules that are not asked,
    `index_days` is how old an index may be, `policy_days` how long policy is new, `starting` are globs
    of places that start things. `waivers` are what was accepted; with `exact`, or any of those, each
    finding's state has the digest of every file. With `waived` also what was accepted is told.
    """

    least: Severity = Severity.LOW
    rules: frozenset[str] = frozenset()
    without: frozenset[Part] = frozenset()
    fail_at: Severity = Severity.HIGH
    severities: tuple[tuple[str, Severity], ...] = ()
    left_out: frozenset[str] = frozenset()
    now: datetime | None = None
    progress: Callable[[VerifyProgress], None] | None = None
    index_days: int | None = None
    policy_days: int | None = None
    starting: tuple[str, ...] = ()
    waivers: tuple[Waiver, ...] = ()
    exact: bool = False
    waived: bool = False


@dataclass(frozen=True, slots=True)
class FindingsSummary:
    """How many findings there are, whether told or not, by severity and by rule those that are open;
    `rules` counts those that were asked, `left_out` names those that were not. `fail_at` is from where on
    it is bad news, `waived` how many were accepted."""

    findings: int
    told: int
    by_severity: dict[Severity, int]
    by_rule: dict[str, int]
    rules: int
    left_out: list[str]
    fail_at: Severity
    paths: int
    waived: int


AS_USUAL = FindingsWish()


@dataclass(frozen=True, slots=True)
class RulesSummary:
    """How many rules are told."""

    rules: int


def rules(system: System, name: str = "all") -> Answer[RuleFacts, RulesSummary]:
    """What rules declare of themselves: of one by its name, or of `all`. Raises BadQuestion for none."""
    every = [rule.facts for rule in every_rule()]
    told = [one for one in every if name in ("all", one.identity)]
    if not told:
        raise BadQuestion(
            f"no rule is called {name}", None, _close(name, [one.identity for one in every])
        )
    return Answer("rules", system.system_label, told, RulesSummary(len(told)), system.gaps)


def every_rule() -> tuple[FindingRule, ...]:
    """Every rule, those from elsewhere last. One that takes a name that is taken is left out."""
    found: dict[str, FindingRule] = {}
    for rule in (
        *package_files.RULES,
        *nobodys_files.RULES,
        *trust.RULES,
        *others.RULES,
        *_from_elsewhere(),
    ):
        found.setdefault(rule.facts.identity, rule)
    return tuple(found.values())


def _from_elsewhere() -> Iterator[FindingRule]:
    for point in sorted(entry_points(group=GROUP), key=lambda one: one.name):
        told = point.load()
        for rule in (told,) if isinstance(told, FindingRule) else told:
            if not isinstance(rule, FindingRule):
                raise BadQuestion(f"{point.name} names something that is no rule", point.value)
            yield rule


def findings(
    system: System, wish: FindingsWish = AS_USUAL, options: RepositoryOptions = EVERYTHING
) -> Answer[Finding, FindingsSummary]:
    """Everything that is wrong with a system, the worst first. Bad news where a finding is as bad as
    `fail_at` or worse. Raises BadQuestion for rules that are none."""
    return findings_of(Observed(system, options, wish.without, wish.now, wish.progress), wish)


def findings_of(seen: Observed, wish: FindingsWish) -> Answer[Finding, FindingsSummary]:
    """As `findings`, of a system that others look at, too: each part of it is looked at but once."""
    system = seen.system
    asked = _chosen(every_rule(), wish)
    seen.index_days = wish.index_days or seen.index_days
    seen.policy_days = wish.policy_days or seen.policy_days
    seen.starting = wish.starting
    seen.wanted = {part for rule in asked for part in rule.facts.parts}
    for gap in seen.left_out():
        system.report(gap)
    found = _judged(system, wish, seen, asked, list(_found(asked, seen)))
    open_ones = [one for one in found if not one.waived_by]
    told = [
        one for one in (found if wish.waived else open_ones) if one.severity.at_least(wish.least)
    ]
    summary = FindingsSummary(
        findings=len(found), told=len(told),
        by_severity=dict(Counter(one.severity for one in open_ones)),
        by_rule=dict(Counter(one.rule for one in open_ones)), rules=len(asked),
        left_out=sorted(wish.left_out), fail_at=wish.fail_at,
        paths=len({path for one in found for path in one.paths}), waived=len(found) - len(open_ones),
    )  # fmt: skip
    return Answer(
        "findings", system.system_label, told, summary, system.gaps,
        bad_news=any(one.severity.at_least(wish.fail_at) for one in open_ones),
    )  # fmt: skip


def _judged(
    system: System, wish: FindingsWish, seen: Observed, asked: Sequence[FindingRule],
    found: list[Finding],
) -> list[Finding]:  # fmt: skip
    """Findings with the severities of an office, and with what was accepted of them, in their order."""
    severities = dict(wish.severities)
    found = [
        replace(one, severity=severities[one.rule]) if one.rule in severities else one
        for one in found
    ]
    place = {rule.facts.identity: number for number, rule in enumerate(asked)}
    found.sort(key=lambda one: (severity_rank(one.severity), place[one.rule], one.title))
    if wish.waivers or wish.exact:
        found = [exact(system, one) for one in found]
    if wish.waivers:
        waivers = Waivers(wish.waivers, seen.now)
        found = [waivers.judged(one) for one in found]
        for remark in waivers.remarks(place):
            system.say(remark)
    return found


def _found(rules: Iterable[FindingRule], seen: Observed) -> Iterator[Finding]:
    for rule in rules:
        if any(part in seen.without for part in rule.facts.parts if part is not Part.ARCHIVES):
            continue
        try:
            yield from rule.judge(rule, seen)
        except BadQuestion as error:
            seen.system.report(Gap(f"the rule {rule.facts.identity}", str(error)))


def _chosen(rules: Sequence[FindingRule], wish: FindingsWish) -> list[FindingRule]:
    known = {rule.facts.identity for rule in rules}
    names: Collection[str] = [*wish.rules, *wish.left_out, *(name for name, _ in wish.severities)]
    for name in names:
        if name not in known:
            close = _close(name, known)
            raise BadQuestion(f"no rule is called {name}", None, close)
    return [
        rule for rule in rules
        if (not wish.rules or rule.facts.identity in wish.rules)
        and rule.facts.identity not in wish.left_out
    ]  # fmt: skip


def _close(name: str, known: Collection[str]) -> str:
    from filigree.questions.asking.subjects import close_names

    close = close_names(name, known)
    return f"did you mean {', '.join(close)}?" if close else f"known are {', '.join(sorted(known))}"
