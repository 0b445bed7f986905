"""What became of packages from one root to another, and whether the system's own history tells of it."""

from collections.abc import Callable, Iterator, Sequence
from datetime import datetime
from functools import cached_property
from typing import NamedTuple

from filigree.model.events import Action, Event, earliest
from filigree.model.files import FileRecord
from filigree.model.package import Package
from filigree.questions.comparing.differences import ChangeKind, Compared, What
from filigree.questions.finding.ranks import Rank
from filigree.system import System

NO_HISTORY = "no history of this family tells what happened to packages"
NO_EVENT = "the system's own history tells of no such change"
_Place = tuple[str, str]
_OVER = 4


class PackageChange(NamedTuple):
    """A package that came, went, or is there in another version: which stood there before and after."""

    kind: ChangeKind
    before: Package | None
    after: Package | None

    def is_told_by(self, event: Event, arrivals: bool) -> bool:
        """Whether a step of a history is of this very change: what came was installed, what went removed;
        where a history tells no `arrivals`, that the other version was replaced is all it tells. A step
        without a version is of none."""
        if event.action is Action.INSTALLED:
            return self.after is not None and event.version == self.after.version
        if self.before is None or event.version != self.before.version:
            return False
        if self.after is None:
            return event.action is Action.REMOVED
        return event.action is Action.REPLACED and not arrivals

    @property
    def words(self) -> str:
        """For people: what became of it."""
        one = self.after or self.before
        assert one is not None
        if self.before is None:
            return f"{one.name} {one.version} came"
        if self.after is None:
            return f"{one.name} {one.version} went"
        if self.kind is ChangeKind.REBUILT:
            return f"{one.name} {one.version} was built anew"
        return f"{one.name} went from {self.before.version} to {self.after.version}"


