"""One file against its record. Pure but for one look at the disk, through the tree.

- Nothing is called intact that had nothing to be compared with: that is `unrecorded`. A file wants
  its content compared, a link its target; of anything else the kind is enough.
- Configuration whose content alone differs is `edited`; any other difference is `altered`.
- A time of change alone is no difference to be judged by, but it is told.
- What the packager does not want to be judged by is looked at all the same: where nothing else
  differs, the file is `excused`, and told.
- What is clean only by the system's own policy (a diversion, an override, an exclusion, a state that is
  on record) is `excused`, with the policy: it is judged without that, too, to know.
- A directory that is reached through a link is `excused` as by policy: administrators move them so.
- Where nothing of a package is to be, nothing may be, unless another package has its own file there.
- Of several digests on record for one file each must hold.
- Of what a record does not say whether it is a file or a link the digest may be that of a link's target.
- A file of another size than it must have is another file: its content need not be read to know it.
- A file that is as it was when its content was read before is not read again, where that is asked for.
- What cannot be reached is `missing` (or `excused` where declared policy leaves it out); what is
  there and cannot be read is `unreadable`.
"""

import hashlib
import os
import stat
import sys
from collections.abc import Callable, Iterator
from typing import NamedTuple

from filigree.access.trees.protocol import Form, Tree
from filigree.model.answer import iso, moment_of
from filigree.model.errors import AccessError, Obstacle
from filigree.model.files import (
    Aspect,
    Difference,
    FileRecord,
    Kind,
    LocalPolicy,
    Observation,
    Seen,
    Sort,
    Verdict,
)
from filigree.model.package import Package
from filigree.system import System

_EDITABLE = frozenset({Aspect.CONTENT, Aspect.SIZE, Aspect.MODIFIED})
_WHOLE = (Kind.FILE, Kind.LINK)
_THROUGH_LINK = "a directory that is reached through a link"


class Judged(NamedTuple):
    """A verdict, the differences it rests on, the bytes that were read for it, and a reason.

    `policy` is the local policy that the verdict rests on, None where it does without. `blank` is whether
    a regular file is there of which nothing on record tells the content.
    """

    verdict: Verdict
    differences: tuple[Difference, ...] = ()
    read: int = 0
    reason: str | None = None
    seen: Seen | None = None
    reused: bool = False
    policy: LocalPolicy | None = None
    blank: bool = False


def judge(
    system: System,
    record: FileRecord,
    limit: int = sys.maxsize,
    before: Seen | None = None,
    read_all: bool = False,
    whose: Package | None = None,
) -> Judged:
    """The verdict on one file. Above `limit` bytes a file is not read: it cannot be what was shipped.

    `before` is how it was when its content was read before: if it still is so, that digest counts. With
    `read_all` a file is read even where its size tells that it is another. `whose` is the package that
    the record is of.
    """
    if record.moot is not None:
        return _vacant(system, record, whose)
    judged = _by_record(system, record, limit, before, read_all)
    if not record.policies:
        return judged
    if judged.verdict.alarming or judged.verdict is Verdict.UNREADABLE:
        return _alarming(system, record, judged, whose)
    if record.plain is not None:
        plain = _by_record(system, record.plain, limit, before, read_all)
        moved = record.plain.location != record.location
        if plain.verdict is judged.verdict and plain.policy is judged.policy and not moved:
            return judged
    excused = judged.verdict in (Verdict.INTACT, Verdict.EXCUSED)
    return judged._replace(
        verdict=Verdict.EXCUSED if excused else judged.verdict,
        reason=_declared(system, record, judged),
        policy=record.policies[0],
    )


def _declared(system: System, record: FileRecord, judged: Judged) -> str:
    """What the policy says, and what stands in the place of a file that was moved away."""
    words = [policy.words for policy in record.policies]
    moved = next((one for one in record.policies if one.sort is Sort.DIVERSION), None)
    if moved is not None:
        words.append(f"at {record.path} stands {_stands(system, record.path)}")
    if judged.reason is not None and judged.reason not in words and record.excuse is None:
        words.append(judged.reason)
    return "; ".join(words)


def _stands(system: System, path: str) -> str:
    """What is at a path that packages moved their file away from, and whose it is."""
    try:
        kind = system.tree.observe(path).kind.value
    except AccessError as error:
        return "nothing" if error.absent else f"what cannot be looked at: {error.what}"
    moved = {one.original: one.keeper for one in system.relocations}
    keeper = moved.get(path)
    owners = [one.name for one in system.owners_of(path) if one.name == keeper]
    return f"a {kind} of {owners[0]}" if owners else f"a {kind} that no package has on record there"


