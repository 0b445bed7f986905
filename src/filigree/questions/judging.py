"""One file against its record. Pure but for one look at the disk, through the jail.

- Nothing is called intact that had nothing to be compared with: that is `unrecorded`.
- Configuration whose content alone differs is `edited`; any other difference is `altered`.
- A directory that is reached through a link is `excused`: administrators move directories so.
- What cannot be reached is `missing` (or `excused` where declared policy leaves it out); what is
  there and cannot be read is `unreadable`.
"""

import sys
from typing import NamedTuple

from filigree.access.jail import Jail
from filigree.model.errors import AccessError, Obstacle
from filigree.model.files import Aspect, Difference, FileRecord, Kind, Observation, Verdict
from filigree.system import System

_EDITABLE = frozenset({Aspect.CONTENT, Aspect.SIZE, Aspect.MODIFIED})


class Judged(NamedTuple):
    """A verdict, the differences it rests on, the bytes that were read for it, and a reason."""

    verdict: Verdict
    differences: tuple[Difference, ...] = ()
    read: int = 0
    reason: str | None = None


def judge(system: System, record: FileRecord, limit: int = sys.maxsize) -> Judged:
    """The verdict on one file. Above `limit` bytes a file is not read: it cannot be what was shipped."""
    digest = record.digest
    algorithm = digest.partition(":")[0] if digest else None
    jail = system.jail
    try:
        seen = jail.observe(record.location, algorithm, limit)
    except AccessError as error:
        return _unreached(record, error)
    if record.kind is not None and seen.kind is not record.kind:
        return _other_kind(jail, record, seen)
    return _compared(system, record, seen)


def _compared(system: System, record: FileRecord, seen: Observation) -> Judged:
    differences = tuple(_differences(system, record, seen))
    read = seen.size if seen.digest else 0
    if not differences:
        compared = record.digest or record.mode is not None or record.kind is Kind.DIRECTORY
        return Judged(Verdict.INTACT if compared else Verdict.UNRECORDED, read=read)
    if record.config and all(d.aspect in _EDITABLE for d in differences):
        return Judged(Verdict.EDITED, differences, read)
    return Judged(Verdict.ALTERED, differences, read)


def _differences(system: System, record: FileRecord, seen: Observation) -> list[Difference]:
    owner, group = system.owner_name(seen.uid), system.group_name(seen.gid)
    pairs = (
        (Aspect.CONTENT, record.digest, seen.digest),
        (Aspect.SIZE, _text(record.size), _text(seen.size)),
        (Aspect.MODE, _octal(record.mode), _octal(seen.mode)),
        (Aspect.OWNER, record.owner, f"#{seen.uid}" if _numeric(record.owner) else owner),
        (Aspect.GROUP, record.group, f"#{seen.gid}" if _numeric(record.group) else group),
        (Aspect.LINK_TARGET, record.link_target, seen.link_target),
    )
    return [
        Difference(aspect, expected, found)
        for aspect, expected, found in pairs
        if expected is not None and expected != found
    ]


def _other_kind(jail: Jail, record: FileRecord, seen: Observation) -> Judged:
    linked = record.kind is Kind.DIRECTORY and seen.kind is Kind.LINK
    if linked and jail.is_directory(record.location):
        return Judged(Verdict.EXCUSED, reason="a directory that is reached through a link")
    found = f"link to {seen.link_target}" if seen.link_target else seen.kind.value
    expected = record.kind.value if record.kind else None
    return Judged(Verdict.ALTERED, (Difference(Aspect.KIND, expected, found),))


def _unreached(record: FileRecord, error: AccessError) -> Judged:
    if error.obstacle is Obstacle.TOO_LARGE:
        return Judged(Verdict.ALTERED, (Difference(Aspect.SIZE, "less", error.what),))
    if not error.absent and error.obstacle is not Obstacle.LOOP:
        return Judged(Verdict.UNREADABLE, reason=error.what)
    if record.excuse is not None:
        return Judged(Verdict.EXCUSED, reason=record.excuse)
    expected = record.kind.value if record.kind else "present"
    found = error.what if error.obstacle is Obstacle.LOOP else None
    return Judged(Verdict.MISSING, (Difference(Aspect.PRESENCE, expected, found),))


def _text(value: int | None) -> str | None:
    return None if value is None else str(value)


def _octal(value: int | None) -> str | None:
    return None if value is None else f"{value:04o}"


def _numeric(name: str | None) -> bool:
    return name is not None and name.startswith("#")