class PackageChanges:
    """The packages of two roots. `moved` are those whose files may be others, by name and
    architecture."""

    def __init__(self, before: System, after: System) -> None:
        self._before = before
        self._after = after
        self.moved: dict[_Place, list[PackageChange]] = {}
        self._same: list[tuple[Package, Package]] = []
        older, newer = _by_place(before), _by_place(after)
        for place in sorted({*older, *newer}):
            self._pair(place, older.get(place, []), newer.get(place, []))

    def _pair(self, place: _Place, older: list[Package], newer: list[Package]) -> None:
        versions_before = {one.version for one in older}
        versions_after = {one.version for one in newer}
        went = [one for one in older if one.version not in versions_after]
        came = [one for one in newer if one.version not in versions_before]
        changes: list[PackageChange] = []
        for before, after in zip(went, came, strict=False):
            order = self._after.family.order(before.version, after.version)
            kind = ChangeKind.REPLACED
            if order is not None and order != 0:
                kind = ChangeKind.NEWER if order < 0 else ChangeKind.OLDER
            changes.append(PackageChange(kind, before, after))
        changes += (PackageChange(ChangeKind.CAME, None, one) for one in came[len(went) :])
        changes += (PackageChange(ChangeKind.GONE, one, None) for one in went[len(came) :])
        by_version = {one.version: one for one in newer}
        for before in older:
            now = by_version.get(before.version)
            if now is None:
                continue
            if _build(before) != _build(now):
                changes.append(PackageChange(ChangeKind.REBUILT, before, now))
            else:
                self._same.append((before, now))
        if changes:
            self.moved[place] = changes

    def moves_of(self, packages: Sequence[Package]) -> list[PackageChange]:
        """What became of some packages, where they are others now."""
        found: dict[int, PackageChange] = {}
        for package in packages:
            for change in self.moved.get((package.name, package.architecture), ()):
                if package in (change.before, change.after):
                    found[id(change)] = change
        return list(found.values())

    def rows(self) -> Iterator[Compared]:
        """Every difference between packages, each with what explains it."""
        for (name, architecture), changes in self.moved.items():
            for change in changes:
                told, why = self._told(name, change)
                was, is_ = (None if one is None else one.version for one in change[1:])
                yield _row(change.kind, f"{name}:{architecture}", name, was, is_, told, why)
        for before, after in self._same:
            yield from self._small(before, after)

    def _small(self, before: Package, after: Package) -> Iterator[Compared]:
        subject = f"{after.name}:{after.architecture}"
        pairs = (
            (ChangeKind.STATE, before.state.value, after.state.value),
            (ChangeKind.HELD, _held(before), _held(after)),
            (ChangeKind.REASON, before.reason, after.reason),
            (ChangeKind.ORIGIN, before.repository, after.repository),
        )  # fmt: skip
        for kind, was, is_ in pairs:
            if was != is_:
                yield _row(kind, subject, after.name, was, is_, None, "a decision of somebody's")

    def records(self, touched: Callable[[Package], bool]) -> Iterator[Compared]:
        """Packages that stayed, and whose records tell something else all the same. What is told of files
        is asked of those whose records were `touched`."""
        for before, after in self._same:
            older = self._before.database.fields(before)
            newer = self._after.database.fields(after)
            names = sorted(n for n in {*older, *newer} if older.get(n) != newer.get(n))
            small = any(True for _ in self._small(before, after))
            if touched(after):
                if self._files(before) != self._files(after, later=True):
                    names.append("its files")
                if self._scripts(before) != self._scripts(after, later=True):
                    names.append("its scripts")
            if len(names) > small:
                yield _row(
                    ChangeKind.RECORD, f"{after.name}:{after.architecture}", after.name,
                    before.version, after.version, None,
                    f"its record tells something else of {', '.join(names[:_OVER])}",
                )  # fmt: skip

    def _files(self, package: Package, later: bool = False) -> list[FileRecord]:
        """What a record tells of files, whatever the administrator declared of them besides."""
        database = (self._after if later else self._before).database
        return [one.plain or one for one in database.files(package)]

    def _scripts(self, package: Package, later: bool = False) -> list[str]:
        return list((self._after if later else self._before).database.script_texts(package))

    # -- what the history tells ------------------------------------------------------------

    def _told(self, name: str, change: PackageChange) -> tuple[str | None, str | None]:
        history = self._after.database.history
        if history is None:
            return NO_HISTORY, None
        for event in self._events.get(name, ()):
            if change.is_told_by(event, history.arrivals):
                when = "" if event.at is None else f" at {event.at:%Y-%m-%d %H:%M} UTC"
                return f"{event.action.value}{when}, by {event.told_in}", None
        return None, NO_EVENT

    @cached_property
    def _events(self) -> dict[str, list[Event]]:
        """What only the later history tells: what both tell has been before."""
        known = {event.step for event in self._before.events()}
        found: dict[str, list[Event]] = {}
        for event in self._after.events():
            if event.step not in known:
                found.setdefault(event.name, []).append(event)
        return found

    def forgotten(self) -> Iterator[Compared]:
        """What the earlier history told, and the later one does not: histories grow, and are rotated."""
        if self._after.database.history is None:
            return
        now = self._after.events()
        kept = {event.step for event in now}
        lost = [event for event in self._before.events() if event.step not in kept]
        first = earliest(now)
        for event in sorted(lost, key=_when)[: 1 << 10]:
            rotated = first is not None and event.at is not None and event.at < first
            yield Compared(
                what=What.HISTORY, change=ChangeKind.GONE, subject=event.name, package=event.name,
                before=f"{event.action.value} {event.version or ''} {event.at or ''}".strip(),
                after=None, aspects=[],
                explained_by="its history begins later now" if rotated else None,
                why=None if rotated else "what was told is told no more", rank=Rank.OTHER, layer=None,
            )  # fmt: skip


def _when(event: Event) -> tuple[datetime, str]:
    from datetime import UTC

    return event.at or datetime.min.replace(tzinfo=UTC), event.name


def _row(
    change: ChangeKind, subject: str, package: str, before: str | None, after: str | None,
    explained_by: str | None, why: str | None,
) -> Compared:  # fmt: skip
    return Compared(
        what=What.PACKAGE, change=change, subject=subject, package=package, before=before,
        after=after, aspects=[], explained_by=explained_by, why=None if explained_by else why,
        rank=Rank.OTHER, layer=None,
    )  # fmt: skip


def _by_place(system: System) -> dict[_Place, list[Package]]:
    found: dict[_Place, list[Package]] = {}
    for package in system.packages:
        if package.state.present:
            found.setdefault((package.name, package.architecture), []).append(package)
    return found


def _build(package: Package) -> tuple[object, ...]:
    """What tells two builds of one version apart, as far as a record tells any of it."""
    return package.built_at, package.build_host, package.vendor, package.installed_size


def _held(package: Package) -> str:
    return "held" if package.held else "not held"
