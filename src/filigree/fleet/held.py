"""One host as tables hold it, at one time: out of a store, or of a system that is asked now."""

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

from filigree.access.shelves import is_address
from filigree.families.registry import families, family_named
from filigree.fleet.asked import Fleet, FleetWish, asked, time_of
from filigree.fleet.engines import Engine
from filigree.fleet.form import BY_NAME, PARTS
from filigree.fleet.gate import VouchedBy
from filigree.fleet.identity import Row, path_of, text_of
from filigree.fleet.store import FleetStore
from filigree.fleet.taking import Taken, taken_of
from filigree.formats.inventories import InventoryError, read_inventory
from filigree.model.answer import Gap, SystemLabel, iso
from filigree.model.errors import BadQuestion
from filigree.model.package import State
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.timeline.times import moment_from
from filigree.system import System

_INVENTORY_LIMIT = 1 << 26
SIGN = "#"
"""What stands between a store and a host of it: `STORE#heron@2026-11-27`."""


@dataclass(frozen=True, slots=True)
class HeldBuild:
    """A package as it is on record: its identity, and what it is; its size installed, in bytes."""

    identity: str
    name: str
    version: str
    architecture: str
    state: str
    reason: str | None
    source: str | None = None
    vendor: str | None = None
    size: int | None = None


Ties = tuple[list[tuple[Any, ...]], list[tuple[Any, ...]]]
"""Rows of what builds do not work without (build, clause, need, name), and of what gives that (build,
name)."""


def _no_ties() -> Ties:
    return [], []


@dataclass
class Held:
    """A host: its packages, its parts by their tables (rows without the identity of the part), and how
    the files of builds, and what they need, are read. `known` are the parts that it has at all."""

    label: SystemLabel
    packages: list[HeldBuild]
    parts: dict[str, list[Row]]
    known: frozenset[str]
    files_of: Callable[[str], dict[str, Row]]
    gaps: list[Gap] = field(default_factory=list)
    ties: Callable[[], Ties] = _no_ties

    @cached_property
    def names(self) -> frozenset[str]:
        """What its packages are called."""
        return frozenset(path_of(one.name) for one in self.packages)

    def rows(self, table: str) -> list[dict[str, Any]]:
        """The rows of a part, by the names of their columns."""
        names = BY_NAME[table].names[1:]
        return [dict(zip(names, row, strict=True)) for row in self.parts.get(table, ())]


@dataclass(frozen=True, slots=True)
class HostPlace:
    """Where a host is held: the address of a store, the host's name, and as of when (None: last)."""

    store: str
    host: str
    as_of: datetime | None


def host_place(text: str, now: datetime, there: Callable[[str], bool]) -> HostPlace | None:
    """What `STORE#HOST` or `STORE#HOST@TIME` means; None for a text that is no such thing. `there` is
    whether something lies at a path. Raises BadQuestion where the time is none."""
    store, sign, rest = text.partition(SIGN)
    if not sign or not rest or not store or there(text):
        return None
    if not is_address(store) and not there(store):
        return None
    host, at, when = rest.rpartition("@")
    if not at:
        return HostPlace(store, rest, None)
    return HostPlace(store, host, moment_from(when, now, True))


def held_host(store: FleetStore, place: HostPlace, engine: Engine | None = None) -> Held:
    """A host of a store, as it was seen last before a time. Raises BadQuestion where there is none."""
    name = text_of(place.host)
    with asked(store, FleetWish(as_of=place.as_of), engine) as fleet:
        fleet.engine.keep("wanted", "SELECT * FROM chosen WHERE host = ?", [name])
        told = fleet.run("SELECT family, label, taken_at, vouched FROM wanted")
        if not told:
            raise _unknown(fleet, place)
        family, label, taken_at, vouched = told[0]
        parts, known = {}, set()
        for part in PARTS:
            columns = ", ".join(f"t.{one}" for one in BY_NAME[part].names[1:])
            parts[part] = [tuple(row) for row in fleet.run(
                f"SELECT {columns} FROM {part} t JOIN wanted w ON w.{part} = t.part"
            )]  # fmt: skip
            if fleet.run(f"SELECT host FROM wanted WHERE {part} IS NOT NULL"):
                known.add(part)
        packages = [HeldBuild(*row) for row in fleet.run(_PACKAGES)]
    where = f"{place.store}{SIGN}{place.host}"
    seen = time_of(taken_at)
    gaps = []
    if vouched != VouchedBy.SIGNED:
        why = "it was gathered without a list of hosts and keys: anybody could have made it up"
        gaps.append(Gap(f"who vouches for {where}", why))
    if store.shelf.doubt is not None:
        gaps.append(Gap(f"who vouches for {store.address}", store.shelf.doubt))

    def files_of(build: str) -> dict[str, Row]:
        with asked(store, FleetWish(), engine) as fleet:
            found = fleet.run(f"SELECT {_FILE} FROM build_files WHERE build = ?", [build])
        return {str(row[0]): tuple(row) for row in found}

    def ties() -> Ties:
        with asked(store, FleetWish(as_of=place.as_of), engine) as fleet:
            fleet.engine.keep("mine", _MINE, [name])
            fleet.engine.keep("wanted", _WANTED)
            return fleet.run("SELECT * FROM wanted"), fleet.run(_GIVES)

    return Held(
        SystemLabel(where, str(family), str(label), iso(seen) if seen else None), packages, parts,
        frozenset(known), files_of, gaps, ties,
    )  # fmt: skip


