"""What every worker of a verification does with its part of the work."""

import os
import sys
import zlib
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import lru_cache

from filigree.families.protocol import Listing
from filigree.model.answer import Gap
from filigree.model.files import Aspect, Difference, Evidence, FileRecord, Kind, Role, Sort, Verdict
from filigree.model.package import Package
from filigree.model.roles import role_of
from filigree.model.signatures import Signatures, SignatureVerdict
from filigree.questions.evidence.expected import RANK, Expected, Expecting
from filigree.questions.verifying.judging import Judged, form_of, judge
from filigree.questions.verifying.verdicts import SIGNED, FileVerdict, Job, JobOutcome, Manner
from filigree.system import System

_SPARE = 1 << 30
_NO_PATHS = "it takes room by its record, and not one path of it is on record"


@dataclass(slots=True)
class _Counts:
    """What a job adds up. `read` is in bytes."""

    policies: Counter[tuple[Sort, str]]
    blank: list[str]
    read: int = 0
    touched: int = 0
    reused: int = 0


class Run:
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
        self._silent = "content" in system.family.silent_on

    def useful_workers(self, jobs: Sequence[Job], processors: int) -> int:
        """How many workers are of use for these jobs, where the whole of their files is read."""
        if self._manner.sample is not None or self._manner.since is not None:
            return processors
        listing = self._system.database.listing

        def paths_of(job: Job) -> Callable[[], Listing]:
            return lambda: listing(job.package)

        return self._system.tree.useful_workers(list(map(paths_of, jobs)), processors)

    def judge_job(self, job: Job) -> JobOutcome:
        """Judge the files of a job; what comes of it can be sent to another process."""
        known = len(self._system.gaps)
        expected = self._expected(job.package)
        outcome = JobOutcome(
            [], Counter(), Counter(), Counter(), 0, [], evidence=expected.evidence,
            compared=expected.aspects,
        )  # fmt: skip
        signed = expected.signature
        if job.part == 0:
            outcome = outcome._replace(
                signature=signed.verdict if signed else None, archive=expected.archive is not None
            )
            if signed is not None and signed.verdict is SignatureVerdict.BAD:
                row = _doctored_record(self._system, job.package, signed, expected)
                outcome.verdicts[Verdict.DOCTORED] += 1
                if Verdict.DOCTORED in self._verdicts:
                    outcome.rows.append(row)
        if RANK[expected.evidence] < self._least:
            gaps = self._system.gaps[known:]
            return outcome._replace(gaps=gaps, lacking=expected.reason)
        return self._judged(job, expected, outcome, known)

    def _judged(self, job: Job, expected: Expected, outcome: JobOutcome, known: int) -> JobOutcome:
        size = job.package.installed_size
        limit = sys.maxsize if size is None else 64 * size + _SPARE
        records, passed = self._drawn_of(job, expected)
        counts = _Counts(Counter(), [])
        holds = self._quick_look(limit) if self._quick and not expected.changed else None
        intact = read = 0
        for record in records:
            size_held = holds(record) if holds is not None else -1
            if size_held >= 0:
                intact += 1
                read += size_held
                continue
            judged = self._judge(record, limit, job.package)
            if record.path in expected.changed:
                judged = _also(judged, expected.changed[record.path])
            self._count(record, judged, counts, outcome)
            if judged.verdict in self._verdicts and self._has_aspect(judged):
                outcome.rows.append(_row(job.package, record, judged, expected))
        outcome.verdicts.update({Verdict.INTACT: intact})
        return outcome._replace(
            bytes_read=read + counts.read, gaps=self._system.gaps[known:], touched=counts.touched,
            reused=counts.reused, passed=passed, policies=counts.policies, blank=counts.blank,
        )  # fmt: skip

    def _drawn_of(self, job: Job, expected: Expected) -> tuple[Sequence[FileRecord], int]:
        """The records of a job that are looked at, and how many of it a sample passes over."""
        records = job.of(expected.records)
        if not expected.records and job.package.state.present and job.package.installed_size:
            self._system.report(Gap(f"the files of {job.package.name}", _NO_PATHS))
        if self._drawn is None:
            return records, 0
        drawn = [one for one in records if self._drawn(one.location)]
        return drawn, len(records) - len(drawn)

    def _quick_look(self, limit: int) -> Callable[[FileRecord], int]:
        """Tells the size of a file that is as its record says, -1 of any that wants a careful look."""
        system, holds = self._system, self._system.tree.holds

        def look(record: FileRecord) -> int:
            form = None
            if (
                record.digest is None
                or record.policies
                or not (record.digest_is_all or (form := form_of(system, record)))
            ):
                return -1
            return holds(
                record.location, record.digest, limit, form, record.capabilities is not None
            )

        return look

    def _count(
        self, record: FileRecord, judged: Judged, counts: "_Counts", outcome: JobOutcome
    ) -> None:
        outcome.verdicts[judged.verdict] += 1
        counts.read += judged.read
        counts.reused += judged.reused
        if judged.policy is not None:
            counts.policies[judged.policy.sort, judged.policy.file] += 1
        # What only claims its place was never shipped with a content.
        if judged.blank and not self._silent and (record.plain or record).excuse is None:
            counts.blank.append(record.location)
        if judged.verdict is Verdict.UNREADABLE:
            outcome.unreadable[judged.reason or ""] += 1
        if judged.differences:
            counts.touched += judged.verdict is Verdict.INTACT
            outcome.aspects.update(d.aspect for d in judged.differences)

    def _judge(self, record: FileRecord, limit: int, whose: Package) -> Judged:
        """The verdict on one file. A directory is on record of many packages, and looked at once."""
        if record.kind is not Kind.DIRECTORY:
            before = self._since.get(record.location) if self._since is not None else None
            return judge(self._system, record, limit, before, self._manner.read_all, whose)
        judged = self._directories.get(record)
        if judged is None:
            judged = self._directories[record] = judge(self._system, record, limit, whose=whose)
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
    policy = judged.policy
    return FileVerdict(
        package=package.name,
        architecture=package.architecture,
        path=record.location,
        role=role_of(record.path, record.kind, record.mode, record.mark),
        verdict=judged.verdict,
        # What the system's own policy decides rests on that policy alone.
        evidence=Evidence.RECORD if policy else expected.evidence,
        differences=list(judged.differences),
        reason=judged.reason,
        version=package.version,
        seen=judged.seen,
        policy=policy.sort if policy else None,
        policy_file=policy.file if policy else None,
    )


def _doctored_record(
    system: System, package: Package, signature: Signatures, expected: Expected
) -> FileVerdict:
    """What is told where a package's own record does not fit the signature that is kept with it."""
    told = Difference(Aspect.RECORD, SIGNED, signature.reason)
    return FileVerdict(
        package=package.name, architecture=package.architecture,
        path=system.database.place_of(package), role=Role.DATA,
        verdict=Verdict.DOCTORED, evidence=expected.evidence, differences=[told],
        reason="the local record of this package was changed", version=package.version, seen=None,
        policy=None, policy_file=None,
    )  # fmt: skip
