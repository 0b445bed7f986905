"""Whether files are still as shipped."""

import os
import sys
import time
import zlib
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any, NamedTuple

from filigree.access.workers import Done, share
from filigree.model.answer import Answer, Gap
from filigree.model.files import (
    Aspect,
    Difference,
    Evidence,
    FileRecord,
    Kind,
    Role,
    Seen,
    Verdict,
)
from filigree.model.package import Package, State
from filigree.model.roles import role_of
from filigree.model.seals import Seal, SealVerdict
from filigree.questions.expected import RANK, Expected, Expecting
from filigree.questions.judging import Judged, form_of, judge
from filigree.questions.references import NOTHING, Against, References
from filigree.questions.scopes import EVERYTHING, Chosen
from filigree.questions.subjects import match_subjects
from filigree.questions.vouching import Vouching, same_package
from filigree.system import System

SLICE = 2048
HEAVY = 256 << 20
"""More paths, or more bytes, are shared out in parts."""
_NAMED = 8
SIGNED = "as it was signed"
_SPARE = 1 << 30

LOUD = frozenset(verdict for verdict in Verdict if not verdict.quiet)


@dataclass(frozen=True, slots=True)
class FileVerdict:
    """The verdict on one path, what it rests on, and the differences that led to it.

    `reason` is why a file was excused or could not be read, or in what way its record was changed.
    `seen` is how the file was when its content was read, None where it was not.
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
    seen: Seen | None


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

    def of(self, records: Sequence[FileRecord]) -> Sequence[FileRecord]:
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
    reused: int = 0
    passed: int = 0
    weaker: int = 0
    evidence: Evidence = Evidence.RECORD
    seal: SealVerdict | None = None
    archive: bool = False
    lacking: str | None = None
    compared: frozenset[Aspect] = frozenset()


@dataclass(frozen=True, slots=True)
class Manner:
    """How files are verified.

    `least` is the least evidence that counts: what cannot reach it is not judged, and is a gap. `since`
    are files as an earlier run saw them, by path: what is still so is not read again. `sample` is a
    percentage of the files, drawn by chance; `read_all` reads also what has another size than it must.
    """

    against: Against = NOTHING
    least: Evidence = Evidence.RECORD
    since: Mapping[str, Seen] | None = None
    sample: float | None = None
    read_all: bool = False


AS_USUAL = Manner()


def verify(
    system: System,
    subjects: Iterable[str] | None = None,
    verdicts: frozenset[Verdict] = LOUD,
    aspects: frozenset[Aspect] = frozenset(),
    workers: int | None = None,
    progress: Callable[[Progress], None] | None = None,
    manner: Manner = AS_USUAL,
    chosen: Chosen = EVERYTHING,
) -> Answer[FileVerdict]:
    """Judge every file of the subjects, or of every package where `subjects` is None.

    Returned are the files with one of the `verdicts` and, where `aspects` are given, a difference
    in one of those; the summary counts all. Uses as many processes as there are processors, or
    `workers`. An interrupt from the keyboard ends it with what was found so far. `manner` says what
    files are held against, `chosen` whose keys and which repositories count.
    """
    started = time.monotonic()
    packages, notes, archives = _chosen_packages(system, subjects)
    against = manner.against
    if archives:
        against = replace(against, paths=(*against.paths, *archives))
    elif (RANK[manner.least] or against.fetch) and not against.named:
        against = replace(against, everywhere=True)
    if against.repositories:
        names = (*chosen.repositories, *against.repositories)
        chosen = chosen._replace(repositories=names)
    vouching = Vouching(system, chosen)
    try:
        expecting = _expecting(system, packages, against, chosen, vouching)
        notes += vouching.notes
    finally:
        vouching.close()  # workers must not share what is open
    jobs = _jobs(system, packages)
    total = sum(job.paths for job in jobs)
    run = _Run(system, verdicts, aspects, manner, expecting)
    tally = _Tally(total, manner, progress)
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
    summary = tally.summary(system, packages, time.monotonic() - started)
    summary["keys_of"] = vouching.trust.keys_of
    summary["fetched"] = expecting.fetched
    return Answer(
        "verify",
        system.system_label,
        [row for _, row in tally.rows],
        summary,
        system.gaps,
        notes,
        bad_news=bool(notes) or any(v.alarming for v in tally.verdicts if tally.verdicts[v]),
        interrupted=interrupted,
    )


def _expecting(
    system: System,
    packages: Sequence[Package],
    against: Against,
    chosen: Chosen,
    vouching: Vouching,
) -> Expecting:
    """What packages are held against; a family whose records are unsigned takes no keys for those."""
    if against.anything:
        references = References(system, packages, against, chosen, vouching)
        return Expecting(system, vouching, references)
    now = vouching.trust.now
    sealed = any(system.database.record_seal(one, (), now) is not None for one in packages[:1])
    return Expecting(system, vouching if sealed else None)


def _chosen_packages(
    system: System, subjects: Iterable[str] | None
) -> tuple[Sequence[Package], list[str], list[str]]:
    """What is verified, what matched nothing, and the archives that were named as subjects.

    An archive as a subject is what the installed package of its name is held against.
    """
    if subjects is None:
        system.database.report_unclaimed()
        return [p for p in system.packages if p.state is not State.NOT_INSTALLED], [], []
    matched = match_subjects(system, subjects)
    notes = [str(unmatched) for unmatched in matched.unmatched]
    found: dict[int, Package] = {}
    archives = []
    for package in matched.packages:
        archive = system.archive_of(package)
        if archive is None:
            found[id(package)] = package
            continue
        here = [one for one in system.present([package.name]) if same_package(system, one, package)]
        found.update((id(one), one) for one in here)
        archives.append(archive.facts.path)
        if not here:
            there = ", ".join(one.label for one in system.present([package.name]))
            known = f"; on record is {there}" if there else ""
            notes.append(f"{package.label} of {archive.facts.path} is not installed{known}")
    return list(found.values()), notes, archives


def _jobs(system: System, packages: Sequence[Package]) -> list[_Job]:
    """Packages, and parts of those that are too large; the largest come first, the short ones last.

    The parts of one package go to one worker as long as there is other work for the others.
    """
    jobs: list[_Job] = []
    for package in sorted(packages, key=lambda p: -(p.installed_size or 0)):
        paths = system.database.path_count(package)
        weight = (package.installed_size or 0) // HEAVY
        parts = max(1, -(-paths // SLICE), min(paths, weight))
        jobs += (_Job(package, part, parts, paths // parts) for part in range(parts))
    return jobs


class _Run:
    """What every worker does with a job; inherited by each when it is forked."""

    def __init__(
        self, system: System, verdicts: frozenset[Verdict], aspects: frozenset[Aspect],
        manner: Manner, expecting: Expecting,
    ) -> None:  # fmt: skip
        self._system = system
        self._verdicts = verdicts
        self._aspects = aspects
        self._manner = manner
        self._least = RANK[manner.least]
        self._expected = lru_cache(maxsize=2)(expecting.of)
        self._directories: dict[FileRecord, Judged] = {}
        self._since = manner.since
        self._drawn = None if manner.sample is None else drawn(manner.sample)
        self._quick = Verdict.INTACT not in verdicts and manner.since is None

    def judge_job(self, job: _Job) -> _Outcome:
        known = len(self._system.gaps)
        expected = self._expected(job.package)
        outcome = _Outcome(
            [], Counter(), Counter(), Counter(), 0, [], evidence=expected.evidence,
            compared=expected.aspects,
        )  # fmt: skip
        sealed = expected.seal
        if job.part == 0:
            outcome = outcome._replace(
                seal=sealed.verdict if sealed else None, archive=expected.archive is not None
            )
            if sealed is not None and sealed.verdict is SealVerdict.BAD:
                row = _doctored_record(self._system, job.package, sealed, expected)
                outcome.verdicts[Verdict.DOCTORED] += 1
                if Verdict.DOCTORED in self._verdicts:
                    outcome.rows.append(row)
        if RANK[expected.evidence] < self._least:
            gaps = self._system.gaps[known:]
            return outcome._replace(gaps=gaps, lacking=expected.reason)
        return self._judged(job, expected, outcome, known)

    def _judged(self, job: _Job, expected: Expected, outcome: _Outcome, known: int) -> _Outcome:
        size = job.package.installed_size
        limit = sys.maxsize if size is None else 64 * size + _SPARE
        counts: dict[Verdict, int] = {}
        read = 0
        quick, changed = self._quick, expected.changed
        holds = self._system.jail.holds
        intact = touched = reused = passed = weaker = 0
        for record in job.of(expected.records):
            form = None
            if self._drawn is not None and not self._drawn(record.location):
                passed += 1
                continue
            if (
                quick
                and record.digest is not None
                and not changed
                and (record.digest_is_all or (form := form_of(self._system, record)))
                and record.moot is None
            ):
                size = holds(record.location, record.digest, limit, form)
                if size >= 0:
                    intact += 1
                    read += size
                    continue
            judged = self._judge(record, limit)
            if record.path in changed:
                judged = _also(judged, changed[record.path])
            verdict = judged.verdict
            counts[verdict] = counts.get(verdict, 0) + 1
            read += judged.read
            reused += judged.reused
            weaker += verdict is Verdict.EXCUSED
            if verdict is Verdict.UNREADABLE:
                outcome.unreadable[judged.reason or ""] += 1
            if judged.differences:
                touched += verdict is Verdict.INTACT
                outcome.aspects.update(d.aspect for d in judged.differences)
            if verdict in self._verdicts and self._has_aspect(judged):
                outcome.rows.append(_row(job.package, record, judged, expected))
        counts[Verdict.INTACT] = counts.get(Verdict.INTACT, 0) + intact
        outcome.verdicts.update(counts)
        gaps = self._system.gaps[known:]
        return outcome._replace(
            bytes_read=read, gaps=gaps, touched=touched, reused=reused, passed=passed, weaker=weaker
        )

    def _judge(self, record: FileRecord, limit: int) -> Judged:
        """The verdict on one file. A directory is on record of many packages, and looked at once."""
        if record.kind is not Kind.DIRECTORY:
            before = self._since.get(record.location) if self._since is not None else None
            return judge(self._system, record, limit, before, self._manner.read_all)
        judged = self._directories.get(record)
        if judged is None:
            judged = self._directories[record] = judge(self._system, record, limit)
        return judged

    def _has_aspect(self, judged: Judged) -> bool:
        return not self._aspects or any(d.aspect in self._aspects for d in judged.differences)


def drawn(percent: float) -> Callable[[str], bool]:
    """Whether a path belongs to a sample: another one at every run."""
    salt = os.urandom(8)
    bound = int(percent / 100 * (1 << 32))

    def is_drawn(path: str) -> bool:
        return zlib.crc32(salt + path.encode("utf-8", "surrogateescape")) < bound

    return is_drawn


def _also(judged: Judged, changed: tuple[Difference, ...]) -> Judged:
    """A verdict on a file whose record was changed: the gravest, with what else differs."""
    return judged._replace(
        verdict=Verdict.DOCTORED,
        differences=(*changed, *judged.differences),
        reason="the local record of this file was changed",
    )


def _row(package: Package, record: FileRecord, judged: Judged, expected: Expected) -> FileVerdict:
    # What the system's own policy excuses rests on that policy alone.
    excused = judged.verdict is Verdict.EXCUSED
    return FileVerdict(
        package.name,
        package.architecture,
        record.location,
        role_of(record.path, record.kind, record.mode, record.mark),
        judged.verdict,
        Evidence.RECORD if excused else expected.evidence,
        list(judged.differences),
        judged.reason,
        package.version,
        judged.seen,
    )


def _doctored_record(
    system: System, package: Package, seal: Seal, expected: Expected
) -> FileVerdict:
    """What is told where a package's own record does not fit the signature that is kept with it."""
    told = Difference(Aspect.RECORD, SIGNED, seal.reason)
    return FileVerdict(
        package.name, package.architecture, system.database.place_of(package), Role.DATA,
        Verdict.DOCTORED, expected.evidence, [told],
        "the local record of this package was changed", package.version, None,
    )  # fmt: skip


