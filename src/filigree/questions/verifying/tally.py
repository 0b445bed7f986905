"""What has come in of a verification so far, and what is said of it in the end."""

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from filigree.access.workers import Done
from filigree.model.answer import Gap
from filigree.model.files import Aspect, Evidence, Sort, Verdict
from filigree.model.package import Package, State
from filigree.model.signatures import SignatureVerdict
from filigree.questions.evidence.expected import RANK
from filigree.questions.verifying.folds import Fold, folded
from filigree.questions.verifying.verdicts import (
    FileVerdict,
    Job,
    JobOutcome,
    Manner,
    VerifyProgress,
)
from filigree.system import System

_NAMED = 8


class KeysUsed(NamedTuple):
    """Whose keys counted, and how many archives were fetched to be judged by them."""

    keys_of: str
    fetched: int


class PolicyTold(NamedTuple):
    """How many verdicts rest on local policy of one sort, which file says so, and when that changed."""

    sort: Sort
    files: int
    said_in: str | None
    changed_at: str | None


@dataclass(frozen=True, slots=True)
class VerifySummary:
    """The counts of all that was judged, whether it is told or not. Sizes in bytes.

    `paths_in_all` is what there was to judge; `touched` counts what is intact with another time of
    change; `evidence` is the weakest that a verdict rests on; `not_judged` counts packages by why;
    `reused` counts files that were not read again; `sample` is the share that was asked for, in percent.
    `folds` are those rows that belong together, where there are more than a screen of them.
    """

    packages: int
    unsound: dict[str, State]
    paths: int
    paths_in_all: int
    verdicts: dict[Verdict, int]
    touched: int
    aspects: dict[Aspect, int]
    bytes_read: int
    seconds: float
    evidence: Evidence
    paths_by_evidence: dict[Evidence, int]
    least_evidence: Evidence
    not_judged: dict[str, int]
    local_policy: list[PolicyTold]
    record_signatures: dict[SignatureVerdict, int]
    archives: int
    reused: int
    sample: float | None
    compared: list[Aspect]
    keys_of: str
    fetched: int
    folds: list[Fold]


