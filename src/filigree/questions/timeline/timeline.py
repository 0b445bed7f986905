"""What happened to a system, in order, of all that tells.

Each time is told with the clock that it rests on, and nothing of it is proof: whoever owns a machine owns
its logs and its clock. What speaks against a time, and what nothing explains, is told.
"""

import fnmatch
from bisect import bisect_left
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.model.events import Clock, Event, earliest
from filigree.questions.asking.silence import report_silence
from filigree.questions.asking.subjects import close_names, is_path, split_subject
from filigree.questions.timeline.files import changed_rows, stray_rows
from filigree.questions.timeline.happenings import (
    OF_FILES,
    OF_PACKAGES,
    Deed,
    Happening,
    in_order,
    span_of,
)
from filigree.questions.timeline.histories import package_rows
from filigree.questions.timeline.others import index_rows, key_rows, layer_rows
from filigree.questions.timeline.snapshots import (
    TOLD_NO_MORE,
    Earlier,
    between,
    close,
    forgotten,
    narrow,
    opened,
    snapshot_rows,
    written_afterwards,
)
from filigree.questions.timeline.times import moment_from, moment_seen, span_from
from filigree.questions.verifying.verdicts import VerifyProgress
from filigree.system import System


@dataclass(frozen=True, slots=True)
class TimelineWish:
    """What of a timeline is told: since and until a time as people write them, only some deeds, only what
    nothing explains, only what happened within a time of something. `snapshots` are files of earlier
    states, judged by `keyring`. `now` is when it is asked, for tests."""

    since: str | None = None
    until: str | None = None
    actions: frozenset[Deed] = frozenset()
    unexplained: bool = False
    around: str | None = None
    within: str = "1 hour"
    snapshots: tuple[str, ...] = ()
    keyring: tuple[str, ...] = ()
    now: datetime | None = None
    progress: Callable[[VerifyProgress], None] | None = None


EVERYTHING = TimelineWish()


@dataclass(frozen=True, slots=True)
class TimelineSummary:
    """The counts of what is told: `sessions` are transactions, `doubtful` what cannot be as it is told.

    `history_from` is when the system's own history begins, None where it has none. `seen_at` is when the
    root was seen.
    """

    happenings: int
    sessions: int
    unexplained: int
    doubtful: int
    by_action: dict[Deed, int]
    by_clock: dict[Clock, int]
    first: datetime | None
    last: datetime | None
    history_from: datetime | None
    seen_at: datetime


def timeline(
    system: System, subjects: Iterable[str] = (), wish: TimelineWish = EVERYTHING
) -> Answer[Happening, TimelineSummary]:
    """Everything that happened, the earliest first. Bad news where something told is unexplained, or a
    subject is unknown.

    Subjects are packages, whether they are still there or not, globs of them, and paths. Raises
    BadQuestion for times and snapshots that are none.
    """
    seen = moment_seen(system.system_label.seen_at, wish.now or datetime.now(UTC))
    since = moment_from(wish.since, seen) if wish.since else None
    until = moment_from(wish.until, seen, end=True) if wish.until else None
    if since is not None and until is not None and until < since:
        raise BadQuestion("it would end before it begins", None, "name the earlier time first")
    wanted = list(subjects)
    snapshots = opened(wish.snapshots, wish.keyring, system)
    try:
        rows, first = _every(system, wanted, wish, snapshots, seen)
    finally:
        close(snapshots)
    rows.sort(key=in_order)
    notes: list[str] = []
    if wanted:
        rows = _chosen(system, rows, wanted, notes)
    if wish.around is not None:
        rows = _around(system, rows, wish, notes)
    told = [row for row in rows if _is_told(row, wish, since, until)]
    summary = TimelineSummary(
        happenings=len(told), sessions=len({row.session for row in told if row.session}),
        unexplained=sum(row.explained_by is None for row in told),
        doubtful=sum(bool(row.doubts) for row in told),
        by_action=dict(Counter(row.action for row in told)),
        by_clock=dict(Counter(row.clock for row in told)), first=span_of(told)[0],
        last=span_of(told)[1], history_from=first, seen_at=seen,
    )  # fmt: skip
    return Answer(
        "timeline", system.system_label, told, summary, system.gaps, notes,
        bad_news=bool(notes) or bool(summary.unexplained),
    )  # fmt: skip


def _every(
    system: System, wanted: list[str], wish: TimelineWish, snapshots: list[Earlier], now: datetime
) -> tuple[list[Happening], datetime | None]:
    """All that can be told by the deeds that are wished for, in no order; and when the history begins."""
    wished = wish.actions or frozenset(Deed)
    report_silence(system, "history", "what happened to packages before now")
    events = system.events()
    rows: list[Happening] = []
    if wished & OF_PACKAGES:
        rows += _packages(system, events, snapshots, now)
    if wished & OF_FILES:
        files = _files(system, wanted, wish, wished, now)
        narrow(files, snapshots, system)
        rows += files
        if snapshots:
            rows += between(snapshots, system, now, {row.subject for row in files})
    if Deed.FETCHED in wished:
        rows += index_rows(system, now)
    if Deed.TRUSTED in wished:
        rows += key_rows(system, now)
    if Deed.BUILT in wished:
        rows += layer_rows(system, now)
    if Deed.KEPT in wished:
        rows += snapshot_rows(snapshots, system, now)
    return rows, earliest(events)


