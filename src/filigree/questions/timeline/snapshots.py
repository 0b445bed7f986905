"""What snapshots of the same root say of when something happened.

Rules, before the code that keeps them:

- What a snapshot has just as it is now was so when that was taken; what it has otherwise, or has not,
  happened later. That narrows a time, and a file's own time outside of those bounds is wrong.
- What a snapshot did not look at tells nothing.
- A step that an earlier snapshot's history tells, and the root's own no more, is told by the snapshot. A
  step of before a snapshot that its history did not tell was written down afterwards.
"""

from collections.abc import Collection, Iterator, Sequence
from datetime import datetime
from typing import NamedTuple

from filigree.model.errors import AccessError, BadQuestion, NoSystem
from filigree.model.events import Clock, Event, earliest
from filigree.model.files import Kind, Observation
from filigree.model.signatures import SignatureVerdict
from filigree.questions.comparing.comparing import Wish, compare
from filigree.questions.comparing.differences import ChangeKind, What
from filigree.questions.keeping.statement import judge_snapshot
from filigree.questions.timeline.happenings import OF_FILES, Deed, Happening
from filigree.questions.timeline.times import EARLY
from filigree.system import System, open_system

TOLD_NO_MORE = "the root's own history tells it no more"


class Earlier(NamedTuple):
    """A snapshot of the root, and between which times it was taken. `steps` are those of its `events`,
    and `covered` is when its history begins."""

    system: System
    began: datetime
    ended: datetime
    events: list[Event]
    steps: frozenset[tuple[object, ...]]
    covered: datetime | None


def opened(paths: Sequence[str], keyring: Sequence[str], system: System) -> list[Earlier]:
    """Snapshots of a root, the earliest first. Raises BadQuestion where one is none, or of another
    family."""
    found: list[Earlier] = []
    try:
        for path in paths:
            snapshot = _opened(path)
            found.append(_earlier(snapshot, path, system))
            if keyring:
                judge_snapshot(snapshot, keyring)
    except BaseException:
        close(found)
        raise
    return sorted(found, key=lambda one: one.began)


def _opened(path: str) -> System:
    try:
        return open_system(path)
    except NoSystem as error:
        raise BadQuestion(
            f"no snapshot can be opened: {error.what}", path, "name a file that `snapshot` wrote"
        ) from error


def _earlier(snapshot: System, path: str, system: System) -> Earlier:
    taken = snapshot.tree.taken
    if taken is None or snapshot.family.name != system.family.name:
        told = (
            "it is no snapshot" if taken is None else f"it is of the {snapshot.family.name} family"
        )
        snapshot.close()
        raise BadQuestion(told, path, "name a snapshot of this root")
    try:
        began, ended = map(datetime.fromisoformat, (taken.began, taken.ended))
    except ValueError as error:
        snapshot.close()
        raise BadQuestion("it does not say when it was taken", path) from error
    events = snapshot.events()
    steps = frozenset(event.step for event in events)
    return Earlier(snapshot, began, ended, events, steps, earliest(events))


def close(snapshots: Sequence[Earlier]) -> None:
    """Let go of them."""
    for one in snapshots:
        one.system.close()


def snapshot_rows(
    snapshots: Sequence[Earlier], system: System, now: datetime
) -> Iterator[Happening]:
    """That each of them was taken, by whom, and whether that can be believed."""
    for one in snapshots:
        taken = one.system.tree.taken
        assert taken is not None
        told = one.system.root
        row = Happening(
            at=one.began, until=one.ended, action=Deed.KEPT, subject=told, package=None, version=None,
            before=None, architecture=None, by=taken.taken_by, command=None, outcome=None,
            session=None, told_in=told, clock=Clock.AUDITOR, explained_by=_signed(one),
        )  # fmt: skip
        here = system.tree.taken
        other = here is not None and (here.machine, taken.machine)
        if other and None not in other and other[0] != other[1]:
            row.doubts.append("it is of another machine")
        if one.began > now + EARLY:
            row.doubts.append("it is in the future")
        yield row
        for gap in one.system.gaps:
            system.report(gap)


def _signed(one: Earlier) -> str:
    verdict = one.system.snapshot_signature
    taken = one.system.tree.taken
    if verdict is not None and verdict.verdict is SignatureVerdict.GOOD:
        who = verdict.signers[0].identity if verdict.signers else None
        return f"signed by {who or 'a key of your keyring'}"
    if taken is not None and taken.signed:
        return "it is signed, and nobody judged that"
    return "it is unsigned: whoever could write to it could make it say anything"


