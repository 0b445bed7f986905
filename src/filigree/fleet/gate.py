"""The gate: what is brought is opened, judged, and written as tables; what is bad costs only itself.

Rules, before the code that keeps them:

- With a list of hosts and keys only what a host's own key has signed is taken in. A snapshot that
  claims a host's name and is signed by another's key, or by nobody known, is refused, and that is told.
- What is as old as what is there of that host, or older, is refused then: it may be a replay.
- Without a list all is taken in, and every answer says that nobody vouches for it.
- Identities are made of contents, here, whatever a snapshot says of itself.
"""

import os
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import StrEnum

from filigree.access.roots import RootChoice
from filigree.fleet.engines import write_table
from filigree.fleet.form import BUILDS, BY_NAME, PARTS, REFUSED, SNAPSHOTS, TABLES
from filigree.fleet.identity import Row, text_of
from filigree.fleet.opened import opened_whole
from filigree.fleet.store import File, FleetStore
from filigree.fleet.taking import Taken, rows_of, snapshot_identity, taken_of
from filigree.fleet.tidying import LOOSE, brought_up, merged
from filigree.fleet.vouching import listed_hosts, signer_of
from filigree.model.answer import Answer, Gap, SystemLabel
from filigree.model.errors import BadQuestion, FiligreeError
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.timeline.times import EARLY
from filigree.system import System, open_system

_AT_ONCE = 64
_PATHS_AT_ONCE = 300_000
"""So many hosts, or so many paths of theirs, are held in memory until they are written."""


class GateOutcome(StrEnum):
    """What became of what was brought."""

    GATHERED = "gathered"
    KNOWN = "known"
    REFUSED = "refused"


class VouchedBy(StrEnum):
    """Who vouches for a snapshot: a key that the auditor listed for that host, or nobody."""

    SIGNED = "signed"
    NOBODY = "nobody"


@dataclass(frozen=True, slots=True)
class GatherRow:
    """What became of one snapshot or root. `why` is why it was refused, None where it was not."""

    what: str
    host: str | None
    outcome: GateOutcome
    why: str | None = None
    snapshot: str | None = None
    vouched: VouchedBy | None = None
    taken_at: datetime | None = None
    packages: int | None = None
    paths: int | None = None


@dataclass(frozen=True, slots=True)
class GatherSummary:
    """How many were gathered, known already, refused; `hosts` are those of the store by now."""

    gathered: int
    known: int
    refused: int
    hosts: int


@dataclass(frozen=True, slots=True)
class Gathering:
    """How it is gathered: by which list of hosts (None: without one), under which name a root is that
    tells none, with or without rules asked of each. `progress` is told what is at hand, and of how
    many."""

    hosts: str | None = None
    name: str | None = None
    roots: tuple[str, ...] = ()
    rules: bool = True
    cache: str | None = None
    now: datetime | None = None
    progress: Callable[[str, int, int], None] | None = None


class _Refused(Exception):
    """Why something is not taken in."""


@dataclass(slots=True)
class _Brought:
    """What passed the gate, and waits to be written."""

    what: str
    taken: Taken
    vouched: VouchedBy
    signer: str | None


def gather(
    store: FleetStore, snapshots: Sequence[str], how: Gathering
) -> Answer[GatherRow, GatherSummary]:
    """Take in snapshots, and the roots of `how`. Bad news where one was refused.

    Raises BadQuestion where the list of hosts is none, or the store cannot be written.
    """
    if how.hosts is not None and how.roots:
        why = "with a list only what is signed is taken in, and a root is signed by nobody"
        raise BadQuestion(
            why, how.roots[0], "gather it without the list, or a snapshot that is signed"
        )
    gate = _Gate(store, how)
    rows: list[GatherRow] = []
    interrupted = False
    try:
        for told in gate.all_of([*_in_order(snapshots), *how.roots]):
            rows.append(told)
    except KeyboardInterrupt:
        interrupted = True
    rows += gate.write_waiting()
    gate.tidy()
    counts = {one: sum(row.outcome is one for row in rows) for one in GateOutcome}
    summary = GatherSummary(
        counts[GateOutcome.GATHERED],
        counts[GateOutcome.KNOWN],
        counts[GateOutcome.REFUSED],
        gate.hosts(),
    )
    gaps = [Gap(row.what, row.why or "") for row in rows if row.outcome is GateOutcome.REFUSED]
    return Answer(
        "fleet gather", SystemLabel(store.address, "fleet", f"{summary.hosts:,} hosts"), rows, summary,
        gaps, bad_news=bool(gaps), interrupted=interrupted,
    )  # fmt: skip


