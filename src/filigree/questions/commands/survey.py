"""What kind of system this is: counts, sizes, freshness and health at a glance."""

from collections.abc import Iterator
from dataclasses import dataclass, replace
from datetime import UTC, datetime

from filigree.model.answer import Answer, Gap
from filigree.model.files import Kind
from filigree.model.images import ImageFacts
from filigree.model.package import Package
from filigree.model.snapshots import SnapshotFacts
from filigree.questions.asking.package_totals import by_reason, by_state, total_size
from filigree.questions.asking.silence import WHY_INSTALLED, report_silence
from filigree.questions.planning.impact import installed_impact
from filigree.questions.planning.room import FileSystemRoom, room
from filigree.system import System

BIGGEST = 10
MOST_NEEDED = 5


@dataclass(frozen=True, slots=True)
class Weight:
    """A package and its installed size in bytes."""

    name: str
    version: str
    architecture: str
    installed_size: int | None


@dataclass(frozen=True, slots=True)
class Impact:
    """A package, and how many others stand on it."""

    name: str
    version: str
    architecture: str
    impact: int


@dataclass(frozen=True, slots=True)
class KeptFiles:
    """What the system keeps of what it fetched, in one place: `archives` or `indexes`."""

    what: str
    where: str
    files: int
    size: int


@dataclass(frozen=True, slots=True)
class Survey:
    """A system at a glance. `newest_change` is when a package was last installed or changed; `kept` is
    what it keeps of what it fetched, `room` what is free on its file systems. `image` is what an image
    says of itself, `taken` what a snapshot does; None where the root is none."""

    family: str
    label: str
    architecture: str | None
    packages: int
    states: dict[str, int]
    reasons: dict[str, int] | None
    held_packages: list[str]
    troubled_packages: list[str]
    installed_size: int
    paths: int
    distinct_paths: int
    newest_change: datetime | None
    newest_package: str | None
    age_days: int | None
    biggest: list[Weight]
    most_needed: list[Impact]
    kept: list[KeptFiles]
    room: list[FileSystemRoom]
    image: ImageFacts | None
    taken: SnapshotFacts | None


@dataclass(frozen=True, slots=True)
class SurveySummary:
    """How many packages are there, and their size on record, in bytes."""

    packages: int
    installed_size: int


def survey(system: System, now: datetime | None = None) -> Answer[Survey, SurveySummary]:
    """The system at a glance; `now` is what ages are counted to. Bad news where one is not sound."""
    present = [p for p in system.packages if p.state.present]
    paths, distinct = system.paths.count()
    newest = max(
        (p for p in present if p.installed_at), key=lambda p: (p.installed_at, p.name), default=None
    )
    impacts = installed_impact(system)
    taken = system.tree.taken
    troubled = [p.name for p in present if not p.state.sound or p.damaged]
    record = Survey(
        family=system.family.name,
        label=system.label,
        architecture=system.database.architecture,
        packages=len(present),
        states=by_state(system.packages),
        reasons=None if report_silence(system, "reason", WHY_INSTALLED) else by_reason(present),
        held_packages=[p.name for p in present if p.held],
        troubled_packages=troubled,
        installed_size=total_size(present),
        paths=paths,
        distinct_paths=distinct,
        newest_change=newest.installed_at if newest else None,
        newest_package=newest.name if newest else None,
        age_days=_age(newest, now or datetime.now(UTC)),
        biggest=[
            Weight(p.name, p.version, p.architecture, p.installed_size)
            for p in sorted(present, key=lambda p: (-(p.installed_size or 0), p.name))[:BIGGEST]
        ],
        most_needed=[
            Impact(p.name, p.version, p.architecture, count)
            for p, count in sorted(impacts, key=lambda one: (-one[1], one[0].name))[:MOST_NEEDED]
            if count
        ],
        kept=list(_kept(system)),
        room=room(system),
        image=system.tree.layered.facts if system.tree.layered else None,
        taken=taken and replace(taken, signature=system.snapshot_signature),
    )
    summary = SurveySummary(len(present), record.installed_size)
    return Answer(
        "survey", system.system_label, [record], summary, system.gaps, bad_news=bool(troubled)
    )


def _kept(system: System) -> Iterator[KeptFiles]:
    """What lies in the folders of archives and of indexes, by the folders that the family names."""
    archives = system.family.archives
    counted: set[str] = set()
    for what, folders in (
        ("archives", system.database.archive_folders()), ("indexes", system.database.index_folders()),
    ):  # fmt: skip
        for folder in folders:
            if not system.tree.is_directory(folder):
                continue
            files = size = 0
            for found in system.tree.walk(system.tree.real_path(folder)):
                if isinstance(found, Gap):
                    system.report(found)
                    continue
                name = found.path.rpartition("/")[2]
                packed = archives is not None and archives.parts_of_name(name) is not None
                if found.kind is not Kind.FILE or packed is (what == "indexes"):
                    continue
                if found.path not in counted:  # a folder may lie in another one
                    counted.add(found.path)
                    files, size = files + 1, size + found.size
            if files:
                yield KeptFiles(what, folder, files, size)


def _age(newest: Package | None, now: datetime) -> int | None:
    if newest is None or newest.installed_at is None:
        return None
    return max(0, (now - newest.installed_at).days)
