"""Whether files are still as shipped."""

import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import replace
from functools import partial

from filigree.access.workers import processors, share
from filigree.model.answer import Answer, Gap, iso, moment_of
from filigree.model.errors import AccessError
from filigree.model.files import Aspect, Verdict
from filigree.model.package import Package, State
from filigree.questions.asking.silence import report_silence
from filigree.questions.asking.subjects import match_subjects
from filigree.questions.evidence.expected import RANK, Expecting
from filigree.questions.evidence.references import Against, References
from filigree.questions.evidence.vouching import Vouching, same_package
from filigree.questions.finding.layers import layers_of
from filigree.questions.finding.unknown_programs import report_unknown_programs
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.questions.verifying.checking import Run
from filigree.questions.verifying.tally import KeysUsed, Tally, VerifySummary
from filigree.questions.verifying.verdicts import (
    AS_USUAL,
    LOUD,
    FileVerdict,
    Job,
    Manner,
    VerifyProgress,
)
from filigree.system import System

SLICE = 2048
HEAVY = 256 << 20
"""More paths, or more bytes, are shared out in parts."""


def verify(
    system: System,
    subjects: Iterable[str] | None = None,
    verdicts: frozenset[Verdict] = LOUD,
    aspects: frozenset[Aspect] = frozenset(),
    workers: int | None = None,
    progress: Callable[[VerifyProgress], None] | None = None,
    manner: Manner = AS_USUAL,
    options: RepositoryOptions = EVERYTHING,
) -> Answer[FileVerdict, VerifySummary]:
    """Judge every file of the subjects, or of every package where `subjects` is None.

    Returned are the files with one of the `verdicts` and, where `aspects` are given, a difference
    in one of those; the summary counts all. Uses as many processes as there are processors, or
    `workers`. An interrupt from the keyboard ends it with what was found so far. `manner` says what
    files are held against, `options` whose keys and which repositories count.
    """
    started = time.monotonic()
    packages, notes, archives = _wanted_packages(system, subjects, manner)
    vouching = Vouching(system, _with_repositories(options, manner.against))
    try:
        expecting = _expecting(system, packages, _against(manner, archives), vouching)
        notes += vouching.notes
    finally:
        vouching.close()  # workers must not share what is open
    if system.database.prepare is not None:
        system.database.prepare(packages)
    jobs = _jobs(system, packages)
    run = Run(system, verdicts, aspects, manner, expecting)
    tally = Tally(sum(job.paths for job in jobs), manner, progress)
    interrupted = _judge_all(run, jobs, tally, workers)
    changed = partial(_changed_at, system)
    _report_gaps(system, tally.gaps_of(interrupted, changed), tally)
    if subjects is None and RANK[manner.least]:
        report_unknown_programs(system)
    order = {p: n for n, p in enumerate(packages)}
    tally.rows.sort(key=lambda found: (order[found[0]], found[1].path))
    rows = _in_layers(system, [row for _, row in tally.rows])
    seconds = time.monotonic() - started
    whose = KeysUsed(vouching.trust.keys_of, expecting.fetched)
    summary = tally.summary(system, packages, seconds, changed, whose)
    return Answer(
        "verify", system.system_label, rows, summary, system.gaps, notes,
        bad_news=bool(notes) or any(v.alarming for v in tally.verdicts if tally.verdicts[v]),
        interrupted=interrupted,
    )  # fmt: skip


def _in_layers(system: System, rows: list[FileVerdict]) -> list[FileVerdict]:
    if system.tree.layered is None:
        return rows
    return [replace(row, layers=layers_of(system, row.path)) for row in rows]


def _judge_all(run: Run, jobs: Sequence[Job], tally: Tally, workers: int | None) -> bool:
    """Have all jobs done, and count what comes of them; whether an interrupt ended it."""
    if workers is None:
        workers = run.useful_workers(jobs, processors())
    outcomes = share(jobs, run.judge_job, workers, kin=lambda job: job.package)
    try:
        for done in outcomes:
            tally.add(done, jobs[done.place])
    except KeyboardInterrupt:
        return True
    finally:
        outcomes.close()  # type: ignore[attr-defined]
    return False


def _report_gaps(system: System, gaps: Iterable[Gap], tally: Tally) -> None:
    for gap in gaps:
        system.report(gap)
    if untold := tally.verdicts[Verdict.UNRECORDED]:
        report_silence(system, "content", f"the content of {untold:,} files")


def _against(manner: Manner, archives: Sequence[str]) -> Against:
    """What files are held against, the archives that were named as subjects among it."""
    against = manner.against
    if archives:
        return replace(against, paths=(*against.paths, *archives))
    if (RANK[manner.least] or against.fetch) and not against.named:
        return replace(against, everywhere=True)
    return against


def _with_repositories(options: RepositoryOptions, against: Against) -> RepositoryOptions:
    """Which repositories are asked, those among them that archives are to come from."""
    if not against.repositories:
        return options
    return options._replace(repositories=(*options.repositories, *against.repositories))


def _changed_at(system: System, path: str) -> str | None:
    """When a file below the root was last changed, as it says itself."""
    try:
        moment = moment_of(system.tree.observe(path).modified // 10**9)
    except AccessError:
        moment = None
    return None if moment is None else iso(moment)


def _expecting(
    system: System,
    packages: Sequence[Package],
    against: Against,
    vouching: Vouching,
) -> Expecting:
    """What packages are held against; a family whose records are unsigned takes no keys for those."""
    if against.anything:
        references = References(system, packages, against, vouching.options, vouching)
        return Expecting(system, vouching, references)
    signed = system.database.signatures is not None and bool(packages)
    return Expecting(system, vouching if signed else None)


def _wanted_packages(
    system: System, subjects: Iterable[str] | None, manner: Manner
) -> tuple[Sequence[Package], list[str], list[str]]:
    """What is verified, what matched nothing, and the archives that were named as subjects.

    An archive as a subject is what the installed package of its name is held against.
    """
    if subjects is None:
        if system.database.report_unclaimed is not None:
            system.database.report_unclaimed()
        # An archive tells the files of what is not installed by the record, too.
        told = bool(RANK[manner.least]) or manner.against.anything
        return (
            [
                package
                for package in system.packages
                if package.state is not State.NOT_INSTALLED or (told and package.version)
            ],
            [],
            [],
        )
    matched = match_subjects(system, subjects)
    notes = [str(unmatched) for unmatched in matched.unmatched]
    found: dict[Package, Package] = {}
    archives = []
    for package in matched.packages:
        archive = system.archive_of(package)
        if archive is None:
            found[package] = package
            continue
        here = [one for one in system.present([package.name]) if same_package(system, one, package)]
        found.update((one, one) for one in here)
        archives.append(archive.facts.path)
        if not here:
            there = ", ".join(one.label for one in system.present([package.name]))
            known = f"; on record is {there}" if there else ""
            notes.append(f"{package.label} of {archive.facts.path} is not installed{known}")
    return list(found.values()), notes, archives


def _jobs(system: System, packages: Sequence[Package]) -> list[Job]:
    """Packages, and parts of those that are too large; the largest come first, the short ones last.

    The parts of one package go to one worker as long as there is other work for the others.
    """
    jobs: list[Job] = []
    for package in sorted(packages, key=lambda p: -(p.installed_size or 0)):
        paths = system.database.path_count(package)
        weight = (package.installed_size or 0) // HEAVY
        parts = max(1, -(-paths // SLICE), min(paths, weight))
        jobs += (Job(package, part, parts, paths // parts) for part in range(parts))
    return jobs
