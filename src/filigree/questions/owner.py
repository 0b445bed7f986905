"""Which package a path comes from, and how we know."""

from collections.abc import Iterable
from dataclasses import dataclass

from filigree.model.answer import Answer
from filigree.questions.ownership import ArchivePaths, How, Owned, Owner, OwnerSearch, Paths
from filigree.questions.subjects import match_archives
from filigree.system import System


@dataclass(frozen=True, slots=True)
class OwnerName:
    """A package that a path comes from, and how that is known; the file that it is in, of an archive."""

    name: str
    version: str
    architecture: str
    how: How
    archive: str | None


@dataclass(frozen=True, slots=True)
class PathOwners:
    """A path, what it leads to on the disk (None where nothing is there), and its owners."""

    path: str
    resolved: str | None
    owners: list[OwnerName]


def owner(system: System, paths: Iterable[str], inside: Iterable[str] = ()) -> Answer[PathOwners]:
    """The owners of paths, globs and bare command names. Bad news where one has no owner.

    With archives `inside` which to look, those answer, and not what is installed.
    """
    rows: list[PathOwners] = []
    notes: list[str] = []
    archives = list(inside)
    index: Paths | None = None
    if archives:
        matched = match_archives(system, archives)
        notes += (str(unmatched) for unmatched in matched.unmatched)
        index = ArchivePaths(system, matched.packages)
    search = OwnerSearch(system, index)
    for path in paths:
        found = search.find(path)
        if not found:
            notes.append(f"nothing here is called {path}")
        rows += (_row(system, owned) for owned in found)
    nobodys = sum(not row.owners for row in rows)
    summary = {"paths": len(rows), "owned": len(rows) - nobodys, "of_nobody": nobodys}
    return Answer(
        "owner", system.system_label, rows, summary, system.gaps, notes, bool(nobodys or notes)
    )


def _row(system: System, owned: Owned) -> PathOwners:
    return PathOwners(owned.path, owned.resolved, [_name(system, one) for one in owned.owners])


def _name(system: System, one: Owner) -> OwnerName:
    package, archive = one.package, system.archive_of(one.package)
    path = archive.facts.path if archive else None
    return OwnerName(package.name, package.version, package.architecture, one.how, path)
