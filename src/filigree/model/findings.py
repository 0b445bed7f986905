"""Findings: what is wrong or doubtful, made of all that belongs together; and rules that find it."""

from dataclasses import dataclass, field
from datetime import datetime
from enum import StrEnum
from typing import NamedTuple

from filigree.model.files import Evidence


class Severity(StrEnum):
    """How bad a finding is, the worst first."""

    CRITICAL = "critical"
    HIGH = "high"
    MEDIUM = "medium"
    LOW = "low"

    def at_least(self, other: "Severity") -> bool:
        """Whether it is as bad as another one, or worse."""
        return _ORDER[self] <= _ORDER[other]


_ORDER = {one: place for place, one in enumerate(Severity)}


def severity_rank(one: Severity) -> int:
    """Its place, from the worst."""
    return _ORDER[one]


class Part(StrEnum):
    """What rules look at, and what can be left out: each costs something of its own."""

    FILES = "files"
    ARCHIVES = "archives"
    STRAYS = "strays"
    REPOSITORIES = "repositories"
    KEYS = "keys"
    NEEDS = "needs"
    HISTORY = "history"
    RUNNING = "running"


class RuleFacts(NamedTuple):
    """What a rule declares of itself, for people: its page is made of this.

    `identity` is stable. `looks_at` is what it takes, `why` why that matters, `mistaken` how it can be
    wrong, `ask` the question that goes on from it, in words; `{path}`, `{package}` and `{subject}` in it
    stand for the first of what was found.
    """

    identity: str
    severity: Severity
    title: str
    parts: tuple[Part, ...]
    looks_at: str
    why: str
    mistaken: str
    ask: str


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing that is wrong or doubtful. `title` says what, `package` whose it is, None for nobody's.

    `paths`, `packages` and `subjects` (keys, repositories …) are all that it is made of, `count` how
    many. `cause` is the likely cause, with its grounds, None where none is known; `explained_by` what
    accounts for a part of it. `since` is when it began at the latest, as far as times can be believed.
    `state` is what exactly was found of each path or subject: a waiver accepts that, and no other.
    """

    rule: str
    severity: Severity
    title: str
    package: str | None
    paths: list[str]
    packages: list[str]
    subjects: list[str]
    count: int
    cause: str | None
    evidence: Evidence | None
    since: datetime | None
    advice: str
    explained_by: str | None
    state: dict[str, str] = field(default_factory=dict)
    waived_by: list[str] = field(default_factory=list)
