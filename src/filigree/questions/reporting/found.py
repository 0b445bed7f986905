"""What stands at the paths on record: read now, for others to keep, or to hold against what is to be."""

import stat
from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

from filigree.access.trees.protocol import Portrait
from filigree.access.workers import share
from filigree.formats.accounts import Accounts
from filigree.model.answer import Answer, Gap
from filigree.model.errors import AccessError
from filigree.model.files import KIND_OF_FORM, FileRecord, Kind
from filigree.system import System

_ALGORITHMS = ("sha256",)
_AT_ONCE = 400
_LIMIT = 1 << 36
"""A file of more bytes is not read: one that is a hole of terabytes would keep anybody busy for hours."""


@dataclass(frozen=True, slots=True)
class FoundSummary:
    """At how many paths on record something stands, and at how many nothing does."""

    paths: int
    missing: int


class _Looked(NamedTuple):
    """What stands at some paths, at how many nothing does, and what could not be read."""

    found: list[FileRecord]
    missing: int
    gaps: list[Gap]


def found_files(system: System) -> Answer[FileRecord, FoundSummary]:
    """What stands at each path that a package has on record, by path: kind, mode, owner, group, size,
    where a link leads, SHA-256. A content that could not be read is a gap; its form is told all the same.
    """
    paths = sorted(
        {one.location for package in system.packages for one in system.database.files(package)}
    )
    jobs = [paths[at : at + _AT_ONCE] for at in range(0, len(paths), _AT_ONCE)]
    looked: dict[int, _Looked] = {}
    # Read here, so that it is told where one of them cannot be.
    people = system.users, system.groups
    for done in share(jobs, lambda job: _look(system, job, *people)):
        if done.result is None:
            job = jobs[done.place]
            gap = Gap(f"{len(job)} paths from {job[0]} on", done.failure or "it failed")
            looked[done.place] = _Looked([], 0, [gap])
        else:
            looked[done.place] = done.result
    every = [looked[place] for place in sorted(looked)]
    for gap in (gap for one in every for gap in one.gaps):
        system.report(gap)
    records = [record for one in every for record in one.found]
    summary = FoundSummary(len(records), sum(one.missing for one in every))
    return Answer("found", system.system_label, records, summary, system.gaps)


def _look(system: System, paths: Sequence[str], users: Accounts, groups: Accounts) -> _Looked:
    looked = _Looked([], 0, [])
    for path in paths:
        try:
            portrait = _portrait(system, path, looked.gaps)
        except AccessError as error:
            if error.absent:
                looked = looked._replace(missing=looked.missing + 1)
            else:
                looked.gaps.append(Gap(path, error.what))
            continue
        looked.found.append(_record(path, portrait, users, groups))
    return looked


def _portrait(system: System, path: str, gaps: list[Gap]) -> Portrait:
    """What stands there; its form alone where its content cannot be read. Raises AccessError."""
    try:
        return system.tree.portray(path, _ALGORITHMS, _LIMIT)
    except AccessError as error:
        if error.absent:
            raise
        portrait = system.tree.portray(path)
        gaps.append(Gap(f"the content of {path}", error.what))
        return portrait


def _record(path: str, seen: Portrait, users: Accounts, groups: Accounts) -> FileRecord:
    """As a record would tell it; who has no name is told by number."""
    kind = KIND_OF_FORM[stat.S_IFMT(seen.mode)]
    return FileRecord(
        path=path, location=path, kind=kind, digest=next(iter(seen.digests), None),
        size=seen.size if kind is Kind.FILE else None, mode=stat.S_IMODE(seen.mode),
        owner=users.name(seen.uid) if users.knows(seen.uid) else f"#{seen.uid}",
        group=groups.name(seen.gid) if groups.knows(seen.gid) else f"#{seen.gid}",
        link_target=seen.link_target,
    )  # fmt: skip
