"""Subjects: how a user points at packages.

    subject = path | glob | name [":" architecture] ["=" version]

A path starts with `/` or `.`, or holds a `/`; a glob holds `*`, `?` or `[`.
"""

import fnmatch
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from difflib import get_close_matches

from filigree.model.errors import BadQuestion
from filigree.model.package import Package
from filigree.questions.ownership import OwnerSearch
from filigree.system import System

_GLOB = re.compile(r"[*?\[]")
_URL = re.compile(r"(?:https?|pkg):")
_ARCHIVE = re.compile(r"\.(?:deb|rpm|t[xgbl]z|pkg\.tar\.(?:zst|xz|gz))$")


@dataclass(frozen=True, slots=True)
class Unmatched:
    """A subject that points at nothing, and what may have been meant."""

    subject: str
    why: str
    suggestions: tuple[str, ...] = ()

    def __str__(self) -> str:
        if not self.suggestions:
            return self.why
        return f"{self.why}; did you mean {', '.join(self.suggestions)}?"


@dataclass(slots=True)
class Matched:
    """The packages that subjects point at, each once, and the subjects that point at none."""

    packages: list[Package] = field(default_factory=list)
    unmatched: list[Unmatched] = field(default_factory=list)


def is_path(subject: str) -> bool:
    """Whether a subject is a path rather than a name."""
    return "/" in subject or subject in (".", "..")


def match_subjects(system: System, subjects: Iterable[str]) -> Matched:
    """The packages on record that the subjects point at, in the order of the subjects."""
    matched = Matched()
    seen: set[int] = set()
    for subject in subjects:
        found = _match(system, subject)
        if isinstance(found, Unmatched):
            matched.unmatched.append(found)
            continue
        for package in found:
            if id(package) not in seen:
                seen.add(id(package))
                matched.packages.append(package)
    return matched


def _match(system: System, subject: str) -> Sequence[Package] | Unmatched:
    if not subject:
        raise BadQuestion("a subject is empty", None, "give a package name, a glob or a path")
    if _URL.match(subject):
        raise BadQuestion(
            f"this kind of subject is not read yet: {subject}",
            None,
            "give a package name, a glob, or a path on the system",
        )
    if is_path(subject):
        return _match_path(system, subject)
    name, architecture, version = split_subject(subject)
    known = [p for p in system.packages if p.state.present or p.version]
    if _GLOB.search(name):
        chooses = re.compile(fnmatch.translate(name)).match
        by_name = [p for p in known if chooses(p.name)]
    else:
        by_name = [p for p in known if p.name == name]
    if not by_name:
        return _unknown_name(system, subject, name)
    found = [
        p
        for p in by_name
        if architecture in (None, p.architecture)
        and (version is None or system.family.compare_versions(p.version, version) == 0)
    ]
    if not found:
        there = tuple(p.label for p in by_name[:3])
        return Unmatched(subject, f"no package on record is {subject}", there)
    return found


def split_subject(subject: str) -> tuple[str, str | None, str | None]:
    """Name, architecture and version of a subject that is no path.

    >>> split_subject("tidegauge:amd64=2:1.4-3")
    ('tidegauge', 'amd64', '2:1.4-3')
    """
    front, _, version = subject.partition("=")
    name, _, architecture = front.partition(":")
    return name, architecture or None, version or None


def _match_path(system: System, subject: str) -> Sequence[Package] | Unmatched:
    owners = OwnerSearch(system).find(subject)
    found = list({id(o.package): o.package for one in owners for o in one.owners}.values())
    if found:
        return found
    if _ARCHIVE.search(subject):
        return Unmatched(
            subject,
            f"{subject} is of no installed package; archives themselves are not read yet",
        )
    return Unmatched(subject, f"no package on record has the path {subject}")


def _unknown_name(system: System, subject: str, name: str) -> Unmatched:
    names = {p.name for p in system.packages if p.state.present}
    holders = [
        p.name
        for p in system.packages
        if p.state.present
        for c in system.database.capabilities(p)[1:]
        if c.name == name
    ]
    if holders:
        close = tuple(dict.fromkeys(holders))
        return Unmatched(subject, f"{name} is no package, but a name that others provide", close)
    close = tuple(get_close_matches(name, names, n=3, cutoff=0.7))
    return Unmatched(subject, f"no package on record is called {subject}", close)
