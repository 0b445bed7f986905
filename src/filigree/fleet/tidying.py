"""Keeps a store small and fast: many files become one, what a rule does not keep goes, digests are
checked."""

import os
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from filigree.access.shelves import Shelf
from filigree.fleet.engines import Engine, merge_tables, write_table
from filigree.fleet.form import BY_NAME, PARTS, REFUSED, SNAPSHOTS, TABLES, FleetTable
from filigree.fleet.identity import Row
from filigree.fleet.opened import opened_whole
from filigree.fleet.store import LISTS, File, FleetStore, digest_of
from filigree.model.answer import Answer, Gap, SystemLabel
from filigree.model.errors import BadQuestion

LOOSE = 24
"""So many files of one table in one month are compacted."""
_AGE = 86_400
"""What no list names is swept away when it is so many seconds old."""
_TRIES = 16
_DAY = timedelta(days=1)


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


def merged(store: FleetStore, most: int) -> None:
    """Make one file of the files of each table and month that has more than `most`."""
    for _ in range(_TRIES):
        groups: dict[tuple[str, str], list[File]] = {}
        for one in store.list.files:
            groups.setdefault((one.table, one.month), []).append(one)
        many = {key: files for key, files in groups.items() if len(files) > most}
        if not many:
            return
        made: list[File] = []
        gone: list[File] = []
        with tempfile.TemporaryDirectory(prefix="filigree-fleet-") as folder:
            for (table, month), files in many.items():
                paths, missing = store.local(files)
                if missing:
                    continue
                path = os.path.join(folder, f"{table}-{month}.parquet")
                rows = merge_tables(BY_NAME[table], paths, path)
                made += store.add([(table, path, rows)], month)
                gone += files
        if not made or store.commit([one for one in store.list.files if one not in gone] + made):
            return
        store.refresh()


def _dropped(store: FleetStore, keeping: Keeping) -> int:
    """Write the tables anew without what is not kept; how many snapshots went."""
    if keeping.everything:
        return 0
    for _ in range(_TRIES):
        with opened_whole(store) as engine:
            every = engine.run(f"SELECT snapshot, host, taken_at FROM {SNAPSHOTS.name}")
            kept = kept_of(every, keeping)
            went = len(every) - len(kept)
            if not went:
                return 0
            made = _anew(store, engine, kept)
        if store.commit(made):
            return went
        store.refresh()
    raise BadQuestion("others write to it all the time", store.address, "try again later")


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


def _anew(store: FleetStore, engine: Engine, kept: set[str]) -> list[File]:
    """The files of all tables, of the rows that some snapshots need."""
    found: list[File] = []
    with tempfile.TemporaryDirectory(prefix="filigree-fleet-") as folder:
        values = ", ".join(["(?)"] * len(kept))
        engine.keep(
            "kept",
            f"SELECT s.* FROM {SNAPSHOTS.name} s JOIN (VALUES {values}) told(snapshot) ON "
            f"told.snapshot = "
            "s.snapshot",
            sorted(kept),
        )
        for table in TABLES:
            rows: list[Row] = engine.run(f"SELECT * FROM {table.name} WHERE {_needed(table)}")
            if rows:
                path = os.path.join(folder, f"{table.name}.parquet")
                write_table(table, rows, path)
                found += store.add([(table.name, path, len(rows))], f"{datetime.now(UTC):%Y-%m}")
    return found


def _needed(table: FleetTable) -> str:
    if table is SNAPSHOTS:
        return "snapshot IN (SELECT snapshot FROM kept)"
    if table is REFUSED:
        return "true"
    if table.name in PARTS:
        return f"part IN (SELECT {table.name} FROM kept)"
    return "build IN (SELECT build FROM sets WHERE part IN (SELECT sets FROM kept))"


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