def _alarming(system: System, record: FileRecord, judged: Judged, whose: Package | None) -> Judged:
    """Bad news of a file of which policy speaks: whether it rests on that policy."""
    policy = record.policies[0]
    if policy.sort is Sort.STATE and record.excuse is not None:
        taker = _taker(system, record.path, whose)
        if taker is not None:
            reason = f"{policy.words}; it is a file of {taker} now"
            return judged._replace(verdict=Verdict.EXCUSED, reason=reason, policy=policy)
    aspects = {one.aspect for one in judged.differences}
    if policy.sort is Sort.OVERRIDE and aspects <= {Aspect.MODE, Aspect.OWNER, Aspect.GROUP}:
        return judged._replace(policy=policy, reason=policy.words)
    return judged


def _vacant(system: System, record: FileRecord, whose: Package | None) -> Judged:
    """The verdict where nothing of a package is to be."""
    assert record.moot is not None
    policy = record.policies[0] if record.policies else None
    try:
        seen = system.tree.observe(record.location)
    except AccessError as error:
        if not error.absent:
            return Judged(Verdict.UNREADABLE, reason=error.what)
        return Judged(Verdict.EXCUSED, reason=record.moot, policy=policy)
    taker = _taker(system, record.path, whose)
    if taker is not None:
        reason = f"{record.moot}; it is a file of {taker}"
        return Judged(Verdict.EXCUSED, reason=reason, policy=policy)
    there = Difference(Aspect.PRESENCE, f"nothing: {record.moot}", f"a {seen.kind.value} is there")
    return Judged(Verdict.ALTERED, (there,), reason=record.moot, policy=policy)


def _taker(system: System, path: str, whose: Package | None) -> str | None:
    """Another package whose own file a path is, by its record; None where there is none."""
    for other in system.owners_of(path):
        if other is whose or not other.state.present:
            continue
        real = system.real(path)
        for record in system.database.files(other):
            if record.moot is None and real == system.real(record.location):
                return other.name
    return None


def _by_record(
    system: System, record: FileRecord, limit: int, before: Seen | None, read_all: bool
) -> Judged:
    """The verdict by what a record says, policy and all."""
    if record.moot is not None:
        return Judged(Verdict.EXCUSED, reason=record.moot)
    digest = record.digest
    algorithm = digest.partition(":")[0] if digest else None
    tree = system.tree
    of_size = None if read_all or Aspect.SIZE in record.ignored else record.size
    capable = record.capabilities is not None
    reused = False
    try:
        if before is not None and algorithm == before.digest.partition(":")[0]:
            seen = tree.observe(record.location, None, limit, capable)
            reused = seen.kind is Kind.FILE and before[:4] == _state(seen)
            seen = seen._replace(digest=before.digest) if reused else seen
        if not reused:
            seen = tree.observe(record.location, algorithm, limit, capable, of_size)
    except AccessError as error:
        return _unreached(record, error)
    if record.kind is not None and seen.kind is not record.kind:
        return _other_kind(tree, record, seen)
    if record.digest_of_target and algorithm is not None and seen.link_target is not None:
        target = seen.link_target.encode("utf-8", "surrogateescape")
        told = hashlib.new(algorithm, target, usedforsecurity=False).hexdigest()
        seen = seen._replace(digest=f"{algorithm}:{told}")
    judged = _compared(system, record, seen, reused)
    for other in record.also if seen.kind is Kind.FILE else ():
        if not any(one.aspect in (Aspect.CONTENT, Aspect.SIZE) for one in judged.differences):
            judged = _also_held(system, record, judged, other)
    return judged


def _also_held(system: System, record: FileRecord, judged: Judged, digest: str) -> Judged:
    """A verdict, with a further digest that the record tells of the same file."""
    algorithm = digest.partition(":")[0]
    try:
        found = system.tree.observe(record.location, algorithm).digest
    except AccessError as error:
        return _unreached(record, error)
    if found == digest:
        return judged
    other = Difference(Aspect.CONTENT, digest, found)
    return _weighed(record, (*judged.differences, other))._replace(
        read=judged.read, seen=judged.seen, reused=judged.reused,
        reason="two places of its record contradict each other",
    )  # fmt: skip


def form_of(system: System, record: FileRecord) -> Form | None:
    """What a look must tell of a file for its record to hold, but for its content.

    None where the record does not say all of it, or a look alone cannot tell.
    """
    size, mode, modified = record.size, record.mode, record.modified
    if (
        size is None
        or mode is None
        or modified is None
        or record.capabilities
        or record.time_resolution > 1
    ):
        return None
    uid = system.users.number(record.owner) if record.owner else None
    gid = system.groups.number(record.group) if record.group else None
    if uid is None or gid is None:
        return None
    return (stat.S_IFREG | mode, uid, gid, size, modified)


def _state(seen: Observation) -> tuple[int, int, int, int]:
    return (seen.size, seen.modified, seen.changed, seen.inode)


def _compared(system: System, record: FileRecord, seen: Observation, reused: bool) -> Judged:
    judged = _weighed(record, tuple(_differences(system, record, seen)))
    if seen.digest is None or seen.kind is not Kind.FILE:
        blank = seen.kind is Kind.FILE and judged.verdict is Verdict.UNRECORDED
        return judged._replace(blank=True) if blank else judged
    read = 0 if reused else seen.size
    return judged._replace(read=read, seen=Seen(*_state(seen), seen.digest), reused=reused)


