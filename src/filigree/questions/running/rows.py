"""What is told of something that runs."""

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from filigree.model.files import Evidence, Verdict


class RunningState(StrEnum):
    """How what runs stands to what is on the disk."""

    AS_ON_DISK = "as-on-disk"
    REPLACED = "replaced-since-start"
    GONE = "gone-from-disk"
    OF_NOBODY = "of-nobody"


class RunningKind(StrEnum):
    """What a row is of."""

    PROCESS = "process"
    MODULE = "module"


@dataclass(frozen=True, slots=True)
class HeldRow:
    """A file that is run or mapped: whose it is (None: nobody's), the verdict on what is on the disk
    (None where there is none), and how it stands to that."""

    path: str
    package: str | None
    verdict: Verdict | None
    state: RunningState


@dataclass(frozen=True, slots=True)
class RunningRow:
    """One process, or one module of the kernel (`pid` None). `program` is what it runs, `package` whose
    that is, `verdict` what is to be said of what is on the disk, `state` how the two stand to each other.

    `script` is what an interpreter runs. `libraries` are those that are not as on the disk, nobody's, or
    not as shipped, of `mapped` in all. `digest` is that of the bytes that run where they are not on the
    disk. `root` is the process's own root, `remarks` are for people.
    """

    what: RunningKind
    pid: int | None
    name: str
    user: str | None
    began_at: datetime | None
    program: str | None
    package: str | None
    verdict: Verdict | None
    evidence: Evidence | None
    state: RunningState
    script: HeldRow | None
    libraries: list[HeldRow]
    mapped: int
    digest: str | None
    root: str
    remarks: list[str]

    @property
    def alarming(self) -> bool:
        """Whether it is bad news: of nobody's, gone from the disk, not as shipped; or so is its script,
        or what it has mapped."""
        parts = [(self.state, self.verdict), *((one.state, one.verdict) for one in self.libraries)]
        if self.script is not None:
            parts.append((self.script.state, self.script.verdict))
        return any(
            state in (RunningState.GONE, RunningState.OF_NOBODY)
            or (verdict is not None and verdict.alarming)
            for state, verdict in parts
        )


@dataclass(frozen=True, slots=True)
class RunningSummary:
    """How many processes were looked at, how many are threads of the kernel's own, how many could not be
    looked at; how many are told, by state; and how many modules the kernel has."""

    processes: int
    kernel_threads: int
    unseen: int
    modules: int
    alarming: int
    replaced: int
    states: dict[RunningState, int]
