"""Subjects: how a user points at packages.

    subject = archive | path | glob | name [":" architecture] ["=" version]

A path starts with `/` or `.`, or holds a `/`; a glob holds `*`, `?` or `[`. A path that is called as
archives are is looked for among the auditor's own files first, and then below the root; of any other
path it is the other way round, and an archive is told by its contents.
"""

import fnmatch
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from difflib import get_close_matches
from typing import TYPE_CHECKING

from filigree.families.registry import is_archive_name
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, BadQuestion, DatabaseError, NotAnArchive
from filigree.model.package import Package
from filigree.questions.asking.package_urls import MARK, Pointed, pointed_by
from filigree.questions.asking.scopes import Lookup, Scope
from filigree.questions.finding.ownership import OwnerSearch, absolute
from filigree.system import System

if TYPE_CHECKING:
    from filigree.questions.offers.catalogue import Catalogue

_GLOB = re.compile(r"[*?\[]")
_URL = re.compile(r"https?://", re.IGNORECASE)


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


def match_subjects(
    system: System, subjects: Iterable[str], lookup: Lookup | None = None
) -> Matched:
    """The packages that the subjects point at, in the order of the subjects.

    By the scope of `lookup` those on record, those that would be taken of what is offered, or the
    first where there are any and else the second.
    """
    lookup = lookup or Lookup(system)
    matched = Matched()
    seen: set[Package] = set()
    for subject in subjects:
        found = _match_in(system, subject, lookup)
        if isinstance(found, Unmatched):
            matched.unmatched.append(found)
            continue
        for package in found:
            if package not in seen:
                seen.add(package)
                matched.packages.append(package)
    return matched


def _match_in(system: System, subject: str, lookup: Lookup) -> Sequence[Package] | Unmatched:
    """What a subject points at, where the scope says that it is looked for."""
    if lookup.offered is None or _URL.match(subject):
        return _match(system, subject)
    if not _is_package_url(subject) and is_path(subject) and is_archive_name(subject):
        return _match(system, subject)
    if lookup.scope is Scope.ANY:
        found = _match(system, subject)
        here = not isinstance(found, Unmatched) and [p for p in found if p.state.present]
        if here and not _GLOB.search(subject):
            return here
        more = _match_offered(system, subject, lookup.offered)
        if isinstance(more, Unmatched):
            return here or (found if lookup.offered.empty else more)
        names = {p.name for p in here or ()}
        return [*(here or ()), *(p for p in more if p.name not in names)]
    return _match_offered(system, subject, lookup.offered)


def _match_offered(
    system: System, subject: str, offered: "Catalogue"
) -> Sequence[Package] | Unmatched:
    """What would be taken of what is offered under a name, a glob or a path."""
    from filigree.questions.offers.candidates import candidates

    _refuse(subject)
    if is_path(subject) and not _is_package_url(subject):
        path = absolute(system, subject)
        rows = offered.paths.glob(path) if _GLOB.search(path) else offered.paths.at(path)
        found = list(dict.fromkeys(package for _, package in rows))
        if not found:
            offered.paths.report_missing()
            return Unmatched(subject, f"nothing that is offered has the path {subject}")
        return candidates(system, offered, found)
    asked = _asked_for(system, subject)
    if asked.why_not is not None:
        return Unmatched(subject, f"{subject}: {asked.why_not}")
    name, architecture = asked.name, asked.architecture
    if _GLOB.search(name):
        chooses = re.compile(fnmatch.translate(name)).match
        by_name = list(offered.packages(lambda one: chooses(one) is not None))
    else:
        by_name = offered.called([name])
    if not by_name:
        return _unknown_offer(subject, name, offered)
    narrowed = [
        p for p in by_name if architecture in (None, p.architecture) and asked.fits(p.version)
    ]
    if not narrowed:
        labels = dict.fromkeys(p.label for p in by_name)
        return Unmatched(subject, f"nothing that is offered is {subject}", tuple(labels)[:3])
    if asked.narrow:
        return list({(p.architecture, p.version): p for p in reversed(narrowed)}.values())
    return candidates(system, offered, narrowed, every_machine=architecture is not None)


def _unknown_offer(subject: str, name: str, offered: "Catalogue") -> Unmatched:
    providers = dict.fromkeys(package.name for _, package in offered.known_as("provides", [name]))
    if providers:
        why = f"{name} is no package, but a name that others provide"
        return Unmatched(subject, why, tuple(providers)[:5])
    close = tuple(close_names(name, offered.names()))
    return Unmatched(subject, f"no repository offers {subject}", close)


def close_names(word: str, names: Iterable[str]) -> list[str]:
    """Names that are written much like a word. Of tens of thousands only the likely are compared."""
    word = word.casefold()
    pairs = {word[at : at + 2] for at in range(len(word) - 1)}
    likely = [
        name
        for name in names
        if abs(len(name) - len(word)) <= 3
        and sum(pair in name for pair in pairs) * 2 >= len(pairs) - 1
    ]
    return get_close_matches(word, sorted(likely), n=3, cutoff=0.7)


