"""The commands that say what is wrong, and what runs: findings, running."""

from dataclasses import replace
from datetime import UTC, datetime
from typing import Annotated

import typer

from filigree.cli.asked import Shown
from filigree.cli.options import Gentle, gentle_if, question, typed_path
from filigree.model.errors import BadQuestion
from filigree.model.files import Evidence
from filigree.model.findings import Part, Severity
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System
from filigree.views.options import NO_OPTIONS, FindingsOptions

_PARTS = ", ".join(Part)
_Least = Annotated[Severity, typer.Option("--least", help="Only what is as bad as this, or worse.")]
_FailAt = Annotated[
    Severity, typer.Option("--fail-at", help="From where on it is bad news: exit status 1.")
]
_Rules = Annotated[
    list[str] | None,
    typer.Option(
        "--rule", metavar="RULE", help="Only by this rule; repeatable.", show_default=False
    ),
]
_Only = Annotated[
    list[str] | None,
    typer.Option(
        "--only", metavar="PART,PART…", help=f"Look only at {_PARTS}; repeatable.", show_default=False
    ),
]  # fmt: skip
_Without = Annotated[
    list[str] | None,
    typer.Option(
        "--without", metavar="PART,PART…",
        help="Do not look at these: that is a gap; repeatable.",
        show_default=False,
    ),
]  # fmt: skip
_Waivers = Annotated[
    str | None,
    typer.Option(
        "--waivers", metavar="FILE",
        help="What you accepted, until it changes; judged by --keyring where that is given.",
        show_default=False,
    ),
]  # fmt: skip
_Waived = Annotated[bool, typer.Option("--waived", help="Also tell what is accepted.")]
_Propose = Annotated[
    bool,
    typer.Option(
        "--propose-waivers", help="Write waivers for what is open: to be read before they are kept."
    ),
]
_Settings = Annotated[
    str | None,
    typer.Option(
        "--settings", metavar="FILE", help="Severities, limits, and what is left out.",
        show_default=False,
    ),
]  # fmt: skip
_Explain = Annotated[
    str | None,
    typer.Option(
        "--explain", metavar="RULE", help="Tell what a rule is for, or `all`; nothing is looked at.",
        show_default=False,
    ),
]  # fmt: skip


@question
def findings(
    system: System,
    least: _Least = Severity.LOW,
    fail_at: _FailAt = Severity.HIGH,
    rule: _Rules = None,
    only: _Only = None,
    without: _Without = None,
    waivers: _Waivers = None,
    waived: _Waived = False,
    propose: _Propose = False,
    settings: _Settings = None,
    explain: _Explain = None,
    gentle: Gentle = False,
    *,
    sources: RepositoryOptions,
) -> Shown:
    """What is wrong with this system, worst first."""
    from filigree.cli.progress import ProgressLine
    from filigree.questions.rules.findings import FindingsWish, findings, rules
    from filigree.questions.rules.waivers import load_settings, load_waivers

    if explain is not None:
        return rules(system, explain), NO_OPTIONS
    left = _parts(without)
    if only is not None:
        left |= frozenset(Part) - _parts(only)
    wish = FindingsWish(least, frozenset(rule or ()), left, fail_at, waived=waived, exact=propose)
    if settings is not None:
        told = load_settings(system, typed_path(settings))
        wish = replace(
            wish, severities=told.severities, left_out=told.left_out, index_days=told.index_days,
            policy_days=told.policy_days,
            without=left | told.without, starting=told.starting,
        )  # fmt: skip
    if waivers is not None:
        now = datetime.now(UTC)
        wish = replace(
            wish, waivers=load_waivers(system, typed_path(waivers), sources.keyring, now)
        )
    gentle_if(gentle)
    line = ProgressLine()
    try:
        answer = findings(system, replace(wish, progress=line), sources)
    finally:
        line.close()
    return answer, FindingsOptions(propose)


@question
def running(
    system: System,
    pids: Annotated[
        list[int] | None,
        typer.Argument(metavar="PID", help="Only these processes.", show_default=False),
    ] = None,
    every: Annotated[bool, typer.Option("--all", help="Also what is as it is to be.")] = False,
    evidence: Annotated[
        Evidence, typer.Option(help="The least evidence that counts for what is on the disk.")
    ] = Evidence.RECORD,
    *,
    sources: RepositoryOptions,
) -> Shown:
    """Which programs run now, whose they are, and whether they are what is on the disk."""
    from filigree.questions.running.running import running

    return running(system, pids or (), every, evidence, sources), NO_OPTIONS


def _parts(told: list[str] | None) -> frozenset[Part]:
    known = {one.value: one for one in Part}
    named = [one.strip() for text in told or () for one in text.split(",") if one.strip()]
    unknown = [one for one in named if one not in known]
    if unknown:
        raise BadQuestion(f"there is no part {unknown[0]!r}", None, f"known are {_PARTS}")
    return frozenset(known[one] for one in named)
