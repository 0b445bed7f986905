"""Keeps a store small and fast: many files become one, what a rule does not keep goes, digests are
checked."""

import os
import tempfile
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from types import MappingProxyType

from filigree.access.shelves import Shelf
from filigree.fleet.engines import DuckEngine, merge_tables
from filigree.fleet.form import BY_NAME, PARTS, REFUSED, SNAPSHOTS, TABLES, VERSION
from filigree.fleet.opened import opened_whole
from filigree.fleet.store import LISTS, File, FleetStore, digest_of
from filigree.model.answer import Answer, Gap, SystemLabel

LOOSE = 24
"""So many files of one table in one month are compacted."""
_AGE = 86_400
"""What no list names is swept away when it is so many seconds old."""
_Group = tuple[str, str]
"""A table and a month."""
_DAY = timedelta(days=1)
_ALL: Mapping[str, Collection[str]] = MappingProxyType({})


@dataclass(frozen=True, slots=True)
class TidyRow:
    """What became of one table: files and bytes before and after, rows, and files that are not what their
    digest says."""

    table: str
    files_before: int
    files: int
    rows: int
    size_before: int
    size: int
    damaged: list[str]


@dataclass(frozen=True, slots=True)
class TidySummary:
    """All of them; `dropped` counts the snapshots that the rule of keeping does not keep."""

    files_before: int
    files: int
    size: int
    damaged: int
    dropped: int


@dataclass(frozen=True, slots=True)
class Keeping:
    """What is kept: all snapshots of so many days, and the last one of each month of so many months.
    None: all are. The last one of a host is kept in any case."""

    days: int | None = None
    monthly: int | None = None
    now: datetime | None = None

    @property
    def everything(self) -> bool:
        """Whether nothing is ever dropped."""
        return self.days is None and self.monthly is None


def tidy(store: FleetStore, keeping: Keeping) -> Answer[TidyRow, TidySummary]:
    """Check every digest, drop what is not kept, and compact. Bad news where a file is not what its
    digest says: such files stay, and nothing is dropped then."""
    before = store.list
    damaged = _damaged(store)
    dropped = 0
    if not damaged:
        brought_up(store)
        dropped = _dropped(store, keeping)
        merged(store, 1)
        _sweep(store)
    rows = [
        TidyRow(
            table.name, len(before.of(table.name)), len(store.list.of(table.name)),
            sum(one.rows for one in store.list.of(table.name)),
            sum(one.size for one in before.of(table.name)),
            sum(one.size for one in store.list.of(table.name)),
            [one.name for one in damaged if one.table == table.name],
        )
        for table in TABLES
    ]  # fmt: skip
    summary = TidySummary(
        len(before.files), len(store.list.files), sum(one.size for one in store.list.files),
        len(damaged), dropped,
    )  # fmt: skip
    gaps = [Gap(one.name, "it is gone, or not what its digest says") for one in damaged]
    label = SystemLabel(store.address, "fleet", f"{len(store.list.files):,} files")
    return Answer("fleet tidy", label, rows, summary, gaps, bad_news=bool(damaged))


def _damaged(store: FleetStore) -> list[File]:
    return [
        one for one in store.list.files
        if (path := store.shelf.local(one.name)) is None or digest_of(path) != one.digest
    ]  # fmt: skip


def brought_up(store: FleetStore) -> None:
    """Bring a store of an earlier form up to this one: tables that have more columns now are written
    anew. Raises BadQuestion."""

    def files() -> Iterable[File] | None:
        form = store.list.form
        if form == VERSION or not store.list.number:
            return None
        old = {table.name for table in TABLES if any(one.since > form for one in table.columns)}
        return _written_anew(store, lambda key, _: key[0] in old)

    store.change_surely(files)


def merged(store: FleetStore, most: int) -> None:
    """Make one file of the files of each table and month that has more than `most`."""

    def files() -> Iterable[File] | None:
        written = _written_anew(store, lambda _, files: len(files) > most)
        return None if written == list(store.list.files) else written

    store.change(files)  # where others write all the time, they will