def _packages(
    system: System, events: list[Event], snapshots: list[Earlier], now: datetime
) -> Iterable[Happening]:
    lost = forgotten(snapshots, events)
    late = {
        (event.at, event.name, event.version): why
        for event in events
        if snapshots and (why := written_afterwards(snapshots, event)) is not None
    }
    gone = {(event.told_in, event.name, event.at): rotated for event, rotated in lost}
    for row in package_rows(system, [*events, *(event for event, _ in lost)], now):
        rotated = gone.get((row.told_in or "", row.package or "", row.at))
        if rotated is not None:
            row.explained_by = "a snapshot of before its history was rotated" if rotated else None
            if not rotated:
                row.doubts.append(TOLD_NO_MORE)
        why = late.get((row.at, row.package or "", row.version))
        if why is not None:
            row.doubts.append(why)
            row.explained_by = None
        yield row


def _files(
    system: System, wanted: list[str], wish: TimelineWish, wished: Collection[Deed], now: datetime
) -> list[Happening]:
    found: list[Happening] = []
    if set(wished) & {Deed.ALTERED, Deed.EDITED, Deed.VANISHED}:
        here = {one.name for one in system.packages if one.state.present}
        only = [one for one in wanted if one in here]
        asked = only if wanted and len(only) == len(wanted) else None
        found += changed_rows(system, asked, now, wish.progress)
    if Deed.APPEARED in wished and (not wanted or any(is_path(one) for one in wanted)):
        found += stray_rows(system, now)
    return found


# -- what of it is told ---------------------------------------------------------------------


def _chosen(
    system: System, rows: Sequence[Happening], wanted: Iterable[str], notes: list[str]
) -> list[Happening]:
    """The rows of some subjects; what none is of is noted, with what may have been meant."""
    found: dict[int, Happening] = {}
    for subject in wanted:
        matching = _matching(system, rows, subject)
        if not matching:
            names = {row.package for row in rows if row.package is not None}
            close = close_names(split_subject(subject)[0], names)
            hint = f"; did you mean {', '.join(close)}?" if close else ""
            notes.append(f"nothing is told of {subject}{hint}")
        found.update((id(row), row) for row in matching)
    return [row for row in rows if id(row) in found]


def _matching(system: System, rows: Sequence[Happening], subject: str) -> list[Happening]:
    if not subject:
        raise BadQuestion("a subject is empty", None, "give a package name, a glob or a path")
    if is_path(subject):
        path = system.real(subject)
        owners = {one.name for one in system.owners_of(subject)}
        return [
            row for row in rows
            if row.subject in (subject, path) or fnmatch.fnmatchcase(row.subject, subject)
            or (row.package in owners and row.action in OF_PACKAGES)
        ]  # fmt: skip
    name, architecture, version = split_subject(subject)
    return [
        row for row in rows
        if row.package is not None and fnmatch.fnmatchcase(row.package, name)
        and (architecture is None or row.architecture in (None, architecture))
        and (version is None or version in (row.version, row.before))
    ]  # fmt: skip


def _around(
    system: System, rows: Sequence[Happening], wish: TimelineWish, notes: list[str]
) -> list[Happening]:
    """What happened within a time of something, and in the transactions that it was part of."""
    assert wish.around is not None
    wide = span_from(wish.within)
    anchors = [row for row in _matching(system, rows, wish.around) if row.at is not None]
    own = [row for row in anchors if row.action in OF_FILES]
    if is_path(wish.around) and own:
        anchors = own  # what became of the file itself, and not of its whole package
    if not anchors:
        notes.append(f"no time is told of {wish.around}")
        return []
    sessions = {row.session for row in anchors if row.session}
    times = sorted(row.at for row in anchors if row.at is not None)
    return [row for row in rows if row.session in sessions or _is_near(row, times, wide)]


def _is_near(row: Happening, times: Sequence[datetime], wide: timedelta) -> bool:
    """Whether a row is near one of some times, the earliest of them first."""
    if row.at is None:
        return False
    place = bisect_left(times, row.at)
    return any(abs(row.at - at) <= wide for at in times[max(0, place - 1) : place + 1])


def _is_told(
    row: Happening, wish: TimelineWish, since: datetime | None, until: datetime | None
) -> bool:
    if wish.actions and row.action not in wish.actions:
        return False
    if wish.unexplained and row.explained_by is not None:
        return False
    if row.at is None:
        # What has no time may have been at any: it is told, unless its latest possible time is over.
        return since is None or row.until is None or row.until >= since
    return (since is None or row.at >= since) and (until is None or row.at < until)