def _refuse(subject: str) -> None:
    """Raise BadQuestion where a subject is of a kind that is not read."""
    if not subject:
        raise BadQuestion("a subject is empty", None, "give a package name, a glob or a path")


def _match(system: System, subject: str) -> Sequence[Package] | Unmatched:
    _refuse(subject)
    if _URL.match(subject):
        archives = _match_archives(system, subject)
        return archives or Unmatched(subject, f"there is no archive {subject}")
    if is_path(subject) and not _is_package_url(subject):
        return _match_path(system, subject)
    asked = _asked_for(system, subject)
    if asked.why_not is not None:
        return Unmatched(subject, f"{subject}: {asked.why_not}")
    name, architecture = asked.name, asked.architecture
    known = [p for p in system.packages if p.state.present or p.version]
    if _GLOB.search(name):
        chooses = re.compile(fnmatch.translate(name)).match
        by_name = [p for p in known if chooses(p.name)]
    else:
        by_name = [p for p in known if p.name == name]
    if not by_name:
        return _unknown_name(system, subject, name)
    found = [p for p in by_name if architecture in (None, p.architecture) and asked.fits(p.version)]
    if not found:
        there = tuple(p.label for p in by_name[:3])
        return Unmatched(subject, f"no package on record is {subject}", there)
    return found


def _is_package_url(subject: str) -> bool:
    return subject.startswith(MARK)


def _asked_for(system: System, subject: str) -> Pointed:
    """What a subject points at that is no path: by its parts, or as a package URL."""
    if _is_package_url(subject):
        return pointed_by(system, subject)
    name, architecture, version = split_subject(subject)
    if version is None:
        return Pointed(name, architecture, lambda _: True)
    same = system.family.compare_versions
    return Pointed(name, architecture, lambda there: same(there, version) == 0, narrow=True)


def match_archives(system: System, subjects: Iterable[str]) -> Matched:
    """The archives that the subjects point at, as paths or globs of the auditor's own."""
    matched = Matched()
    for subject in subjects:
        found = _match_archives(system, subject)
        if isinstance(found, Unmatched):
            matched.unmatched.append(found)
        elif not found:
            matched.unmatched.append(Unmatched(subject, f"there is no archive {subject}"))
        else:
            matched.packages += found
    return matched


def split_subject(subject: str) -> tuple[str, str | None, str | None]:
    """Name, architecture and version of a subject that is no path.

    >>> split_subject("tidegauge:amd64=2:1.4-3")
    ('tidegauge', 'amd64', '2:1.4-3')
    """
    front, _, version = subject.partition("=")
    name, _, architecture = front.partition(":")
    return name, architecture or None, version or None


def _match_path(system: System, subject: str) -> Sequence[Package] | Unmatched:
    if is_archive_name(subject):
        return _match_archives(system, subject) or _match_owned(system, subject)
    found = _match_owned(system, subject)
    if isinstance(found, Unmatched) and not _GLOB.search(subject):
        # A path that is no archive is of nobody's: that is the better thing to say.
        return _match_archives(system, subject, called_so=False) or found
    return found


def _match_archives(
    system: System, subject: str, called_so: bool = True
) -> list[Package] | Unmatched:
    """The archives that a path or a glob of the auditor's own points at; none where nothing is there.

    What is there, and is no archive that can be read, is said; of several the others are kept. Where it
    is not `called_so`, only what starts as an archive is one.
    """
    globbed = _GLOB.search(subject) and not _URL.match(subject)
    paths = system.own_files(subject) if globbed else [subject]
    found: list[Package] = []
    wrong: list[Unmatched] = []
    for path in paths:
        try:
            found.append(system.archive(path).package)
        except AccessError as error:
            if called_so and not error.absent:
                wrong.append(Unmatched(subject, f"{path} cannot be read: {error.what}"))
        except DatabaseError as error:
            if not called_so and isinstance(error, NotAnArchive):
                continue
            wrong.append(Unmatched(subject, f"{path} is no archive that can be read: {error.what}"))
    for unmatched in wrong if found else wrong[1:]:
        system.report(Gap(unmatched.subject, unmatched.why))
    return found or (wrong[0] if wrong else [])


def _match_owned(system: System, subject: str) -> Sequence[Package] | Unmatched:
    owners = OwnerSearch(system).find(subject)
    found = list({o.package: o.package for one in owners for o in one.owners}.values())
    if found:
        return found
    if is_archive_name(subject):
        return Unmatched(subject, f"there is no archive {subject}")
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
    if is_archive_name(subject) and system.own_files(subject):
        return Unmatched(subject, f"no package on record is called {subject}", (f"./{subject}",))
    close = tuple(get_close_matches(name, names, n=3, cutoff=0.7))
    return Unmatched(subject, f"no package on record is called {subject}", close)
