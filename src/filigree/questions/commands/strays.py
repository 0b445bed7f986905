"""Files of no package, in the directories where packages put theirs; and why some of them are there.

Rules, before the code that keeps them:

- A directory is walked by what it is: links are told, and never followed.
- Another file system than the one that a walk started on is not entered unless that is asked for; what
  the kernel makes up (processes, devices, settings) never is. The first is a gap, the second is none.
- A cause is told only where something on record or in the system's own policy says so; it excuses nothing
  from being listed.
- What runs with somebody else's rights comes first, then what can be run, then the rest; within each what
  has no cause.
"""

from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime

from filigree.access.trees.protocol import Entry
from filigree.model.answer import Answer, Gap, moment_of
from filigree.model.errors import AccessError, BadQuestion
from filigree.model.files import Kind
from filigree.questions.finding.causes import Cause, Causes
from filigree.questions.finding.layers import layers_of
from filigree.questions.finding.owned_paths import owned_paths
from filigree.questions.finding.ranks import Rank, rank_of
from filigree.system import System

USUAL = (
    "/bin", "/sbin", "/lib", "/lib32", "/lib64", "/libx32", "/usr/bin", "/usr/sbin", "/usr/games",
    "/usr/lib", "/usr/lib32", "/usr/lib64", "/usr/libx32", "/usr/libexec", "/usr/local/bin",
    "/usr/local/sbin", "/etc", "/boot",
)  # fmt: skip
"""Where programs, libraries and system configuration live."""
_PACE = 4096
LISTED = 200_000
"""So many rows are listed."""
_MANY = 20


@dataclass(frozen=True, slots=True)
class Stray:
    """One path of no package. `rank` is `set-id` where it runs with somebody else's rights.

    `cause` is why it is there, None where nothing tells; `detail` says more of that. `below` is the
    topmost directory of no package that it lies in, None where its directory is a package's. `layers` are
    those of an image that speak of the path, the lowest first; None where there are none.
    """

    path: str
    kind: Kind
    size: int
    owner: str
    group: str
    mode: str
    modified: datetime | None
    rank: Rank
    cause: Cause | None
    detail: str | None
    below: str | None
    link_target: str | None
    layers: list[int] | None


@dataclass(frozen=True, slots=True)
class StraysSummary:
    """What was looked at and found of nobody's, by cause and by rank; `size` in bytes."""

    directories: list[str]
    looked_at: int
    strays: int
    size: int
    without_cause: int
    causes: dict[str, int]
    ranks: dict[str, int]


def strays(
    system: System,
    directories: Iterable[str] = (),
    other_file_systems: bool = False,
    progress: Callable[[int], None] | None = None,
    notice: Callable[[Entry], None] | None = None,
) -> Answer[Stray, StraysSummary]:
    """Files of no package below the directories, or below those where packages usually put theirs.
    `notice` is told of every path that the walk comes by, whosever it is.

    Raises BadQuestion where a directory that was named is none. Bad news where a file that can be run is
    of nobody and nothing tells why.
    """
    tops = _tops(system, list(directories))
    owned = {*tops, *owned_paths(system, tops)}
    causes = Causes(system, owned)
    kept = _Kept()
    looked = 0
    for top in tops:
        walk = system.tree.walk(top, other_file_systems)
        below: dict[str, str | None] = {}
        for entry in walk:
            looked += 1
            if progress is not None and looked % _PACE == 0:
                progress(looked)
            if isinstance(entry, Gap):
                system.report(entry)
                continue
            if notice is not None:
                notice(entry)
            above = below.get(entry.path.rpartition("/")[0])
            is_owned = entry.path in owned
            if entry.kind is Kind.DIRECTORY:
                outermost = above or (None if is_owned else entry.path)
                below[entry.path] = outermost
                if entry.empty and not is_owned:
                    kept.add(_row(system, entry, causes, above))
            elif not is_owned:
                kept.add(_row(system, entry, causes, above))
    rows = kept.rows()
    if kept.dropped:
        told = ", ".join(f"{count:,} {rank.value}" for rank, count in kept.dropped.items())
        why = f"more than {LISTED:,} files of nobody's are counted, and not listed"
        system.report(Gap(f"{kept.dropped.total():,} paths ({told})", why))
    return Answer(
        "strays", system.system_label, rows, _summary(kept, tops, looked), system.gaps,
        bad_news=any(
            kept.without_cause[rank] for rank in (Rank.RIGHTS, Rank.PROGRAM)
        ),
    )  # fmt: skip