def take_in(
    store: FleetStore, hosts: Iterable[Taken], how: Gathering, at_once: int = _AT_ONCE
) -> int:
    """Write hosts that are rows already, whoever made those: nobody vouches for them. How many were
    new."""
    gate = _Gate(store, how)
    told: list[GatherRow] = []
    for taken in hosts:
        gate.waiting.append(_Brought(taken.host, taken, VouchedBy.NOBODY, None))
        if len(gate.waiting) >= at_once:
            told += gate.write_waiting()
            gate.tidy()
    told += gate.write_waiting()
    gate.tidy()
    return sum(row.outcome is GateOutcome.GATHERED for row in told)


def _in_order(snapshots: Sequence[str]) -> list[str]:
    """Snapshots, the earliest first, as they say themselves."""

    def when(path: str) -> str:
        try:
            with open_system(path, None) as system:
                taken = system.tree.taken
                return taken.ended if taken is not None else ""
        except (FiligreeError, OSError):
            return ""

    return sorted(snapshots, key=when) if len(snapshots) > 1 else list(snapshots)


class _Gate:
    def __init__(self, store: FleetStore, how: Gathering) -> None:
        self._store = store
        brought_up(store)
        self._how = how
        self._now = how.now or datetime.now(UTC)
        self._listed = listed_hosts(how.hosts) if how.hosts is not None else None
        self._options = RepositoryOptions(cache=how.cache)
        self._refusals: list[Row] = []
        self.waiting: list[_Brought] = []

    def all_of(self, every: Sequence[str]) -> Iterator[GatherRow]:
        """Judge one after the other, and write them when there are some; what is bad is refused."""
        for number, what in enumerate(every):
            if self._how.progress is not None:
                self._how.progress(what, number, len(every))
            try:
                self.waiting.append(self.judged(what))
            except _Refused as error:
                yield self.refuse(what, None, str(error))
            except (FiligreeError, OSError) as error:
                yield self.refuse(what, None, f"it cannot be opened: {error}")
            except Exception as error:  # whatever is in it: it costs no other one
                yield self.refuse(what, None, f"it cannot be read: {type(error).__name__}: {error}")
            paths = sum(one.taken.paths for one in self.waiting)
            if len(self.waiting) >= _AT_ONCE or paths >= _PATHS_AT_ONCE:
                yield from self.write_waiting()

    def write_waiting(self) -> list[GatherRow]:
        """Write what passed, and was not written yet."""
        told = self.write(self.waiting)
        self.waiting = []
        return told

    # -- judging ----------------------------------------------------------------------------

    def judged(self, what: str) -> _Brought:
        """One snapshot or root as rows, if it may pass."""
        with open_system(what, choice=RootChoice(cache=self._how.cache)) as system:
            taken = system.tree.taken
            if taken is None:
                host, at = self._how.name or _host_name(system, what), self._now
                if self._listed is not None:
                    raise _Refused("it is no snapshot, and nobody signed it")
                vouched, signer = VouchedBy.NOBODY, None
            else:
                host, at = taken.label or taken.host or _stem(what), _moment(taken.ended)
                vouched, signer = self._vouched(system, host)
            if at > self._now + EARLY:
                raise _Refused("it is of the future")
            return _Brought(
                what, taken_of(system, host, at, self._options, self._how.rules), vouched, signer
            )

    def _vouched(self, system: System, host: str) -> tuple[VouchedBy, str | None]:
        if self._listed is None:
            return VouchedBy.NOBODY, None
        own = self._listed.get(host)
        if own is None:
            raise _Refused(f"no host of the list is called {host}")
        signer = signer_of(system, [own])
        if signer is not None:
            return VouchedBy.SIGNED, signer[1]
        found = system.snapshot_signature
        why = found.reason or found.verdict.value if found is not None else "it is unsigned"
        others = [one for one in self._listed.values() if one.name != host]
        other = signer_of(system, others) if others else None
        if other is not None:
            raise _Refused(f"it claims to be of {host}, and is signed by the key of {other[0]}")
        raise _Refused(f"no key of {host} has signed it: {why}")

    # -- writing ----------------------------------------------------------------------------

    def write(self, brought: Sequence[_Brought]) -> list[GatherRow]:
        """Write what passed; again where somebody else wrote meanwhile. What is there already, or is a
        replay, is told."""
        told: list[GatherRow] = []

        def files() -> list[File] | None:
            nonlocal told
            told, rows = self._rows(brought)
            made = self._files(rows) if any(rows.values()) else []
            return [*self._store.list.files, *made] if made else None

        self._store.change_surely(files)
        self._refusals = []
        return told

    def _rows(self, brought: Sequence[_Brought]) -> tuple[list[GatherRow], dict[str, list[Row]]]:
        with opened_whole(self._store, (BUILDS, SNAPSHOTS)) as known:
            builds = {str(row[0]) for row in known.run(f"SELECT build FROM {BUILDS.name}")}
            # A part is only ever written together with a snapshot that names it.
            parts = {
                str(part) for name in PARTS
                for (part,) in known.run(f"SELECT DISTINCT {name} FROM {SNAPSHOTS.name}")
            }  # fmt: skip
            latest = {
                str(host): int(at)
                for host, at in known.run(
                    f"SELECT host, max(taken_at) FROM {SNAPSHOTS.name} GROUP BY host"
                )
            }
            seen = {str(row[0]) for row in known.run(f"SELECT snapshot FROM {SNAPSHOTS.name}")}
        told: list[GatherRow] = []
        rows: dict[str, list[Row]] = {table.name: [] for table in TABLES}
        for one in brought:
            identity = snapshot_identity(one.taken)
            late = latest.get(one.taken.host)
            if identity in seen:
                told.append(_row(one, GateOutcome.KNOWN, identity))
                continue
            if self._listed is not None and late is not None and one.taken.taken_at <= late:
                why = "there is a newer one of that host: this may be a replay"
                told.append(self.refuse(one.what, one.taken.host, why))
                continue
            for name, more in rows_of(one.taken, builds, parts).items():
                rows[name] += more
            builds.update(one.taken.builds)
            parts.update(one.taken.identities().values())
            seen.add(identity)
            latest[one.taken.host] = max(late or 0, one.taken.taken_at)
            rows[SNAPSHOTS.name].append(_snapshot_row(one, identity, self._now))
            told.append(_row(one, GateOutcome.GATHERED, identity))
        rows[REFUSED.name] = list(self._refusals)
        return told, rows

    def _files(self, rows: dict[str, list[Row]]) -> list[File]:
        month = f"{self._now:%Y-%m}"
        with tempfile.TemporaryDirectory(prefix="filigree-fleet-") as folder:
            made = []
            # What names others comes last: so nothing names what is not there, whatever ends this.
            for name in sorted(
                (one for one in rows if rows[one]), key=lambda one: one == SNAPSHOTS.name
            ):
                path = os.path.join(folder, f"{name}.parquet")
                made.append((name, path, write_table(BY_NAME[name], rows[name], path)))
            return self._store.add(made, month)

    def refuse(self, what: str, host: str | None, why: str) -> GatherRow:
        """Note that something was refused: it is a gap of the fleet."""
        row = (text_of(what), host and text_of(host), text_of(why), int(self._now.timestamp()))
        if row not in self._refusals:
            self._refusals.append(row)
        return GatherRow(what=what, host=host, outcome=GateOutcome.REFUSED, why=why)

    def tidy(self) -> None:
        """Compact the store, if it is time."""
        merged(self._store, LOOSE)

    def hosts(self) -> int:
        """How many hosts the store has."""
        with opened_whole(self._store, (BUILDS, SNAPSHOTS)) as known:
            return int(known.run(f"SELECT count(DISTINCT host) FROM {SNAPSHOTS.name}")[0][0])