class Tally:
    """What has come in so far."""

    def __init__(
        self, total: int, manner: Manner, progress: Callable[[VerifyProgress], None] | None
    ) -> None:
        self.rows: list[tuple[Package, FileVerdict]] = []
        self.verdicts: Counter[Verdict] = Counter()
        self._manner = manner
        self._aspects: Counter[Aspect] = Counter()
        self._unreadable: Counter[str] = Counter()
        self._evidence: Counter[Evidence] = Counter()
        self._signatures: Counter[SignatureVerdict] = Counter()
        self._lacking: dict[str, list[str]] = {}
        self._compared: set[Aspect] = set()
        self.policies: Counter[tuple[Sort, str]] = Counter()
        self._blank: dict[str, list[str]] = {}
        self._gaps: list[Gap] = []
        self._bytes = self._touched = self._reused = self._passed = self._archives = 0
        self._done = self._unjudged = 0
        self._total = total
        self._progress = progress

    def add(self, done: Done[JobOutcome], job: Job) -> None:
        self._done += job.paths
        if done.result is None:
            why = done.failure or "it failed"
            self._gaps.append(Gap(f"about {job.paths} files of {job.package.name}", why))
        else:
            self._take(done.result, job)
        if self._progress is not None:
            self._progress(VerifyProgress(self._done, self._total, self._bytes))

    def _take(self, outcome: JobOutcome, job: Job) -> None:
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
        if outcome.signature is not None:
            self._signatures[outcome.signature] += 1
        if outcome.lacking is not None:
            self._unjudged += job.paths
            if job.part == 0:
                self._lacking.setdefault(outcome.lacking, []).append(job.package.name)
            return
        self._compared |= outcome.compared
        count = outcome.verdicts.total()
        local = outcome.policies.total()
        self.policies.update(outcome.policies)
        self._evidence[Evidence.RECORD] += local
        self._evidence[outcome.evidence] += count - local
        if outcome.blank:
            self._blank.setdefault(job.package.name, []).extend(outcome.blank)

    def _policy_gap(self, changed: Callable[[str], str | None]) -> Gap:
        """What only local policy makes clean, by its sort, with the files that say so."""
        told = []
        ranked = sorted(self.policies.items(), key=lambda item: (-item[1], item[0][1]))
        for sort in Sort:
            files = [file for (one, file), _ in ranked if one is sort]
            if not files:
                continue
            count = sum(self.policies[sort, file] for file in files)
            said = [_with_time(file, changed(file)) for file in files[:_NAMED]]
            said += [f"and {len(files) - _NAMED:,} more"] if len(files) > _NAMED else []
            told.append(f"{count:,} by {sort.value} ({', '.join(said)})")
        what = f"{_files(self.policies.total())} that only the system's own policy speaks for"
        return Gap(what, "; ".join(told))

    def gaps_of(self, interrupted: bool, changed: Callable[[str], str | None]) -> list[Gap]:
        """What was not judged, or not on the evidence that was asked for. `changed` tells when a file
        below the root was last changed, for people."""
        gaps = sorted(set(self._gaps))
        for why, count in _by_count(self._unreadable):
            gaps.append(Gap(f"{_files(count)} that could not be read", why))
        for why, names in sorted(self._lacking.items()):
            gaps.append(Gap(f"the files of {_some(sorted(names))}", why))
        if self._blank:
            count = sum(map(len, self._blank.values()))
            first = self._blank[min(self._blank)][0]
            what = f"the content of {first}" if count == 1 else f"the content of {count:,} files"
            whose = _some(sorted(self._blank))
            gaps.append(Gap(f"{what} of {whose}", "nothing on record tells what it is to be"))
        if self.policies and RANK[self._manner.least]:
            gaps.append(self._policy_gap(changed))
        if self._passed:
            gaps.append(Gap(f"{self._passed:,} paths", "only a sample was asked for"))
        if interrupted:
            left = f"about {self._total - self._done} of {self._total} paths"
            gaps.append(Gap(left, "interrupted before they were reached"))
        return gaps

    def summary(
        self, system: System, packages: Sequence[Package], seconds: float,
        changed: Callable[[str], str | None], whose: KeysUsed,
    ) -> VerifySummary:  # fmt: skip
        """The counts of all that was judged. `changed` tells when a file was last changed."""
        weakest = min(
            (e for e in self._evidence if self._evidence[e]),
            key=lambda one: RANK[one],
            default=None,
        )
        return VerifySummary(
            packages=len(packages),
            unsound={p.name: p.state for p in packages if not p.state.sound},
            paths=self.verdicts.total(),
            paths_in_all=self._total,
            verdicts={v: self.verdicts[v] for v in Verdict if self.verdicts[v]},
            touched=self._touched,
            aspects={a: self._aspects[a] for a in Aspect if self._aspects[a]},
            bytes_read=self._bytes,
            seconds=round(seconds, 3),
            evidence=weakest or self._manner.least,
            paths_by_evidence={e: self._evidence[e] for e in Evidence if self._evidence[e]},
            least_evidence=self._manner.least,
            not_judged={why: len(names) for why, names in sorted(self._lacking.items())},
            local_policy=self._told_policies(changed),
            record_signatures={
                v: self._signatures[v] for v in SignatureVerdict if self._signatures[v]
            },
            archives=self._archives,
            reused=self._reused,
            sample=self._manner.sample,
            compared=sorted(self._compared or system.database.aspects),
            keys_of=whose.keys_of,
            fetched=whose.fetched,
            folds=folded(system, [row for _, row in self.rows]),
        )

    def _told_policies(self, changed: Callable[[str], str | None]) -> list[PolicyTold]:
        """How many verdicts rest on local policy, by its sort, and which file says so."""
        links = sum(n for (sort, _), n in self.policies.items() if sort is Sort.LINK)
        found = [
            PolicyTold(sort, count, file, changed(file))
            for (sort, file), count in sorted(self.policies.items())
            if sort is not Sort.LINK
        ]
        if links:  # each directory says it of itself
            found.append(PolicyTold(Sort.LINK, links, None, None))
        return found


def _files(count: int) -> str:
    return "1 file" if count == 1 else f"{count:,} files"


def _by_count(counted: Counter[str]) -> list[tuple[str, int]]:
    """The most frequent first; in the same order whichever came first."""
    return sorted(counted.items(), key=lambda item: (-item[1], item[0]))


def _with_time(file: str, moment: str | None) -> str:
    return f"{file}, changed {moment}" if moment else file


def _some(names: Sequence[str]) -> str:
    """Names, the first of many."""
    if len(names) == 1:
        return names[0]
    told = ", ".join(names[:_NAMED])
    more = f" and {len(names) - _NAMED:,} more" if len(names) > _NAMED else ""
    return f"{len(names):,} packages ({told}{more})"