class _Tally:
    """What has come in so far."""

    def __init__(
        self, total: int, manner: Manner, progress: Callable[[Progress], None] | None
    ) -> None:
        self.rows: list[tuple[Package, FileVerdict]] = []
        self.verdicts: Counter[Verdict] = Counter()
        self._manner = manner
        self._aspects: Counter[Aspect] = Counter()
        self._unreadable: Counter[str] = Counter()
        self._evidence: Counter[Evidence] = Counter()
        self._seals: Counter[SealVerdict] = Counter()
        self._lacking: dict[str, list[str]] = {}
        self._compared: set[Aspect] = set()
        self._gaps: list[Gap] = []
        self._bytes = self._touched = self._reused = self._passed = self._archives = 0
        self._done = self._unjudged = 0
        self._total = total
        self._progress = progress

    def add(self, done: Done[_Outcome], job: _Job) -> None:
        self._done += job.paths
        if done.result is None:
            why = done.failure or "it failed"
            self._gaps.append(Gap(f"about {job.paths} files of {job.package.name}", why))
        else:
            self._take(done.result, job)
        if self._progress is not None:
            self._progress(Progress(self._done, self._total, self._bytes))

    def _take(self, outcome: _Outcome, job: _Job) -> None:
        self.rows += ((job.package, row) for row in outcome.rows)
        self.verdicts.update(outcome.verdicts)
        self._aspects.update(outcome.aspects)
        self._unreadable.update(outcome.unreadable)
        self._gaps += outcome.gaps
        self._bytes += outcome.bytes_read
        self._touched += outcome.touched
        self._reused += outcome.reused
        self._passed += outcome.passed
        self._archives += outcome.archive
        if outcome.seal is not None:
            self._seals[outcome.seal] += 1
        if outcome.lacking is not None:
            self._unjudged += job.paths
            if job.part == 0:
                self._lacking.setdefault(outcome.lacking, []).append(job.package.name)
            return
        self._compared |= outcome.compared
        count = outcome.verdicts.total()
        self._evidence[Evidence.RECORD] += outcome.weaker
        self._evidence[outcome.evidence] += count - outcome.weaker

    def gaps_of(self, interrupted: bool) -> list[Gap]:
        gaps = list(dict.fromkeys(self._gaps))
        for why, count in self._unreadable.most_common():
            gaps.append(Gap(f"{count} files that could not be read", why))
        for why, names in self._lacking.items():
            gaps.append(Gap(f"the files of {_some(names)}", why))
        if self._passed:
            gaps.append(Gap(f"{self._passed:,} paths", "only a sample was asked for"))
        if interrupted:
            left = f"about {self._total - self._done} of {self._total} paths"
            gaps.append(Gap(left, "interrupted before they were reached"))
        return gaps

    def summary(
        self, system: System, packages: Sequence[Package], seconds: float
    ) -> dict[str, Any]:
        weakest = min(
            (e for e in self._evidence if self._evidence[e]),
            key=lambda one: RANK[one],
            default=None,
        )
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
            "evidence": (weakest or self._manner.least).value,
            "paths_by_evidence": {
                e.value: self._evidence[e] for e in Evidence if self._evidence[e]
            },
            "least_evidence": self._manner.least.value,
            "not_judged": {why: len(names) for why, names in self._lacking.items()},
            "record_seals": {v.value: self._seals[v] for v in SealVerdict if self._seals[v]},
            "archives": self._archives,
            "reused": self._reused,
            "sample": self._manner.sample,
            "compared": sorted(
                aspect.value for aspect in self._compared or system.database.aspects
            ),
        }


def _some(names: Sequence[str]) -> str:
    """Names, the first of many."""
    if len(names) == 1:
        return names[0]
    told = ", ".join(names[:_NAMED])
    more = f" and {len(names) - _NAMED:,} more" if len(names) > _NAMED else ""
    return f"{len(names):,} packages ({told}{more})"
