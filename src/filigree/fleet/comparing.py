"""Two hosts as tables hold them, held against each other: what differs, and what nothing explains.

It is what `compare` tells of two roots, as far as tables go: packages, files that are not as their
records say or nobody's, keys and repositories. Where a record is another one under the same version, the
files that it tells otherwise are told.
"""

from collections import Counter
from collections.abc import Iterator, Mapping
from datetime import datetime
from typing import Any

from filigree.families.registry import family_named
from filigree.fleet.asked import LATER
from filigree.fleet.held import Held, HeldBuild
from filigree.fleet.identity import path_of
from filigree.model.answer import Answer, Gap
from filigree.model.events import Action
from filigree.model.files import Aspect, Verdict
from filigree.questions.comparing.comparing import ALL, CompareSummary, Wish, chosen
from filigree.questions.comparing.differences import ChangeKind, Compared, What, gravest
from filigree.questions.comparing.packages import NO_EVENT, NO_HISTORY
from filigree.questions.finding.ranks import Rank

_REST = (
    "tables hold packages, keys, repositories, histories, what is not as it came, and no other file"
)
_Place = tuple[str, str]
_OVER = 4
_DAY = 86_400
_PARTS = {"deviations": "files", "keys": "keys", "repositories": "repositories"}
_WHY = "no package that changed has it"


def compare_held(before: Held, after: Held, wish: Wish = ALL) -> Answer[Compared, CompareSummary]:
    """Every difference from one host, or one time, to another one, what nothing explains first. Bad news
    where something is unexplained. What tables do not hold is a gap."""
    held = _Pair(before, after)
    wanted = chosen(wish.globs)
    every = [
        row for row in held.rows()
        if not (wish.packages and row.what is What.FILE)
        and not ((wish.files or wish.globs) and row.what is not What.FILE)
        and (row.what is not What.FILE or wanted(row.subject))
    ]  # fmt: skip
    every.sort(key=gravest)
    unexplained = [row for row in every if row.explained_by is None]
    gaps = list(dict.fromkeys([*before.gaps, *after.gaps, *held.gaps]))
    gaps.append(Gap("the rest of the two", _REST))
    summary = CompareSummary(
        before=before.label.root, after=after.label.root, before_seen_at=before.label.seen_at,
        after_seen_at=after.label.seen_at, differences=len(every), unexplained=len(unexplained),
        by_what=dict(Counter(row.what for row in every)),
        by_change=dict(Counter(row.change for row in every)), undigested=0,
    )  # fmt: skip
    told = unexplained if wish.unexplained else every
    return Answer("compare", before.label, told, summary, gaps, bad_news=bool(unexplained))


_NONE_TOLD = "what was compared tells no history"