def narrow(rows: Sequence[Happening], snapshots: Sequence[Earlier], system: System) -> None:
    """Bound when files came to be as they are by what snapshots have of them."""
    for row in rows:
        if row.action not in OF_FILES:
            continue
        now = _observed(system, row.subject)
        for one in snapshots:
            same = _is_same(one.system, system, row, now)
            if same:
                row.until = min(row.until or one.began, one.began)
                if row.at is not None and row.at > one.ended + EARLY:
                    row.doubts.append(f"it was so already when a snapshot was taken, {_when(one)}")
                    row.at, row.clock = None, Clock.AUDITOR
                break
            if same is None:
                continue
            if row.at is None or row.at < one.began - EARLY:
                if row.at is not None and row.clock is Clock.FILE:
                    row.doubts.append(
                        f"it says {row.at:%Y-%m-%d %H:%M} UTC, and was not yet so when a snapshot was "
                        f"taken, {_when(one)}"
                    )
                row.at, row.clock = one.ended, Clock.AUDITOR


def _when(one: Earlier) -> str:
    return f"{one.ended:%Y-%m-%d %H:%M} UTC"


def _is_same(
    snapshot: System, system: System, row: Happening, now: Observation | None
) -> bool | None:
    """Whether a snapshot has a path as it is now; None where it does not tell."""
    try:
        then = snapshot.tree.observe(row.subject)
    except AccessError as error:
        if not error.absent:
            return None
        return row.action is Deed.VANISHED
    if now is None:
        return False if row.action is Deed.VANISHED else None
    form = (then.kind, then.mode, then.uid, then.gid, then.link_target)
    if form != (now.kind, now.mode, now.uid, now.gid, now.link_target):
        return False
    if now.kind is not Kind.FILE:
        return True
    if then.size != now.size:
        return False
    return _same_content(snapshot, system, row.subject)


def _same_content(snapshot: System, system: System, path: str) -> bool | None:
    """By the best digest that the snapshot has; without any nobody can tell."""
    for algorithm in ("sha256", "sha1", "md5"):
        try:
            then = snapshot.tree.observe(path, algorithm).digest
            if then is not None:
                return system.tree.observe(path, algorithm).digest == then
        except AccessError:
            continue
    return None


def _observed(system: System, path: str) -> Observation | None:
    try:
        return system.tree.observe(path)
    except AccessError:
        return None


_SEEN = {
    ChangeKind.CAME: Deed.APPEARED, ChangeKind.GONE: Deed.VANISHED, ChangeKind.ALTERED: Deed.ALTERED,
    ChangeKind.RECORD: Deed.ALTERED,
}  # fmt: skip


_THEN = {
    Deed.APPEARED: "it was not there", Deed.VANISHED: "it was there", Deed.ALTERED: "it was another",
}  # fmt: skip


def between(
    snapshots: Sequence[Earlier], system: System, now: datetime, known: Collection[str]
) -> Iterator[Happening]:
    """What became another from one snapshot to the next, and to what is there now, that nothing explains
    and that is not known yet: a record that was made to fit tells nothing of it."""
    told = set(known)
    ends = [*((one.system, one.began) for one in snapshots[1:]), (system, now)]
    for one, (later, until) in zip(snapshots, ends, strict=True):
        for row in compare(one.system, later, Wish(unexplained=True)).records:
            deed = _SEEN.get(row.change)
            is_file = row.what is What.FILE
            if deed is None or row.subject in told or not (is_file or row.what is What.PACKAGE):
                continue
            told.add(row.subject)
            yield Happening(
                at=one.ended, until=until, action=deed, subject=row.subject, package=row.package,
                version=None if is_file else row.after, before=None, architecture=None, by=None,
                command=None, outcome=None, session=None, told_in=one.system.root,
                clock=Clock.AUDITOR, explained_by=None,
                doubts=[f"{_THEN[deed]} when a snapshot was taken, {_when(one)}: {row.why}"],
                aspects=row.aspects, rank=row.rank,
            )  # fmt: skip


def forgotten(snapshots: Sequence[Earlier], events: Collection[Event]) -> list[tuple[Event, bool]]:
    """The steps that snapshots tell and the root does no more; and whether that is because its history
    begins later now, as one that was rotated does."""
    known = {event.step for event in events}
    first = earliest(events)
    found: dict[tuple[object, ...], tuple[Event, bool]] = {}
    for one in snapshots:
        for event in one.events:
            if event.step not in known and event.step not in found:
                rotated = first is not None and event.at is not None and event.at < first
                place = f"{one.system.root}:{event.told_in}"
                found[event.step] = event._replace(told_in=place), rotated
    return list(found.values())


def written_afterwards(snapshots: Sequence[Earlier], event: Event) -> str | None:
    """Why a step was not written down when it says; None where nothing speaks against it."""
    for one in reversed(snapshots):
        if event.at is None or event.at > one.began - EARLY:
            continue
        if one.covered is not None and event.at >= one.covered:
            return (
                None
                if event.step in one.steps
                else f"it was not yet told when a snapshot was taken, {_when(one)}"
            )
    return None
