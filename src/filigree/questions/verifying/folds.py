"""Verdicts that belong together, told as one: a directory whose files were replaced, and why, likely.

A cause is looked for, and never assumed: it is told with its grounds, and excuses nothing. What can be
run and what runs with somebody else's rights is in no fold.
"""

import re
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from filigree.families.shared.starting_places import CERTIFICATE_STORES
from filigree.model.answer import Gap, moment_of
from filigree.model.errors import AccessError
from filigree.model.files import Aspect, Kind, Observation, Verdict
from filigree.model.package import Package
from filigree.questions.finding.folding import LEAST, folders
from filigree.questions.finding.owned_paths import owned_paths
from filigree.questions.verifying.verdicts import FileVerdict, is_code
from filigree.system import System

SCREEN = 24
"""So many verdicts are told one by one."""
_TOGETHER = timedelta(hours=1)
_MOST = 0.9
_LOOKED = 2000
_BLOCK = 4096
_SET_ID = 0o6000
_TRANSLATED = re.compile(r"/usr/share/(?:locale|man/[a-z]{2}(?:[_@.][^/]+)?|help/[a-z]{2})(?:/|$)")


@dataclass(frozen=True, slots=True)
class Fold:
    """What is told as one: the directory, whose files they are (None: of several), how many of which
    verdict, between which times they were last changed (None where nothing tells), and the likely cause
    with its grounds, None where none is known. `paths` are all of them."""

    folder: str
    package: str | None
    count: int
    verdicts: dict[Verdict, int]
    first: datetime | None
    last: datetime | None
    cause: str | None
    grounds: str | None
    paths: list[str]


def folded(system: System, rows: Sequence[FileVerdict]) -> list[Fold]:
    """The folds of some verdicts, the largest first; none where they fit on a screen."""
    if len(rows) <= SCREEN:
        return []
    by_path: dict[str, list[FileVerdict]] = {}
    for row in rows:
        if not stays_alone(row):
            by_path.setdefault(row.path, []).append(row)
    found = [
        _fold(system, folder, [row for path in paths for row in by_path[path]])
        for folder, paths in folders(by_path).items()
    ]
    return sorted(found, key=lambda fold: (-fold.count, fold.folder))


def stays_alone(row: FileVerdict) -> bool:
    """Whether a verdict is never in a fold: of what can be run, or runs with somebody else's rights."""
    modes = [one.found for one in row.differences if one.aspect is Aspect.MODE and one.found]
    set_id = any(int(mode, 8) & _SET_ID for mode in modes if mode.isdecimal())
    carries = any(one.aspect is Aspect.CAPABILITIES and one.found for one in row.differences)
    unsound = row.verdict in (Verdict.DOCTORED, Verdict.UNREADABLE)
    return is_code(row) or set_id or carries or unsound


def _differs(row: FileVerdict) -> bool:
    return bool(row.differences)


def _fold(system: System, folder: str, rows: Sequence[FileVerdict]) -> Fold:
    packages = {row.package for row in rows}
    # What is excused, or as it should be, explains nothing of what is not.
    bad = [row for row in rows if row.verdict.alarming] or rows
    seen = _Seen(system, folder, bad)
    cause, grounds = next(seen.causes(), (None, None)) if len(bad) >= LEAST else (None, None)
    times = seen.times
    return Fold(
        folder=folder, package=packages.pop() if len(packages) == 1 else None, count=len(rows),
        verdicts=dict(Counter(row.verdict for row in rows)), first=min(times, default=None),
        last=max(times, default=None), cause=cause, grounds=grounds,
        paths=list(dict.fromkeys(row.path for row in rows)),
    )  # fmt: skip