class _Pair:
    def __init__(self, before: Held, after: Held) -> None:
        self._before = before
        self._after = after
        self.gaps: list[Gap] = []
        self._family = family_named(after.label.family)
        known = {_step(row) for row in before.rows("events")}
        # Where one tells no history, what happened before its time explains nothing. A clock may be a day
        # off.
        since = None if "events" in before.known else _seconds(before.label.seen_at) - _DAY
        self._events: dict[str, list[Mapping[str, Any]]] = {}
        for row in after.rows("events"):
            if _step(row) not in known and (since is None or (row["happened_at"] or 0) > since):
                self._events.setdefault(str(row["package"]), []).append(row)
        self._moved: dict[str, Compared] = {}

    def rows(self) -> Iterator[Compared]:
        """Every difference."""
        families = self._before.label.family, self._after.label.family
        if families[0] != families[1]:
            what = f"packages of {families[0]} and of {families[1]}"
            self.gaps.append(Gap(what, "what became of packages is only told within one family"))
        else:
            yield from self._packages()
        if self._both("deviations"):
            yield from self._files()
        yield from self._others(What.KEY, "keys", ("fingerprint", "file"), _key)
        yield from self._others(
            What.REPOSITORY, "repositories", ("identity", "address"), _repository
        )

    def _both(self, part: str) -> bool:
        """Whether both sides tell of a part at all; a gap where one does not."""
        silent = [one for one in (self._before, self._after) if part not in one.known]
        for one in silent:
            self.gaps.append(Gap(f"{_PARTS[part]} of {one.label.root}", "it does not tell of them"))
        return not silent

    # -- packages --------------------------------------------------------------------------

    def _packages(self) -> Iterator[Compared]:
        every = (*self._before.packages, *self._after.packages)
        told = all(one.architecture for one in every)
        older, newer = _by_place(self._before, told), _by_place(self._after, told)
        for place in sorted({*older, *newer}):
            was, is_ = older.get(place, {}), newer.get(place, {})
            went = [was[version] for version in was if version not in is_]
            came = [is_[version] for version in is_ if version not in was]
            for number in range(max(len(went), len(came))):
                old = went[number] if number < len(went) else None
                new = came[number] if number < len(came) else None
                row = self._moved_row(place, old, new)
                self._moved[place[0]] = row
                yield row
            for version in sorted(was.keys() & is_.keys()):
                yield from self._stayed(place, was[version], is_[version])

    def _moved_row(self, place: _Place, old: HeldBuild | None, new: HeldBuild | None) -> Compared:
        told = self._told(place[0], old, new)
        return _package(
            self._kind(old, new), place, _version(old), _version(new), told,
            None if told else NO_EVENT if "events" in self._after.known else _NONE_TOLD,
        )  # fmt: skip

    def _kind(self, old: HeldBuild | None, new: HeldBuild | None) -> ChangeKind:
        if old is None or new is None:
            return ChangeKind.CAME if old is None else ChangeKind.GONE
        order = self._family.order(old.version, new.version)
        if not order:
            return ChangeKind.REPLACED
        return ChangeKind.NEWER if order < 0 else ChangeKind.OLDER

    def _told(self, name: str, old: HeldBuild | None, new: HeldBuild | None) -> str | None:
        # A history that is empty is not one that the family does not keep: somebody may have emptied it.
        if "history" in self._family.silent_on:
            return NO_HISTORY
        for row in self._events.get(name, ()):
            gone = row["action"] in (Action.REMOVED, Action.REPLACED)
            version = _version(old if gone else new)
            if row["version"] == version and (new is None) >= (row["action"] == Action.REMOVED):
                return f"{row['action']}, by {row['told_in']}"
        return None

    def _stayed(self, place: _Place, old: HeldBuild, new: HeldBuild) -> Iterator[Compared]:
        if "sets" not in self._before.known & self._after.known:
            return  # an inventory lists packages, and not how they are
        why = "a decision of somebody's"
        if old.state != new.state:
            yield _package(ChangeKind.STATE, place, old.state, new.state, None, why)
        if old.reason != new.reason:
            yield _package(ChangeKind.REASON, place, old.reason, new.reason, None, why)
        if old.identity != new.identity:
            paths = self._otherwise(old, new)
            more = f" and {len(paths) - _OVER:,} more" if len(paths) > _OVER else ""
            told = f"{', '.join(paths[:_OVER])}{more}" if paths else "what it needs or is called"
            yield _package(
                ChangeKind.RECORD, place, old.version, new.version, None,
                f"its record tells something else of {told}",
            )  # fmt: skip

    def _otherwise(self, old: HeldBuild, new: HeldBuild) -> list[str]:
        was, is_ = self._before.files_of(old.identity), self._after.files_of(new.identity)
        return [path_of(one) for one in sorted({*was, *is_}) if was.get(one) != is_.get(one)]

    # -- files, keys, repositories ---------------------------------------------------------

    def _files(self) -> Iterator[Compared]:
        was = {str(row["path"]): row for row in self._before.rows("deviations")}
        is_ = {str(row["path"]): row for row in self._after.rows("deviations")}
        for path in sorted({*was, *is_}):
            old, new = was.get(path), is_.get(path)
            if old and new and _state(old) == _state(new):
                continue
            one = new or old or {}
            package = one["package"] and path_of(str(one["package"]))
            move = self._moved.get(package or "")
            # As it came again, with the package that moved: whatever came besides is not of that.
            told = move.explained_by if move is not None and new is None else None
            yield Compared(
                what=What.FILE, change=self._became(package, old, new), subject=path_of(path),
                package=package, before=self._words(self._before, package, old),
                after=self._words(self._after, package, new), aspects=_aspects(one), explained_by=told,
                why=None if told else _WHY, rank=_rank(one), layer=None,
            )  # fmt: skip

    def _became(
        self, package: str | None, old: Mapping[str, Any] | None, new: Mapping[str, Any] | None
    ) -> ChangeKind:
        """What became of a path. What a package has on record and is in no table is as it came."""
        was, is_ = (
            _there(row) or (row is None and package in held.names)
            for held, row in ((self._before, old), (self._after, new))
        )
        if was and is_:
            return ChangeKind.ALTERED
        return ChangeKind.CAME if is_ else ChangeKind.GONE

    @staticmethod
    def _words(held: Held, package: str | None, row: Mapping[str, Any] | None) -> str | None:
        """What was found of a path, in words; None where nothing tells that it was there."""
        if row is None:
            return "as its record says" if package in held.names else None
        aspects = str(row["aspects"] or "").split()
        told = not aspects or Aspect.CONTENT in aspects
        return " ".join(
            str(one) for one in (row["verdict"], row["digest"] if told else None) if one
        )

    def _others(
        self, what: What, part: str, names: tuple[str, str], words: Any
    ) -> Iterator[Compared]:
        if not self._both(part):
            return
        was, is_ = (
            {tuple(str(row[name]) for name in names): words(row) for row in held.rows(part)}
            for held in (self._before, self._after)
        )
        for identity in sorted({*was, *is_}):
            old, new = was.get(identity), is_.get(identity)
            if old != new:
                yield Compared(
                    what=what, change=_change(old, new), subject=path_of(" in ".join(identity)),
                    package=None, before=old, after=new, aspects=[], explained_by=None,
                    why="tables do not tell whose file says so", rank=Rank.OTHER, layer=None,
                )  # fmt: skip


