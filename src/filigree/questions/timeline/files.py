"""Files that are not as they came, and files of nobody's, by the times that they tell themselves.

Rules, before the code that keeps them:

- A file's own time is what whoever wrote it wanted it to be. Where it cannot be the time of what happened
  (before the package was installed, in the future, on the first day of 1970), or where only the form is
  another, which moves no such time, the inode's is told instead, and why.
- What is gone has no time: that of the nearest directory that is left says when at the latest something
  went from it.
- No transaction explains a file that is not as its record says, however near in time it is: only a record
  or the administrator's own policy does.
"""

import posixpath
from collections.abc import Callable, Iterable, Iterator
from datetime import datetime

from filigree.access.trees.protocol import Tree
from filigree.model.answer import moment_of
from filigree.model.errors import AccessError
from filigree.model.events import Clock
from filigree.model.files import Aspect, Kind, Observation, Verdict
from filigree.model.package import Package
from filigree.questions.commands.strays import strays
from filigree.questions.commands.verify import verify
from filigree.questions.finding.ranks import Rank, rank_of
from filigree.questions.timeline.happenings import Deed, Happening, by_a_file
from filigree.questions.timeline.times import EARLY, inode_time, is_no_clock
from filigree.questions.verifying.verdicts import FileVerdict, VerifyProgress
from filigree.system import System

_DEEDS = {
    Verdict.ALTERED: Deed.ALTERED, Verdict.DOCTORED: Deed.ALTERED, Verdict.EDITED: Deed.EDITED,
    Verdict.MISSING: Deed.VANISHED,
}  # fmt: skip
SETTING = "a setting that an administrator may change"
_CONTENT = frozenset({Aspect.CONTENT, Aspect.SIZE, Aspect.KIND})
Build = tuple[str, str, str]
"""The name, architecture and version of a package."""


def changed_rows(
    system: System,
    subjects: Iterable[str] | None,
    now: datetime,
    progress: Callable[[VerifyProgress], None] | None = None,
) -> Iterator[Happening]:
    """Files of packages that are not as they came. `subjects` None means those of every package."""
    told = verify(system, subjects, frozenset(_DEEDS), progress=progress)
    packages = builds(system)
    for verdict in told.records:
        yield changed_row(system, verdict, packages.get(build_of(verdict)), now)


def build_of(row: FileVerdict) -> Build:
    """The build whose file a verdict is on."""
    return row.package, row.architecture, row.version


def builds(system: System) -> dict[Build, Package]:
    """The packages whose files are on the disk, by build."""
    return {
        (one.name, one.architecture, one.version): one
        for one in system.packages
        if one.state.present
    }


def changed_row(
    system: System, verdict: FileVerdict, package: Package | None, now: datetime
) -> Happening:
    """When a file of a package came to be as it is, by its verdict: one that is not as it came."""
    aspects = [one.aspect for one in verdict.differences]
    deed = _DEEDS[verdict.verdict]
    row = _row(deed, verdict.path, verdict.package, aspects)
    row.architecture, row.version = verdict.architecture, verdict.version
    row.told_in = None if package is None else system.database.place_of(package)
    if deed is Deed.EDITED:
        row.explained_by = SETTING
    seen = _observed(system.tree, verdict.path)
    if seen is None:
        _time_of_absence(system.tree, row)
        return row
    row.rank = Rank.RIGHTS if seen.capabilities else rank_of(seen.kind, seen.mode)
    if deed is Deed.EDITED and row.rank is not Rank.OTHER:
        row.explained_by = None
        row.doubts.append("an administrator may change it, and it can be run")
    _time(row, seen, now)
    if not _CONTENT & set(aspects):
        _by_inode(row, seen, "only its form is another, which moves no time of its own")
    elif package is not None:
        _not_before(row, seen, package)
    return row


def _not_before(row: Happening, seen: Observation, package: Package) -> None:
    """What is not as it came was changed after it came."""
    since = package.installed_at
    if since is not None and row.at is not None and row.clock is Clock.FILE and row.at <= since:
        _by_inode(
            row, seen, f"it says {row.at:%Y-%m-%d %H:%M} UTC, when its package was not yet here"
        )


def stray_rows(
    system: System, now: datetime, progress: Callable[[int], None] | None = None
) -> Iterator[Happening]:
    """Files of nobody's, where packages put theirs."""
    for stray in strays(system, progress=progress).records:
        row = _row(Deed.APPEARED, stray.path, None, [])
        row.rank = stray.rank
        if stray.cause is not None:
            row.explained_by = f"{stray.cause.value}: {stray.detail}"
        seen = _observed(system.tree, stray.path)
        if seen is not None:
            _time(row, seen, now)
        yield row


def _row(deed: Deed, path: str, package: str | None, aspects: list[Aspect]) -> Happening:
    row = by_a_file(deed, path)
    row.package, row.aspects = package, aspects
    return row


def _observed(tree: Tree, path: str) -> Observation | None:
    try:
        return tree.observe(path, capabilities=True)
    except AccessError:
        return None


def _time(row: Happening, seen: Observation, now: datetime) -> None:
    """When a file came to be as it is: by its own time, or else by its inode's."""
    changed = inode_time(seen)
    row.at = moment_of(seen.modified // 10**9)
    row.until = changed if changed is not None and row.at is not None and changed > row.at else None
    if is_no_clock(seen.modified):
        _by_inode(row, seen, "its own time is that of no clock")
    elif row.at is None or row.at > now + EARLY:
        _by_inode(row, seen, "its own time is in the future")
    elif changed is not None and row.at > changed + EARLY:
        row.doubts.append(f"its own time is later than its inode's, {changed:%Y-%m-%d %H:%M} UTC")


def _by_inode(row: Happening, seen: Observation, why: str) -> None:
    row.doubts.append(why)
    changed = inode_time(seen)
    if changed is not None:
        row.at, row.until, row.clock = changed, None, Clock.INODE
    elif row.clock is Clock.FILE and is_no_clock(seen.modified):
        row.at = None


def _time_of_absence(tree: Tree, row: Happening) -> None:
    path = posixpath.dirname(row.subject)
    while path not in ("", "/"):
        seen = _observed(tree, path)
        if seen is not None and seen.kind is Kind.DIRECTORY:
            row.clock = Clock.DIRECTORY
            row.at = None if is_no_clock(seen.modified) else moment_of(seen.modified // 10**9)
            return
        path = posixpath.dirname(path)
