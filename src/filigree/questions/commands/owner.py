"""Which package a path comes from, and how we know."""

from collections.abc import Iterable
from dataclasses import dataclass

from filigree.model.answer import Answer
from filigree.questions.asking.scopes import Lookup, Scope, looking
from filigree.questions.asking.subjects import match_archives
from filigree.questions.finding.layers import layers_of
from filigree.questions.finding.ownership import (
    ArchivePaths,
    How,
    OfferedSearch,
    Owned,
    Owner,
    OwnerSearch,
    Paths,
)
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System


@dataclass(frozen=True, slots=True)
class OwnerName:
    """A package that a path comes from, and how that is known.

    `archive` is the file that it is in, of an archive; `repository` who offers it, of what is offered.
    """

    name: str
    version: str
    architecture: str
    how: How
    archive: str | None
    repository: str | None


@dataclass(frozen=True, slots=True)
class PathOwners:
    """A path, what it leads to on the disk (None where nothing is there), and its owners.

    `dead_end` is where a link at the path points that leads to nothing. `layers` are those of an image
    that speak of the path, the lowest first; None where there are none.
    """

    path: str
    resolved: str | None
    owners: list[OwnerName]
    dead_end: str | None = None
    layers: list[int] | None = None


@dataclass(frozen=True, slots=True)
class OwnerSummary:
    """How many paths were asked about, how many are from a package, how many are nobody's."""

    paths: int
    owned: int
    of_nobody: int


def owner(
    system: System,
    paths: Iterable[str],
    inside: Iterable[str] = (),
    scope: Scope = Scope.INSTALLED,
    options: RepositoryOptions = EVERYTHING,
) -> Answer[PathOwners, OwnerSummary]:
    """The owners of paths, globs and bare command names. Bad news where one has no owner.

    With archives `inside` which to look, those answer, and not what is installed. Of what is offered the
    packages that would bring a path; of any, those where nothing installed has it.
    """
    with looking(system, scope, options) as lookup:
        return _answer(system, paths, inside, lookup)


def _answer(
    system: System, paths: Iterable[str], inside: Iterable[str], lookup: Lookup
) -> Answer[PathOwners, OwnerSummary]:
    rows: list[PathOwners] = []
    notes = lookup.notes
    archives = list(inside)
    index: Paths | None = None
    if archives:
        matched = match_archives(system, archives)
        notes += (str(unmatched) for unmatched in matched.unmatched)
        index = ArchivePaths(system, matched.packages)
    search = OwnerSearch(system, index)
    offered = OfferedSearch(system, lookup.offered) if lookup.offered else None
    for path in paths:
        found = search.find(path) if lookup.scope is not Scope.AVAILABLE else []
        if offered is not None and not any(owned.owners for owned in found):
            found = _merged(found, offered.find(path))
        if not found:
            notes.append(f"nothing here is called {path}")
        rows += (_row(system, owned) for owned in found)
    if lookup.offered is not None:
        lookup.offered.paths.report_missing()
    nobodys = sum(not row.owners for row in rows)
    summary = OwnerSummary(paths=len(rows), owned=len(rows) - nobodys, of_nobody=nobodys)
    return Answer(
        "owner", system.system_label, rows, summary, system.gaps, notes, bool(nobodys or notes)
    )


def _row(system: System, owned: Owned) -> PathOwners:
    owners = [_name(system, one) for one in owned.owners]
    layers = layers_of(system, owned.path)
    return PathOwners(owned.path, owned.resolved, owners, owned.dead_end, layers)


def _name(system: System, one: Owner) -> OwnerName:
    package, archive = one.package, system.archive_of(one.package)
    path = archive.facts.path if archive else None
    repository = package.repository if one.how is How.OFFERED else None
    return OwnerName(package.name, package.version, package.architecture, one.how, path, repository)


def _merged(here: list[Owned], offered: list[Owned]) -> list[Owned]:
    """What is offered, with what is known of the paths on the disk."""
    there = {owned.path: owned for owned in here}
    brought = [o for o in offered if o.owners]
    if not brought:
        return here or offered
    known = {owned.path for owned in brought}
    rest = [owned for path, owned in there.items() if path not in known]
    return [
        owned._replace(resolved=there[owned.path].resolved if owned.path in there else None)
        for owned in brought
    ] + rest