def _unknown(fleet: Fleet, place: HostPlace) -> BadQuestion:
    """Why there is no such host, and which are like it."""
    import difflib

    every = [str(host) for (host,) in fleet.run("SELECT DISTINCT host FROM snapshots")]
    if text_of(place.host) in every:
        return BadQuestion("it was not seen before that time", f"{place.store}{SIGN}{place.host}")
    close = difflib.get_close_matches(place.host, every, 3)
    hint = f"did you mean {', '.join(close)}?" if close else None
    return BadQuestion(f"no host is called {place.host}", place.store, hint)


def held_system(system: System, options: RepositoryOptions) -> Held:
    """A system as tables would hold it, asked now; rules are not asked of it."""
    found: Taken = taken_of(system, system.root, datetime.now(UTC), options, False)
    packages = [
        _build(found.builds[str(build)].row, str(state), None if reason is None else str(reason))
        for build, state, reason in found.parts["sets"]
    ]

    def files_of(build: str) -> dict[str, Row]:
        return {str(row[1]): tuple(row[1:]) for row in found.builds[build].files}

    return Held(
        system.system_label, packages, found.parts, frozenset(PARTS) - {"findings"}, files_of,
        list(system.gaps),
    )  # fmt: skip


def held_inventory(path: str) -> Held:
    """What a document of another program's lists, as far as that goes: packages. Raises BadQuestion."""
    try:
        with open(path, "rb") as file:
            data = file.read(_INVENTORY_LIMIT + 1)
    except OSError as error:
        raise BadQuestion(f"it cannot be read: {error.strerror}", path) from error
    if len(data) > _INVENTORY_LIMIT:
        raise BadQuestion(f"it is larger than {_INVENTORY_LIMIT:,} bytes", path)
    try:
        read = read_inventory(data)
    except InventoryError as error:
        raise BadQuestion(
            str(error), path, "give a CycloneDX or SPDX 2 document in JSON"
        ) from error
    kinds = Counter(one.kind for one in read.packages if one.kind)
    every = list(families())
    known = (one.name for kind, _ in kinds.most_common() for one in every if kind in one.url_types)
    family = next(known, "none")
    own = family_named(family).url_types
    # Which build it is of a version no document tells.
    packages = [
        HeldBuild(f"{one}", text_of(one.name), text_of(one.version), text_of(one.architecture or ""),
                  State.INSTALLED.value, None)
        for one in read.packages
        if one.kind in own
    ]  # fmt: skip
    gaps = [Gap(f"who vouches for {path}", f"it is what another program wrote, as {read.form}")]
    others = len(read.packages) - len(packages) + read.unnamed
    if others:
        why = f"they are no packages of the {family} family, or name none"
        gaps.append(Gap(f"{others:,} parts of {path}", why))
    label = SystemLabel(path, family, read.label, read.made_at)
    return Held(label, packages, {}, frozenset(), lambda _: {}, gaps)


def _build(row: Row, state: str, reason: str | None) -> HeldBuild:
    return HeldBuild(str(row[0]), str(row[2]), str(row[3]), str(row[5] or ""), state, reason)


_FILE = ", ".join(BY_NAME["build_files"].names[1:])
_PACKAGES = """
SELECT b.build, b.name, b.version, coalesce(b.architecture, ''), s.state, s.reason, b.source, b.vendor,
    b.size
FROM wanted w JOIN sets s ON s.part = w.sets JOIN builds b ON b.build = s.build
ORDER BY b.name, b.architecture, b.version
"""
_MINE = "SELECT s.build AS build FROM chosen c JOIN sets s ON s.part = c.sets WHERE c.host = ?"
_WANTED = """
SELECT n.build AS build, n.clause AS clause, n.need AS need, n.name AS name
FROM build_needs n JOIN mine m ON m.build = n.build
WHERE n.kind IN ('requires', 'requires-first') AND n.name IS NOT NULL
"""
_GIVES = """
SELECT g.build, g.name FROM build_gives g JOIN mine m ON m.build = g.build
UNION
SELECT f.build, f.path FROM build_files f JOIN mine m ON m.build = f.build
WHERE f.path IN (SELECT name FROM wanted WHERE name LIKE '/%')
"""
