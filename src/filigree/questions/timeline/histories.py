"""What a system's own histories tell of its packages, and what they should tell and do not.

Rules, before the code that keeps them:

- A version that went and one of the same name that came in the same transaction, or by the same line of a
  log, are one thing: a package that was upgraded. Where nothing tells what came, it is the version that
  goes next, or that is there now.
- A package on record of which no history tells how it came is told by its record. That its history begins
  later explains it; where the history was already told, nothing does.
- What a history tells last of a package must be so on record.
- Within one log time goes on: a step with an earlier time than the one before it is doubtful.
"""

from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from typing import NamedTuple

from filigree.model.events import Action, Clock, Event, earliest
from filigree.model.package import Package
from filigree.questions.asking.naming import user_called
from filigree.questions.timeline.happenings import Deed, Happening
from filigree.questions.timeline.times import EARLY
from filigree.system import System

BEFORE = "its history begins later"
SILENT = "no history of this family tells how packages came"
UNTOLD = "the history does not tell how it came"


class _Step(NamedTuple):
    """A step of a history, and why it is doubtful."""

    event: Event
    doubts: tuple[str, ...]


def package_rows(system: System, events: Sequence[Event], now: datetime) -> Iterator[Happening]:
    """Everything that became of packages: by the histories, and by the records of what they do not
    tell."""
    told = _Told(system)
    steps = list(_doubted(events, now))
    rows = [told.row(step, gone) for step, gone in _paired(steps, told.next_version(events))]
    told.hold_against_record(rows)
    yield from rows
    yield from told.recorded(rows, now)


def _doubted(events: Iterable[Event], now: datetime) -> Iterator[_Step]:
    latest: dict[str, datetime] = {}
    for event in events:
        doubts: list[str] = []
        if event.at is not None:
            before = latest.get(event.told_in)
            ordered = event.clock in (Clock.LOG, Clock.LOCAL_LOG) and not _is_apart(event)
            if ordered and before is not None and event.at < before:
                doubts.append(f"its log goes back here, from {before:%Y-%m-%d %H:%M:%S}")
            latest[event.told_in] = event.at
            if event.at > now + EARLY:
                doubts.append("it is in the future")
        yield _Step(event, tuple(doubts))


def _is_apart(event: Event) -> bool:
    """Whether an event is the only one that its file tells: then there is no order in it."""
    return event.session is None and event.told_in.endswith(f"-{event.version}")


def _paired(
    steps: Sequence[_Step], next_version: Callable[[Event], str | None]
) -> Iterator[tuple[_Step, str | None]]:
    """Each step with the version that it took the place of; what went and what came are one."""
    by_run: dict[tuple[object, ...], list[_Step]] = {}
    for step in steps:
        by_run.setdefault(_together(step.event), []).append(step)
    for held in by_run.values():
        before = _replaced_in(held)
        for place, step in enumerate(held):
            event = step.event
            if event.action is Action.INSTALLED:
                gone = before.get(place)
                yield step, None if gone is None else held[gone].event.version
            elif event.action is Action.REMOVED:
                yield step, event.version
            elif place not in before.values():
                came = event._replace(version=next_version(event))
                yield step._replace(event=came), event.version


def _replaced_in(held: Sequence[_Step]) -> dict[int, int]:
    """Of the steps of one name in one run, which of those that came took the place of which that went:
    first of those side by side, as a log tells both by one line, and then of what is left."""
    found: dict[int, int] = {}
    for near in (True, False):
        for place, step in enumerate(held):
            if step.event.action is not Action.INSTALLED or place in found:
                continue
            for other, one in enumerate(held):
                if (
                    one.event.action is Action.REPLACED
                    and other not in found.values()
                    and one.event.architecture == step.event.architecture
                    and (not near or other == place - 1)
                ):
                    found[place] = other
                    break
    return found


def _together(event: Event) -> tuple[object, ...]:
    where = event.session.identity if event.session is not None else (event.told_in, event.at)
    return event.name, where


