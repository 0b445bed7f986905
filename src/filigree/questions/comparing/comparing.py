"""What differs between two roots, and what of it nothing explains."""

import tempfile
from collections import Counter
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from functools import cache
from re import compile as compiled

from filigree.access.trees.recorded import RecordedTree
from filigree.model.answer import Answer, Gap
from filigree.model.errors import AccessError, NoSystem
from filigree.model.package import Package
from filigree.questions.comparing.differences import ChangeKind, Compared, What, gravest
from filigree.questions.comparing.files import FileChanges
from filigree.questions.comparing.others import other_rows
from filigree.questions.comparing.packages import PackageChanges
from filigree.questions.finding.ownership import glob_pattern
from filigree.questions.keeping.taking import Taking, TakingProgress, snapshot
from filigree.system import System, open_system


@dataclass(frozen=True, slots=True)
class CompareSummary:
    """The two roots, when each was seen (None: now), and how many differences there are of what sort;
    `unexplained` are those that nothing explains, whether they are told or not. `undigested` counts files
    that are alike by size and time, and have no digest in either."""

    before: str
    after: str
    before_seen_at: str | None
    after_seen_at: str | None
    differences: int
    unexplained: int
    by_what: dict[What, int]
    by_change: dict[ChangeKind, int]
    undigested: int


@dataclass(frozen=True, slots=True)
class Wish:
    """What of a comparison is told: only what nothing explains, only packages, only files, only paths
    that one of `globs` matches."""

    unexplained: bool = False
    packages: bool = False
    files: bool = False
    globs: tuple[str, ...] = ()
    progress: Callable[[TakingProgress], None] | None = None


ALL = Wish()


def compare(system: System, other: System, wish: Wish = ALL) -> Answer[Compared, CompareSummary]:
    """Every difference from one root to another one, what nothing explains first. Bad news where
    something is unexplained.

    A directory is recorded first, for this once. Of two families only paths can be compared.
    """
    with recorded(system, wish) as before, recorded(other, wish) as after:
        packages = PackageChanges(before, after)
        files = FileChanges(before, after, packages, chosen(wish.globs))
        try:
            every = sorted(_rows(before, after, wish, packages, files), key=gravest)
        except AccessError as error:
            raise NoSystem(f"they cannot be compared: {error.what}", error.where) from error
        if files.half_digested:
            what = _files(files.half_digested)
            after.report(Gap(what, "only one of the two has digests of them: nobody can tell"))
        gaps = list(dict.fromkeys([*before.gaps, *after.gaps, *system.gaps, *other.gaps]))
    unexplained = [row for row in every if row.explained_by is None]
    told = unexplained if wish.unexplained else every
    summary = CompareSummary(
        before=system.root, after=other.root, before_seen_at=system.system_label.seen_at,
        after_seen_at=other.system_label.seen_at, differences=len(every),
        unexplained=len(unexplained), by_what=dict(Counter(row.what for row in every)),
        by_change=dict(Counter(row.change for row in every)), undigested=files.undigested,
    )  # fmt: skip
    return Answer("compare", system.system_label, told, summary, gaps, bad_news=bool(unexplained))


def _files(count: int) -> str:
    """So many files, in words."""
    return f"{count:,} {'file' if count == 1 else 'files'}"


def _rows(
    before: System, after: System, wish: Wish, packages: PackageChanges, files: FileChanges
) -> Iterator[Compared]:
    if before.family.name != after.family.name:
        what = f"packages of {before.family.name} and of {after.family.name}"
        after.report(Gap(what, "what became of packages is only told within one family"))
    if not wish.files and not wish.globs:
        yield from packages.rows()
        yield from packages.records(_touched(after, files))
    if not wish.packages and not wish.files and not wish.globs:
        yield from packages.forgotten()
        if _settings_touched(after, files):
            yield from other_rows(before, after, packages)
    if not wish.packages:
        files.report_hindrances()
        yield from files.rows()


def _settings_touched(system: System, files: FileChanges) -> bool:
    """Whether anything is another of which keys, repositories, policy and users are read."""
    places = tuple(system.family.places)
    return any(
        pair.path.startswith(places) and system.database.keeper_of(pair.path) is None
        for pair, _ in files.pairs
    )


def _touched(system: System, files: FileChanges) -> Callable[[Package], bool]:
    """Whether the record of a package may tell something else: one of its own files is another, or one
    that holds the records of many."""
    keepers: set[str] = set()
    for pair, _ in files.pairs:
        if not pair.path.startswith(tuple(system.family.places)):
            continue
        keeper = system.database.keeper_of(pair.path)
        if keeper is None and not pair.path.startswith("/etc/"):
            return lambda _: True
        keepers.update([] if keeper is None else [keeper.name])
    return lambda package: package.name in keepers


def chosen(globs: Iterable[str]) -> Callable[[str], bool]:
    """Whether a path is one of those that globs choose: all are where there is none."""
    patterns = [compiled(glob_pattern(one)) for one in globs]
    if not patterns:
        return lambda _: True
    return cache(lambda path: any(one.fullmatch(path) for one in patterns))


@contextmanager
def recorded(system: System, wish: Wish) -> Iterator[System]:
    """A system whose root is recorded; a directory is recorded here, and forgotten afterwards."""
    if isinstance(system.tree, RecordedTree):
        yield system
        return
    with tempfile.TemporaryDirectory(prefix="filigree-") as folder:
        path = f"{folder}/taken"
        how = Taking("compare", "0", progress=wish.progress)
        gaps = snapshot(system, path, how).gaps
        name = system.family.name
        with open_system(path, "none" if name == "none" else None) as kept:
            for gap in gaps:
                kept.report(gap)
            yield kept