def _by_place(held: Held, told: bool) -> dict[_Place, dict[str, HeldBuild]]:
    """Packages by name and architecture; by name alone where somebody does not tell the latter."""
    found: dict[_Place, dict[str, HeldBuild]] = {}
    for one in held.packages:
        found.setdefault((one.name, one.architecture if told else ""), {})[one.version] = one
    return found


def _package(
    change: ChangeKind, place: _Place, before: str | None, after: str | None,
    explained_by: str | None, why: str | None,
) -> Compared:  # fmt: skip
    name, architecture = map(path_of, place)
    return Compared(
        what=What.PACKAGE, change=change, package=name,
        subject=f"{name}:{architecture}" if architecture else name,
        before=before, after=after, aspects=[], explained_by=explained_by, why=why, rank=Rank.OTHER,
        layer=None,
    )  # fmt: skip


def _version(build: HeldBuild | None) -> str | None:
    return None if build is None else build.version


def _seconds(time: str | None) -> int:
    """A time as seconds since 1970; far in the future where nothing tells it."""
    try:
        return LATER if time is None else int(datetime.fromisoformat(time).timestamp())
    except ValueError:
        return LATER


def _step(row: Mapping[str, Any]) -> tuple[Any, ...]:
    """What was done, whichever file tells it."""
    return tuple(
        row[one] for one in ("happened_at", "action", "package", "version", "architecture")
    )


def _state(row: Mapping[str, Any]) -> tuple[Any, ...]:
    return row["verdict"], row["digest"], row["aspects"], row["mode"], row["size"]


def _there(row: Mapping[str, Any] | None) -> bool:
    return row is not None and row["verdict"] != Verdict.MISSING


def _change(old: object, new: object) -> ChangeKind:
    if old is None or new is None:
        return ChangeKind.CAME if old is None else ChangeKind.GONE
    return ChangeKind.ALTERED


def _aspects(row: Mapping[str, Any]) -> list[Aspect]:
    known = {one.value for one in Aspect}
    return [Aspect(one) for one in str(row["aspects"] or "").split() if one in known]


_RANKS = {one.value for one in Rank}


def _rank(row: Mapping[str, Any]) -> Rank:
    role = str(row["role"])
    if role in _RANKS:
        return Rank(role)
    return Rank.PROGRAM if role in ("program", "library") else Rank.OTHER


def _key(row: Mapping[str, Any]) -> str:
    scope = "everything" if row["everything"] else row["scope"] or "nothing"
    return path_of(f"{row['identity'] or 'nobody known'}, for {scope}")


def _repository(row: Mapping[str, Any]) -> str:
    told = ["enabled" if row["enabled"] else "disabled"]
    if row["unsigned_allowed"]:
        told.append("need not be signed")
    return "; ".join(told)