class _Told:
    """What is on record, to hold a history against."""

    def __init__(self, system: System) -> None:
        self._system = system
        self._present = [one for one in system.packages if one.state.present]
        self._by_name: dict[str, list[Package]] = {}
        for package in self._present:
            self._by_name.setdefault(package.name, []).append(package)

    def next_version(self, events: Sequence[Event]) -> Callable[[Event], str | None]:
        """What came after a version that was replaced: the one that went next, or that is there now."""
        chains: dict[str, list[Event]] = {}
        for event in events:
            if event.at is not None and event.action is not Action.INSTALLED:
                chains.setdefault(event.name, []).append(event)
        for chain in chains.values():
            chain.sort(key=lambda one: one.at)  # type: ignore[arg-type, return-value]

        def find(event: Event) -> str | None:
            later = [
                one for one in chains.get(event.name, ())
                if event.at is not None and one.at is not None and one.at > event.at
            ]  # fmt: skip
            if later:
                return later[0].version
            here = self._by_name.get(event.name, [])
            return here[0].version if len(here) == 1 else None

        return find

    def row(self, step: _Step, before: str | None) -> Happening:
        """A step of the history as a row."""
        event, session = step.event, step.event.session
        label = event.name if event.architecture is None else f"{event.name}:{event.architecture}"
        return Happening(
            at=event.at, until=session.ended if session else None,
            action=self._deed(event, before), subject=label, package=event.name,
            version=None if event.action is Action.REMOVED else event.version, before=before,
            architecture=event.architecture,
            by=user_called(self._system, session.user if session else None),
            command=session.command if session else None,
            outcome=session.outcome if session else None,
            session=session.identity if session else None, told_in=event.told_in,
            clock=event.clock, explained_by="the system's own history", doubts=list(step.doubts),
            began=session.began if session else None,
        )  # fmt: skip

    def _deed(self, event: Event, before: str | None) -> Deed:
        if event.action is Action.REMOVED:
            return Deed.REMOVED
        if before is None:
            return Deed.INSTALLED
        if event.version is None:
            return Deed.REPLACED
        if before == event.version:
            return Deed.REINSTALLED
        order = self._system.family.order(before, event.version)
        if order is None:
            return Deed.REPLACED
        return Deed.UPGRADED if order < 0 else Deed.DOWNGRADED

    def hold_against_record(self, rows: Sequence[Happening]) -> None:
        """Doubt what is told last of a package and is not so on record."""
        last: dict[str, Happening] = {}
        for row in rows:
            assert row.package is not None
            known = last.get(row.package)
            if row.at is not None and (known is None or known.at is None or known.at <= row.at):
                last[row.package] = row
        for name, row in last.items():
            here = self._by_name.get(name, [])
            if row.action is Deed.REMOVED:
                continue  # that it is here is told by its record, which nothing explains
            if row.version is not None and not here:
                _doubt(row, "nothing on record says that it is here now")
            elif row.version is not None and all(one.version != row.version for one in here):
                versions = ", ".join(sorted(one.version for one in here))
                _doubt(row, f"on record is {versions} now")

    def recorded(self, rows: Sequence[Happening], now: datetime) -> Iterator[Happening]:
        """Packages on record of which no history tells that they came."""
        came: dict[tuple[str, str | None], list[Happening]] = {}
        for row in rows:
            if row.version is not None:
                came.setdefault((row.package or "", row.version), []).append(row)
        first = earliest(rows)
        for package in self._present:
            known = [
                row for row in came.get((package.name, package.version), ())
                if row.architecture in (None, package.architecture)
            ]  # fmt: skip
            if known:
                latest = max(known, key=lambda row: row.at.timestamp() if row.at else 0.0)
                latest.explains.append(package.label)
                _doubt_time(latest, package)
                continue
            yield self._recorded(package, first, now)

    def _recorded(self, package: Package, first: datetime | None, now: datetime) -> Happening:
        at = package.installed_at
        explained: str | None = None
        history = self._system.database.history
        if history is None or not history.arrivals:
            explained = SILENT
        elif first is None or (at is not None and at < first):
            explained = BEFORE if first is not None else "there is no history"
        row = Happening(
            at=at, until=None, action=Deed.RECORDED, subject=f"{package.name}:{package.architecture}",
            package=package.name, version=package.version, before=None,
            architecture=package.architecture, by=None, command=None, outcome=None, session=None,
            told_in=self._system.database.place_of(package), clock=Clock.RECORD,
            explained_by=explained,
        )  # fmt: skip
        if explained is None:
            row.doubts.append(UNTOLD)
        if at is not None and at > now + EARLY:
            row.doubts.append("it is in the future")
        _doubt_time(row, package)
        return row


def _doubt(row: Happening, words: str) -> None:
    row.doubts.append(words)
    row.explained_by = None


def _doubt_time(row: Happening, package: Package) -> None:
    """Nothing can be installed before it was built."""
    if row.at is not None and package.built_at is not None and row.at + EARLY < package.built_at:
        row.doubts.append(f"it was only built at {package.built_at:%Y-%m-%d %H:%M} UTC")
