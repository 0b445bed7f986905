"""Whether files are still as shipped."""

import sys
import time
from collections import Counter
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any, NamedTuple

from filigree.access.workers import Done, share
from filigree.model.answer import Answer, Gap
from filigree.model.errors import BadQuestion
from filigree.model.files import Aspect, Difference, Evidence, FileRecord, Kind, Role, Verdict
from filigree.model.package import Package, State
from filigree.model.roles import role_of
from filigree.questions.judging import Judged, form_of, judge
from filigree.questions.subjects import match_subjects
from filigree.system import System

SLICE = 2048
_SPARE = 1 << 30

LOUD = frozenset(verdict for verdict in Verdict if not verdict.quiet)


@dataclass(frozen=True, slots=True)
class FileVerdict:
    """The verdict on one path, what it rests on, and the differences that led to it.

    `reason` is why a file was excused or could not be read.
    """

    package: str
    architecture: str
    path: str
    role: Role
    verdict: Verdict
    evidence: Evidence
    differences: list[Difference]
    reason: str | None
    version: str


class Progress(NamedTuple):
    """How far a run has come: paths judged, of how many, and bytes read."""

    done: int
    total: int
    bytes_read: int


class _Job(NamedTuple):
    """A part of a package's files: the `part`-th of `parts`, of about `paths` paths."""

    package: Package
    part: int
    parts: int
    paths: int

    def of(self, records: list[FileRecord]) -> list[FileRecord]:
        count = len(records)
        return records[count * self.part // self.parts : count * (self.part + 1) // self.parts]


class _Outcome(NamedTuple):
    rows: list[FileVerdict]
    verdicts: Counter[Verdict]
    aspects: Counter[Aspect]
    unreadable: Counter[str]
    bytes_read: int
    gaps: list[Gap]
    touched: int = 0


def verify(
    system: System,
    subjects: Iterable[str] | None = None,
    verdicts: frozenset[Verdict] = LOUD,
    aspects: frozenset[Aspect] = frozenset(),
    workers: int | None = None,
    progress: Callable[[Progress], None] | None = None,
) -> Answer[FileVerdict]:
    """Judge every file of the subjects, or of every package where `subjects` is None.

    Returned are the files with one of the `verdicts` and, where `aspects` are given, a difference
    in one of those; the summary counts all. Uses as many processes as there are processors, or
    `workers`. An interrupt from the keyboard ends it with what was found so far.
    """
    started = time.monotonic()
    packages, notes = _packages(system, subjects)
    jobs = _jobs(system, packages)
    total = sum(job.paths for job in jobs)
    run = _Run(system, verdicts, aspects)
    tally = _Tally(total, progress)
    interrupted = False
    outcomes = share(jobs, run.judge_job, workers, kin=lambda job: id(job.package))
    try:
        for done in outcomes:
            tally.add(done, jobs[done.place])
    except KeyboardInterrupt:
        interrupted = True
    finally:
        outcomes.close()  # type: ignore[attr-defined]
    for gap in tally.gaps_of(interrupted):
        system.report(gap)
    order = {id(p): n for n, p in enumerate(packages)}
    tally.rows.sort(key=lambda found: (order[id(found[0])], found[1].path))
    return Answer(
        "verify",
        system.system_label,
        [row for _, row in tally.rows],
        tally.summary(system, packages, time.monotonic() - started),
        system.gaps,
        notes,
        bad_news=bool(notes) or any(v.alarming for v in tally.verdicts if tally.verdicts[v]),
        interrupted=interrupted,
    )


def _packages(
    system: System, subjects: Iterable[str] | None
) -> tuple[Sequence[Package], list[str]]:
    if subjects is not None:
        matched = match_subjects(system, subjects)
        for package in matched.packages:
            archive = system.archive_of(package)
            if archive is not None:
                raise BadQuestion(
                    f"{package.label} is an archive: what is judged is what is installed",
                    archive.facts.path,
                    "ask for its contents, or name the installed package",
                )
        return matched.packages, [str(unmatched) for unmatched in matched.unmatched]
    system.database.report_unclaimed()
    return [p for p in system.packages if p.state is not State.NOT_INSTALLED], []


def _jobs(system: System, packages: Sequence[Package]) -> list[_Job]:
    """Packages, and parts of those that are too large; the largest come first, the short ones last.

    The parts of one package go to one worker as long as there is other work for the others.
    """
    jobs: list[_Job] = []
    for package in sorted(packages, key=lambda p: -(p.installed_size or 0)):
        paths = system.database.path_count(package)
        parts = max(1, -(-paths // SLICE))
        jobs += (_Job(package, part, parts, paths // parts) for part in range(parts))
    return jobs


class _Run:
    """What every worker does with a job; inherited by each when it is forked."""

    def __init__(
        self, system: System, verdicts: frozenset[Verdict], aspects: frozenset[Aspect]
    ) -> None:
        self._system = system
        self._verdicts = verdicts
        self._aspects = aspects
        self._records = lru_cache(maxsize=2)(system.database.files)
        self._directories: dict[FileRecord, Judged] = {}

    def judge_job(self, job: _Job) -> _Outcome:
        known = len(self._system.gaps)
        outcome = _Outcome([], Counter(), Counter(), Counter(), 0, [])
        size = job.package.installed_size
        limit = sys.maxsize if size is None else 64 * size + _SPARE
        counts: dict[Verdict, int] = {}
        read = 0
        quick = Verdict.INTACT not in self._verdicts
        holds = self._system.jail.holds
        intact = touched = 0
        for record in job.of(self._records(job.package)):
            form = None
            if (
                quick
                and record.digest is not None
                and (record.digest_is_all or (form := form_of(self._system, record)))
                and record.moot is None
            ):
                size = holds(record.location, record.digest, limit, form)
                if size >= 0:
                    intact += 1
                    read += size
                    continue
            judged = self._judge(record, limit)
            verdict = judged.verdict
            counts[verdict] = counts.get(verdict, 0) + 1
            read += judged.read
            if verdict is Verdict.UNREADABLE:
                outcome.unreadable[judged.reason or ""] += 1
            if judged.differences:
                touched += verdict is Verdict.INTACT
                outcome.aspects.update(d.aspect for d in judged.differences)
            if verdict in self._verdicts and self._has_aspect(judged):
                outcome.rows.append(_row(job.package, record, judged))
        counts[Verdict.INTACT] = counts.get(Verdict.INTACT, 0) + intact
        outcome.verdicts.update(counts)
        gaps = self._system.gaps[known:]
        return outcome._replace(bytes_read=read, gaps=gaps, touched=touched)

    def _judge(self, record: FileRecord, limit: int) -> Judged:
        """The verdict on one file. A directory is on record of many packages, and looked at once."""
        if record.kind is not Kind.DIRECTORY:
            return judge(self._system, record, limit)
        judged = self._directories.get(record)
        if judged is None:
            judged = self._directories[record] = judge(self._system, record, limit)
        return judged

    def _has_aspect(self, judged: Judged) -> bool:
        return not self._aspects or any(d.aspect in self._aspects for d in judged.differences)


def _row(package: Package, record: FileRecord, judged: Judged) -> FileVerdict:
    return FileVerdict(
        package.name,
        package.architecture,
        record.location,
        role_of(record.path, record.kind, record.mode, record.mark),
        judged.verdict,
        Evidence.RECORD,
        list(judged.differences),
        judged.reason,
        package.version,
    )


class _Tally:
    """What has come in so far."""

    def __init__(self, total: int, progress: Callable[[Progress], None] | None) -> None:
        self.rows: list[tuple[Package, FileVerdict]] = []
        self.verdicts: Counter[Verdict] = Counter()
        self._aspects: Counter[Aspect] = Counter()
        self._unreadable: Counter[str] = Counter()
        self._gaps: list[Gap] = []
        self._bytes = self._touched = 0
        self._done = 0
        self._total = total
        self._progress = progress

    def add(self, done: Done[_Outcome], job: _Job) -> None:
        self._done += job.paths
        if done.result is None:
            why = done.failure or "it failed"
            self._gaps.append(Gap(f"about {job.paths} files of {job.package.name}", why))
        else:
            outcome = done.result
            self.rows += ((job.package, row) for row in outcome.rows)
            self.verdicts.update(outcome.verdicts)
            self._aspects.update(outcome.aspects)
            self._unreadable.update(outcome.unreadable)
            self._gaps += outcome.gaps
            self._bytes += outcome.bytes_read
            self._touched += outcome.touched
        if self._progress is not None:
            self._progress(Progress(self._done, self._total, self._bytes))

    def gaps_of(self, interrupted: bool) -> list[Gap]:
        gaps = list(self._gaps)
        for why, count in self._unreadable.most_common():
            gaps.append(Gap(f"{count} files that could not be read", why))
        if interrupted:
            left = f"about {self._total - self._done} of {self._total} paths"
            gaps.append(Gap(left, "interrupted before they were reached"))
        return gaps

    def summary(
        self, system: System, packages: Sequence[Package], seconds: float
    ) -> dict[str, Any]:
        return {
            "packages": len(packages),
            "unsound": {p.name: p.state.value for p in packages if not p.state.sound},
            "paths": self.verdicts.total(),
            "paths_in_all": self._total,
            "verdicts": {v.value: self.verdicts[v] for v in Verdict if self.verdicts[v]},
            "touched": self._touched,
            "aspects": {a.value: self._aspects[a] for a in Aspect if self._aspects[a]},
            "bytes_read": self._bytes,
            "seconds": round(seconds, 3),
            "evidence": Evidence.RECORD.value,
            "compared": sorted(aspect.value for aspect in system.database.aspects),
        }