def _weighed(record: FileRecord, differences: tuple[Difference, ...]) -> Judged:
    ignored = tuple(d for d in differences if d.aspect in record.ignored)
    counted = tuple(d for d in differences if d.aspect not in record.ignored)
    if any(d.aspect is not Aspect.MODIFIED for d in counted):
        edited = record.config and all(d.aspect in _EDITABLE for d in counted)
        return Judged(Verdict.EDITED if edited else Verdict.ALTERED, counted)
    if any(d.aspect is not Aspect.MODIFIED for d in ignored):
        return Judged(Verdict.EXCUSED, ignored, 0, "its packager expects it to change")
    whole = record.digest if record.kind is not Kind.LINK else record.link_target
    enough = record.kind not in (None, *_WHOLE) or whole is not None
    return Judged(Verdict.INTACT if enough else Verdict.UNRECORDED, counted)


def _differences(system: System, record: FileRecord, seen: Observation) -> list[Difference]:
    found: list[Difference] = []
    if record.digest is not None:
        # What was not read, because its size is another, is not said to have another content.
        unread = seen.digest is None and record.size not in (None, seen.size)
        if not unread and record.digest != seen.digest:
            if record.digest_of_target and seen.link_target is not None:
                # Where it was to lead nothing tells, but its digest.
                found.append(Difference(Aspect.LINK_TARGET, record.digest, seen.link_target))
            else:
                found.append(Difference(Aspect.CONTENT, record.digest, seen.digest))
    # What a record is silent on is not even put into words: most are silent on most.
    if record.size is not None and record.size != seen.size:
        found.append(Difference(Aspect.SIZE, str(record.size), str(seen.size)))
    if record.mode is not None and record.mode != seen.mode:
        found.append(Difference(Aspect.MODE, _octal(record.mode), _octal(seen.mode)))
    if record.link_target is not None and record.link_target != seen.link_target:
        found.append(Difference(Aspect.LINK_TARGET, record.link_target, seen.link_target))
    if record.device is None and record.modified is None and record.capabilities is None:
        return [*found, *_other_owners(system, record, seen)]
    return [*found, *_rarer(record, seen), *_other_owners(system, record, seen)]


def _rarer(record: FileRecord, seen: Observation) -> Iterator[Difference]:
    """What not every family's records tell."""
    if record.device is not None:
        is_device = seen.kind in (Kind.BLOCK_DEVICE, Kind.CHARACTER_DEVICE)
        device = _device(record.device)
        there = _device(seen.device) if is_device else "none"
        if device != there:
            yield Difference(Aspect.DEVICE, device, there)
    if record.modified is not None:
        told = _moment(record.modified, record.time_resolution)
        there = _moment(seen.modified // 10**9, record.time_resolution)
        if told != there:
            yield Difference(Aspect.MODIFIED, told, there)
    if record.capabilities is not None:
        carried = _carried(seen.capabilities)
        if _carried(record.capabilities) != carried:
            yield Difference(Aspect.CAPABILITIES, _carried(record.capabilities), carried)


def _other_owners(system: System, record: FileRecord, seen: Observation) -> list[Difference]:
    found = []
    if record.owner is not None and _is_another(
        system.users.number(record.owner), seen.uid, bool(system.users.numbers)
    ):
        there = _person(record.owner, seen.uid, system.users.name)
        found.append(Difference(Aspect.OWNER, record.owner, there))
    if record.group is not None and _is_another(
        system.groups.number(record.group), seen.gid, bool(system.groups.numbers)
    ):
        there = _person(record.group, seen.gid, system.groups.name)
        found.append(Difference(Aspect.GROUP, record.group, there))
    return found


def _is_another(expected: int | None, found: int, told: bool) -> bool:
    """Whether somebody else owns it; what no list of the root's tells is a gap already."""
    return expected != found and (expected is not None or told)


def _other_kind(tree: Tree, record: FileRecord, seen: Observation) -> Judged:
    linked = record.kind is Kind.DIRECTORY and seen.kind is Kind.LINK
    if linked and tree.is_directory(record.location):
        policy = LocalPolicy(Sort.LINK, record.location, _THROUGH_LINK)
        return Judged(Verdict.EXCUSED, reason=_THROUGH_LINK, policy=policy)
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


def _octal(value: int) -> str:
    return f"{value:04o}"


def _person(expected: str, number: int, name: Callable[[int], str]) -> str:
    """Who it is instead, told as the record tells it: by number or by name."""
    return f"#{number}" if expected.startswith("#") else name(number)


def _device(number: int) -> str:
    return f"{os.major(number)}:{os.minor(number)}"


def _moment(seconds: int, time_resolution: int) -> str:
    """A time as far as the record tells it."""
    seconds -= seconds % time_resolution
    moment = moment_of(seconds)
    return f"{seconds} s" if moment is None else iso(moment)


def _carried(capabilities: str | None) -> str | None:
    return None if capabilities is None else capabilities or "none"