def _tops(system: System, asked: list[str]) -> list[str]:
    """Where walks start: each real directory once, and none within another."""
    found: dict[str, None] = {}
    for path in asked or USUAL:
        if not system.tree.is_directory(path):
            if asked:
                raise BadQuestion("it is no directory below the root", path, "name a directory")
            continue
        try:
            found[system.tree.real_path(path)] = None
        except AccessError as error:
            system.report(Gap(path, error.what))
    tops = sorted(found)
    return [
        one for one in tops
        if not any(one != up and (up == "/" or one.startswith(f"{up}/")) for up in tops)
    ]  # fmt: skip


def _row(system: System, entry: Entry, causes: Causes, below: str | None) -> Stray:
    cause, detail = causes.of(entry)
    return Stray(
        path=entry.path, kind=entry.kind, size=entry.size, owner=system.users.name(entry.uid),
        group=system.groups.name(entry.gid), mode=f"{entry.mode:04o}",
        modified=moment_of(entry.modified // 10**9),
        rank=rank_of(entry.kind, entry.mode), cause=cause, detail=detail, below=below,
        link_target=entry.link_target, layers=layers_of(system, entry.path),
    )  # fmt: skip


_RANKS = {rank: place for place, rank in enumerate(Rank)}


def _order(row: Stray) -> tuple[int, bool, str]:
    return (_RANKS[row.rank], row.cause is not None, row.path)


class _Kept:
    """The rows that are listed, and the counts of all: of more than make sense the gravest are listed."""

    def __init__(self) -> None:
        self._rows: dict[Rank, list[Stray]] = {rank: [] for rank in Rank}
        self._listed = 0
        self.size = 0
        self.ranks: Counter[Rank] = Counter()
        self.causes: Counter[Cause | None] = Counter()
        self.without_cause: Counter[Rank] = Counter()
        self.dropped: Counter[Rank] = Counter()

    def add(self, row: Stray) -> None:
        self.ranks[row.rank] += 1
        self.causes[row.cause] += 1
        self.without_cause[row.rank] += row.cause is None
        self.size += row.size if row.kind is Kind.FILE else 0
        self._rows[row.rank].append(row)
        self._listed += 1
        if self._listed > LISTED:
            least = next(rank for rank in reversed(Rank) if self._rows[rank])
            self._rows[least].pop()
            self._listed -= 1
            self.dropped[least] += 1

    def rows(self) -> list[Stray]:
        found = [row for rows in self._rows.values() for row in rows]
        self._rows = {}
        found.sort(key=_order)
        return found


def _summary(kept: _Kept, tops: Sequence[str], looked: int) -> StraysSummary:
    return StraysSummary(
        directories=list(tops),
        looked_at=looked,
        strays=kept.ranks.total(),
        size=kept.size,
        without_cause=kept.causes[None],
        causes={cause.value: kept.causes[cause] for cause in Cause if kept.causes[cause]},
        ranks={rank.value: kept.ranks[rank] for rank in Rank},
    )


def by_directory(rows: Sequence[Stray]) -> dict[str, list[Stray]]:
    """Rows that are told together: in a directory of no package two or more, in another one many."""
    found: dict[str, list[Stray]] = {}
    for row in rows:
        found.setdefault(folder_of(row), []).append(row)
    return {
        folder: held
        for folder, held in found.items()
        if len(held) > (1 if held[0].below is not None else _MANY)
    }


def folder_of(row: Stray) -> str:
    """The directory that stands for a path: the topmost that is nobody's, or else its own."""
    return row.below or row.path.rpartition("/")[0]
