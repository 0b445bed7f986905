"""What has come in of a verification so far, and what is said of it in the end."""

from collections import Counter
from collections.abc import Callable, Sequence
from typing import Any

from filigree.access.workers import Done
from filigree.model.answer import Gap
from filigree.model.files import Aspect, Evidence, Verdict
from filigree.model.package import Package
from filigree.model.seals import SealVerdict
from filigree.questions.expected import RANK
from filigree.questions.verdicts import FileVerdict, Job, Manner, Outcome, Progress
from filigree.system import System

_NAMED = 8


class Tally:
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

    def add(self, done: Done[Outcome], job: Job) -> None:
        self._done += job.paths
        if done.result is None:
            why = done.failure or "it failed"
            self._gaps.append(Gap(f"about {job.paths} files of {job.package.name}", why))
        else:
            self._take(done.result, job)
        if self._progress is not None:
            self._progress(Progress(self._done, self._total, self._bytes))

    def _take(self, outcome: Outcome, job: Job) -> None:
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
            gaps.append(Gap(f"the files of {_some(sorted(names))}", why))
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
