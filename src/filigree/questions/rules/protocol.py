"""What a rule is: what it declares, and a function that makes findings of what was observed."""

from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from typing import NamedTuple

from filigree.model.files import Evidence
from filigree.model.findings import Finding, Part, RuleFacts, Severity
from filigree.questions.rules.observed import Observed


class FindingRule(NamedTuple):
    """A rule: its declaration, and what finds what it speaks of."""

    facts: RuleFacts
    judge: Callable[["FindingRule", Observed], Iterator[Finding]]

    def finding(
        self,
        title: str,
        package: str | None = None,
        paths: Sequence[str] = (),
        packages: Sequence[str] = (),
        subjects: Sequence[str] = (),
        evidence: Evidence | None = None,
        **more: object,
    ) -> Finding:
        """A finding by this rule. `more` may be `cause`, `since`, `explained_by`, `state`, `severity`."""
        severity = more.pop("severity", self.facts.severity)
        since = more.pop("since", None)
        assert since is None or isinstance(since, datetime)
        first = {
            "path": paths[0] if paths else "", "package": package or (packages[0] if packages else ""),
            "subject": subjects[0] if subjects else "",
        }  # fmt: skip
        advice = self.facts.ask
        for name, value in first.items():
            advice = advice.replace(f"{{{name}}}", value)
        return Finding(
            rule=self.facts.identity, severity=severity, title=title, package=package,  # type: ignore[arg-type]
            paths=list(paths), packages=list(packages) or ([package] if package else []),
            subjects=list(subjects), count=len(paths) or len(subjects) or len(packages) or 1,
            cause=more.pop("cause", None), evidence=evidence, since=since, advice=advice,  # type: ignore[arg-type]
            explained_by=more.pop("explained_by", None), state=more.pop("state", {}),  # type: ignore[arg-type]
        )  # fmt: skip


_NAMED, _LISTED = 3, 5


def named(paths: Sequence[str], what: str = "files") -> str:
    """Paths in a title: by name where they are few."""
    if len(paths) <= _NAMED:
        return " and ".join([", ".join(paths[:-1]), paths[-1]] if len(paths) > 1 else paths)
    return f"{len(paths):,} {what}"


def listed(names: Sequence[str], what: str) -> str:
    """Names in a title, or how many."""
    return ", ".join(names) if len(names) <= _LISTED else f"{len(names):,} {what}"


def one_part(
    identity: str, severity: Severity, title: str, part: Part, looks_at: str, why: str, mistaken: str,
    ask: str,
) -> RuleFacts:  # fmt: skip
    """The declaration of a rule that takes one part."""
    return RuleFacts(identity, severity, title, (part,), looks_at, why, mistaken, ask)
