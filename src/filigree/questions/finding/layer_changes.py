"""What each layer of an image did: to the packages on record, to their files, and to what is nobody's.

Rules, before the code that keeps them:

- A package is brought, changed or removed by the layer whose records say so first. Where its version is
  the same and what its record tells of its files is not, the record was changed: that is told as a change
  from a version to itself.
- The files of a package are its own affair in a layer that brings, removes or changes it to another
  version. Whatever else a layer does to a path of a package is foreign: it stands first.
- A time of change alone is no change. What is hidden again above is told of the layer that brought it.
"""

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import NamedTuple

from filigree.access.trees.protocol import Entry, Layered, LayerStep, PathChange
from filigree.model.answer import Gap
from filigree.model.errors import DatabaseError, NoSystem
from filigree.model.files import Aspect, Kind, Observation, Role
from filigree.model.images import LayerFacts
from filigree.model.package import Package
from filigree.questions.finding.causes import Cause, Causes
from filigree.questions.finding.owned_paths import owned_paths
from filigree.questions.finding.ranks import Rank, rank_of
from filigree.system import System

NAMED = 10_000
"""So many paths of one sort and rank are named, of one layer."""

_Identity = tuple[str, str, str]


@dataclass(frozen=True, slots=True)
class LayerPackage:
    """A package that a layer brought, changed or removed. `before` is the version that was there below:
    the same, where only what its record tells was changed; None where there was none."""

    name: str
    version: str
    architecture: str
    before: str | None


@dataclass(frozen=True, slots=True)
class LayerPath:
    """What a layer did to a path, and how the path is then; as it was, where it is gone.

    `package` is whose it is on record, None for nobody's; `recorded_in` the layer that this record
    stands in. `aspects` are in what it is another than below (`presence`: it came, or went), `over` the
    layer that had it below, `hidden_by` the layer that hides it again. `cause` is why a file of nobody's
    may be there. `mode_before` is the mode below, None where nothing was there; `link_target` where
    a link leads.
    """

    path: str
    kind: Kind
    mode: str
    mode_before: str | None
    size: int
    link_target: str | None
    rank: Rank
    aspects: list[Aspect]
    over: int | None
    package: str | None
    recorded_in: int | None
    role: Role | None
    cause: Cause | None
    hidden_by: int | None


@dataclass(slots=True)
class LayerFiles:
    """What a layer did to files.

    `altered` and `removed` are paths of packages whose records do not stand in it; `of_nobody` what it
    brought or changed that no package has: programs and what runs with others' rights by name, all by
    count. `hidden` are paths that it brought and a layer above hides: likewise. Sizes are bytes.
    """

    altered: list[LayerPath] = field(default_factory=list)
    removed: list[LayerPath] = field(default_factory=list)
    of_nobody: list[LayerPath] = field(default_factory=list)
    of_nobody_count: int = 0
    of_nobody_size: int = 0
    hidden: list[LayerPath] = field(default_factory=list)
    hidden_count: int = 0
    hidden_size: int = 0

    @property
    def foreign(self) -> Iterator[LayerPath]:
        """What it did to the files of packages of other layers."""
        yield from self.altered
        yield from self.removed


@dataclass(slots=True)
class LayerHistory:
    """One layer, and what it did."""

    facts: LayerFacts
    brings: list[LayerPackage] = field(default_factory=list)
    changes: list[LayerPackage] = field(default_factory=list)
    removes: list[LayerPackage] = field(default_factory=list)
    files: LayerFiles = field(default_factory=LayerFiles)


class _Records(NamedTuple):
    """What is on record with some layers laid: packages, what each record tells, and whose paths are."""

    packages: Mapping[_Identity, Package]
    told: Mapping[_Identity, int]
    owned: Mapping[str, list[Package]]
    config: frozenset[str]


_NOTHING = _Records({}, {}, {}, frozenset())