def _snapshot_row(one: _Brought, identity: str, now: datetime) -> Row:
    taken, parts = one.taken, one.taken.identities()
    texts = (
        identity, taken.host, taken.family, taken.label, text_of(one.what), one.vouched.value, one.signer,
    )  # fmt: skip
    numbers = (taken.taken_at, int(now.timestamp()), taken.packages, taken.paths)
    return (*texts, *(parts[name] for name in PARTS), *numbers)


def _row(one: _Brought, outcome: GateOutcome, identity: str) -> GatherRow:
    taken = one.taken
    return GatherRow(
        what=one.what, host=taken.host, outcome=outcome, snapshot=identity, vouched=one.vouched,
        taken_at=datetime.fromtimestamp(taken.taken_at, UTC), packages=taken.packages, paths=taken.paths,
    )  # fmt: skip


def _moment(text: str) -> datetime:
    try:
        found = datetime.fromisoformat(text)
    except ValueError as error:
        raise _Refused("it does not tell when it was taken") from error
    return found if found.tzinfo is not None else found.replace(tzinfo=UTC)


def _host_name(system: System, what: str) -> str:
    """What a root calls itself."""
    try:
        data = system.tree.read_or_none("/etc/hostname", 4096) or b""
    except FiligreeError:
        data = b""
    name = data.decode("utf-8", "replace").strip().splitlines()
    return name[0].strip() if name and name[0].strip() else _stem(what)


def _stem(what: str) -> str:
    return os.path.basename(what.rstrip("/")).partition(".")[0] or what