def _written_anew(
    store: FleetStore,
    chosen: Callable[[_Group, Sequence[File]], bool],
    keys: Mapping[str, Collection[str]] = _ALL,
) -> list[File]:
    """The files of a store, those of each chosen table and month written as one; of tables that `keys`
    names those rows alone. A group of which a file is gone stays as it is."""
    groups: dict[_Group, list[File]] = {}
    for one in store.list.files:
        groups.setdefault((one.table, one.month), []).append(one)
    found: list[File] = []
    with tempfile.TemporaryDirectory(prefix="filigree-fleet-") as folder:
        for (name, month), files in groups.items():
            paths, missing = store.local(files)
            if missing or not chosen((name, month), files):
                found += files
                continue
            path = os.path.join(folder, f"{name}-{month}.parquet")
            rows = merge_tables(BY_NAME[name], paths, path, store.list.form, keys.get(name))
            if rows:
                found += store.add([(name, path, rows)], month)
    return found


def _dropped(store: FleetStore, keeping: Keeping) -> int:
    """Write the tables anew without what is not kept; how many snapshots went."""
    went = 0

    def files() -> Iterable[File] | None:
        nonlocal went
        with opened_whole(store) as engine:
            every = engine.run(f"SELECT snapshot, host, taken_at FROM {SNAPSHOTS.name}")
            kept = kept_of(every, keeping)
            went = len(every) - len(kept)
            if not went:
                return None
            needed = _needed(engine, kept)
        return _written_anew(store, lambda *_: True, needed)

    if not keeping.everything:
        store.change_surely(files)
    return went


def kept_of(snapshots: Sequence[tuple[str, str, int]], keeping: Keeping) -> set[str]:
    """The snapshots that a rule keeps, of rows of snapshot, host and time."""
    now = keeping.now or datetime.now(UTC)
    kept: set[str] = set()
    last: dict[tuple[str, ...], tuple[int, str]] = {}
    for snapshot, host, at in snapshots:
        when = datetime.fromtimestamp(at, UTC)
        if keeping.days is not None and now - when <= keeping.days * _DAY:
            kept.add(snapshot)
        months = (now.year - when.year) * 12 + now.month - when.month
        keys: list[tuple[str, ...]] = [(host,)]
        if keeping.monthly is not None and months < keeping.monthly:
            keys.append((host, f"{when:%Y-%m}"))
        for key in keys:
            last[key] = max(last.get(key, (at, snapshot)), (at, snapshot))
    return kept | {snapshot for _, snapshot in last.values()}


def _needed(engine: DuckEngine, kept: Collection[str]) -> dict[str, list[str]]:
    """What some snapshots need of each table, by its keys; of what was refused everything."""
    engine.keep_texts("kept", kept)
    whose = {
        SNAPSHOTS.name: "SELECT text FROM kept",
        **{
            one: f"SELECT DISTINCT {one} FROM snapshots s JOIN kept ON text = s.snapshot"
            for one in PARTS
        },
    }
    builds = (
        "SELECT DISTINCT t.build FROM sets t JOIN snapshots s ON s.sets = t.part "
        "JOIN kept ON text = s.snapshot"
    )
    return {
        table.name: [str(key) for (key,) in engine.run(whose.get(table.name, builds))]
        for table in TABLES
        if table is not REFUSED
    }


def _sweep(store: FleetStore) -> None:
    """Take away what no list names and nobody may still be writing or reading."""
    shelf = store.shelf
    counted = {one.name for one in store.list.files}
    for table in TABLES:
        for month in shelf.names(table.name):
            for name in shelf.names(f"{table.name}/{month}"):
                whole = f"{table.name}/{month}/{name}"
                if whole not in counted and _is_old(shelf, whole):
                    shelf.drop(whole)
            shelf.sweep(f"{table.name}/{month}", _AGE)
    for name in shelf.names(LISTS):
        if name != f"{store.list.number:08d}.json" and _is_old(shelf, f"{LISTS}/{name}"):
            shelf.drop(f"{LISTS}/{name}")
    shelf.sweep(LISTS, _AGE)


def _is_old(shelf: Shelf, name: str) -> bool:
    return shelf.age(name) > _AGE