class LayerHistories:
    """Follows the layers of an image from the lowest on."""

    def __init__(self, system: System, layered: Layered) -> None:
        self._system = system
        self._layered = layered
        self._since: dict[_Identity, int] = {}
        self._found: dict[int, LayerHistory] = {}
        self._dropped: Counter[int] = Counter()
        self._named: Counter[tuple[int, bool, bool, Rank]] = Counter()

    def all(self) -> list[LayerHistory]:
        """The history of every layer. Gaps of the records below are reported."""
        below = _NOTHING
        for step in self._layered.steps():
            here, opened = self._records(step, below)
            self._found[step.facts.number] = history = LayerHistory(step.facts)
            self._packages(history, below, here)
            self._paths(history, step, below, here, opened)
            if opened is not None:
                opened.close()
            below = here
        for number, count in self._dropped.items():
            why = f"more than {NAMED:,} paths of one sort are counted, and not named"
            self._system.report(Gap(f"layer {number}: {count:,} paths", why))
        for history in self._found.values():
            files = history.files
            for paths in (files.altered, files.removed, files.of_nobody, files.hidden):
                paths.sort(key=_gravest)
        return list(self._found.values())

    def _records(self, step: LayerStep, below: _Records) -> tuple[_Records, System | None]:
        """What is on record now. Each state is read as a system of its own is."""
        try:
            system = System(step.tree)
        except (NoSystem, DatabaseError) as error:
            if below is not _NOTHING:
                self._system.report(Gap(f"layer {step.facts.number}", error.what))
            return _NOTHING, None
        packages = {}
        told = {}
        config: set[str] = set()
        for package in system.packages:
            if not package.state.present:
                continue
            identity = (package.name, package.architecture, package.version)
            packages[identity] = package
            files = system.database.files(package)
            told[identity] = hash((package.state, tuple(files)))
            config.update(one.location for one in files if one.config)
        owned = owned_paths(system, ["/"], present=True)
        known = set(self._system.gaps)
        for what, why in system.gaps:
            if Gap(what, why) not in known:
                self._system.report(Gap(f"layer {step.facts.number}: {what}", why))
        return _Records(packages, told, owned, frozenset(config)), system

    # -- packages --------------------------------------------------------------------------

    def _packages(self, history: LayerHistory, below: _Records, here: _Records) -> None:
        number = history.facts.number
        older, newer = _versions(below), _versions(here)
        for name, architecture in sorted({*older, *newer}):
            old = older.get((name, architecture), [])
            new = newer.get((name, architecture), [])
            came = [one for one in new if one not in old]
            went = [one for one in old if one not in new]
            for version, before in zip(came, went, strict=False):
                history.changes.append(LayerPackage(name, version, architecture, before))
            for version in came[len(went) :]:
                history.brings.append(LayerPackage(name, version, architecture, None))
            for version in went[len(came) :]:
                history.removes.append(LayerPackage(name, version, architecture, version))
            for version in came:
                self._since[name, architecture, version] = number
            for version in new:
                identity = (name, architecture, version)
                if version in old and below.told[identity] != here.told[identity]:
                    history.changes.append(LayerPackage(name, version, architecture, version))

    # -- paths -----------------------------------------------------------------------------

    def _paths(
        self, history: LayerHistory, step: LayerStep, below: _Records, here: _Records,
        opened: System | None,
    ) -> None:  # fmt: skip
        causes = None if opened is None else Causes(opened, here.owned)
        files, number = history.files, history.facts.number
        moved = {
            (one.name, one.architecture, version)
            for one in (*history.brings, *history.changes, *history.removes)
            if one.before != one.version or one in history.removes
            for version in (one.version, one.before)
        }
        for change in step.changes:
            if change.hides and change.before is not None and change.over is not None:
                self._hidden(change, below, number)
            aspects = _aspects(change.before, change.after)
            if not aspects:
                continue
            records = here if change.path in here.owned else below
            owners = records.owned.get(change.path, ())
            if change.after is not None and (not owners or records is below):
                if change.after.kind is not Kind.DIRECTORY:
                    self._of_nobody(history, change, aspects, causes)
                continue
            for package in owners:
                if (package.name, package.architecture, package.version) not in moved:
                    row = self._row(change, aspects, package, records)
                    self._add(files.removed if change.after is None else files.altered, row, number)
                    break

    def _row(
        self, change: PathChange, aspects: list[Aspect], package: Package, records: _Records
    ) -> LayerPath:
        identity = (package.name, package.architecture, package.version)
        return _row(
            change, aspects, package=package.name, recorded_in=self._since.get(identity),
            role=Role.CONFIG if change.path in records.config else None,
        )  # fmt: skip

    def _of_nobody(
        self,
        history: LayerHistory,
        change: PathChange,
        aspects: list[Aspect],
        causes: Causes | None,
    ) -> None:
        after = change.after
        assert after is not None
        files = history.files
        files.of_nobody_count += 1
        files.of_nobody_size += after.size if after.kind is Kind.FILE else 0
        row = _row(change, aspects)
        if row.rank is not Rank.OTHER:
            cause = None if causes is None else causes.of(_entry(change.path, after))[0]
            self._add(files.of_nobody, replace(row, cause=cause), history.facts.number)

    def _hidden(self, change: PathChange, below: _Records, number: int) -> None:
        before, over = change.before, change.over
        assert before is not None
        assert over is not None
        history = self._found.get(over)
        if history is None or before.kind is not Kind.FILE:
            return
        history.files.hidden_count += 1
        history.files.hidden_size += before.size
        same = change.after is not None and change.after.digest == before.digest
        if rank_of(before.kind, before.mode) is not Rank.OTHER and not same:
            owners = below.owned.get(change.path)
            name = owners[0].name if owners else None
            row = _row(change._replace(after=None), [], package=name, hidden_by=number)
            self._add(history.files.hidden, row, over)

    def _add(self, rows: list[LayerPath], row: LayerPath, number: int) -> None:
        # By rank: whoever alters ten thousand harmless paths hides no program among them.
        at = (number, row.hidden_by is not None, Aspect.PRESENCE in row.aspects, row.rank)
        self._named[at] += 1
        if self._named[at] <= NAMED:
            rows.append(row)
        else:
            self._dropped[number] += 1