class _Seen:
    """What is there of the files of a fold, and what that says of how it came."""

    def __init__(self, system: System, folder: str, rows: Sequence[FileVerdict]) -> None:
        self._system = system
        self._folder = folder
        self._rows = rows
        self._there: list[tuple[FileVerdict, Observation]] = []
        for row in rows[:_LOOKED]:
            try:
                self._there.append((row, system.tree.observe(row.path)))
            except AccessError:
                continue
        moments = (moment_of(seen.modified // 10**9) for _, seen in self._there)
        self.times = [moment for moment in moments if moment is not None]

    def causes(self) -> Iterator[tuple[str, str]]:
        """Every cause that something speaks for, the surest first, each with its grounds."""
        for ask in (
            self._unfinished, self._byte_compiled, self._store, self._translations, self._owners,
            self._powers, self._updated, self._damaged,
        ):  # fmt: skip
            found = ask()
            if found is not None:
                yield found

    def _all(self, test: Callable[[FileVerdict], bool]) -> bool:
        return all(test(row) for row in self._rows)

    def _packages(self) -> list[Package]:
        return self._system.present({row.package for row in self._rows})

    def _unfinished(self) -> tuple[str, str] | None:
        unsound = [one for one in self._packages() if not one.state.sound]
        if not unsound or {one.name for one in unsound} < {row.package for row in self._rows}:
            return None
        return "unfinished-installation", f"{unsound[0].name} is {unsound[0].state.value}"

    def _byte_compiled(self) -> tuple[str, str] | None:
        if not self._all(lambda row: row.path.endswith((".pyc", ".pyo"))):
            return None
        return "byte-compiled", "all of them are made of sources that lie beside them"

    def _store(self) -> tuple[str, str] | None:
        if not self._folder.startswith(CERTIFICATE_STORES):
            return None
        return "certificate-store", "a tool of the system's writes what lies there"

    def _translations(self) -> tuple[str, str] | None:
        missing = self._all(lambda row: row.verdict is Verdict.MISSING)
        if not missing or not self._all(lambda row: _TRANSLATED.match(row.path) is not None):
            return None
        return "translations-taken-away", "all of them are translations, and none is there"

    def _owners(self) -> tuple[str, str] | None:
        aspects = {one.aspect for row in self._rows for one in row.differences}
        found = {
            one.found for row in self._rows for one in row.differences if one.aspect is Aspect.OWNER
        }
        if not self._all(_differs) or not aspects <= {Aspect.OWNER, Aspect.GROUP} or len(found) > 1:
            return None
        who = f" to {found.pop()}" if found else ""
        return "copied-with-another-owner", f"only owners differ, and all of them belong{who}"

    def _powers(self) -> tuple[str, str] | None:
        differences = [one for row in self._rows for one in row.differences]
        lost = all(one.aspect is Aspect.CAPABILITIES and not one.found for one in differences)
        if not self._all(_differs) or not lost:
            return None
        return "copied-without-attributes", "only capabilities differ, and none has any"

    def _updated(self) -> tuple[str, str] | None:
        """Replaced together, after the package came, and with files of nobody's beside: it did so
        itself."""
        if len(self.times) < len(self._there) * _MOST or not self.times:
            return None
        ordered = sorted(self.times)
        first, last = ordered[0], ordered[-1]
        since = max(
            (one.installed_at for one in self._packages() if one.installed_at), default=None
        )
        if last - first > _TOGETHER or (since is not None and last <= since):
            return None
        beside = self._beside(first, last)
        span = f"{first:%Y-%m-%d} between {first:%H:%M} and {last:%H:%M} UTC"
        if first.strftime("%H:%M") == last.strftime("%H:%M"):
            span = f"{first:%Y-%m-%d %H:%M} UTC"
        if not beside:
            return "replaced-together", f"all that is there was changed on {span}"
        return (
            "updated-itself",
            f"replaced together on {span}, and beside it {beside:,} files of nobody's of the same time",
        )

    def _beside(self, first: datetime, last: datetime) -> int:
        """How many files of nobody's lie in the same directory that came at the same time."""
        near: list[str] = []
        for entry in self._system.tree.walk(self._folder):
            if isinstance(entry, Gap) or entry.kind is not Kind.FILE:
                continue
            at = moment_of(entry.modified // 10**9)
            if at is not None and first - _TOGETHER <= at <= last + _TOGETHER:
                near.append(entry.path)
        # Every path on record is looked through for these alone, and only where there are any.
        names = {path.rpartition("/")[2] for path in near}
        owned = owned_paths(self._system, [self._folder], names=names) if near else {}
        return sum(path not in owned for path in near)

    def _damaged(self) -> tuple[str, str] | None:
        """Whole blocks of nothing, in files that are as long as they were shipped and tell no later
        time."""
        altered = [
            (row, seen) for row, seen in self._there
            if row.verdict is Verdict.ALTERED and Aspect.SIZE not in {d.aspect for d in row.differences}
        ]  # fmt: skip
        since = min(
            (one.installed_at for one in self._packages() if one.installed_at), default=None
        )
        empty = 0
        for row, seen in altered[:16]:
            at = moment_of(seen.modified // 10**9)
            if since is not None and at is not None and at > since:
                return None
            empty += self._has_empty_block(row.path)
        if not altered or empty < min(3, len(altered)):
            return None
        return (
            "damaged-blocks",
            f"{empty} of {min(16, len(altered))} that were looked at hold blocks of nothing",
        )

    def _has_empty_block(self, path: str) -> bool:
        try:
            data = self._system.tree.read(path, 16 << 20)
        except AccessError:
            return False
        return any(
            not data[at : at + _BLOCK].strip(b"\0")
            for at in range(0, len(data) - _BLOCK + 1, _BLOCK)
        )