def _versions(records: _Records) -> dict[tuple[str, str], list[str]]:
    """The versions of each package, by name and architecture."""
    found: dict[tuple[str, str], list[str]] = {}
    for name, architecture, version in records.packages:
        found.setdefault((name, architecture), []).append(version)
    return found


_ASPECTS = (
    (Aspect.KIND, "kind"), (Aspect.CONTENT, "digest"), (Aspect.MODE, "mode"), (Aspect.OWNER, "uid"),
    (Aspect.GROUP, "gid"), (Aspect.LINK_TARGET, "link_target"), (Aspect.DEVICE, "device"),
    (Aspect.CAPABILITIES, "capabilities"),
)  # fmt: skip


def _aspects(before: Observation | None, after: Observation | None) -> list[Aspect]:
    """In what a path is another than it was; a time of change is none of it."""
    if before is None or after is None:
        return [Aspect.PRESENCE]
    if before.kind is not after.kind:
        return [Aspect.KIND]
    return [one for one, name in _ASPECTS if getattr(before, name) != getattr(after, name)]


def _row(
    change: PathChange, aspects: list[Aspect], package: str | None = None,
    recorded_in: int | None = None, role: Role | None = None, hidden_by: int | None = None,
) -> LayerPath:  # fmt: skip
    seen = change.after or change.before
    assert seen is not None
    return LayerPath(
        path=change.path, kind=seen.kind, mode=f"{seen.mode:04o}", size=seen.size,
        mode_before=None if change.before is None else f"{change.before.mode:04o}",
        link_target=seen.link_target,
        rank=Rank.RIGHTS if seen.capabilities else rank_of(seen.kind, seen.mode), aspects=aspects,
        over=change.over, package=package, recorded_in=recorded_in, role=role, cause=None,
        hidden_by=hidden_by,
    )  # fmt: skip


def _entry(path: str, seen: Observation) -> Entry:
    return Entry(
        path, seen.kind, seen.size, seen.mode, seen.uid, seen.gid, seen.modified, seen.link_target
    )


_RANKS = {rank: place for place, rank in enumerate(Rank)}


def _gravest(row: LayerPath) -> tuple[int, bool, bool, str]:
    return _RANKS[row.rank], row.role is Role.CONFIG, row.cause is not None, row.path
