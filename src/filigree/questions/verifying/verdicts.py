"""The nouns of verification: verdicts on files, how they are come by, and the parts of the work."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple, TypeVar

from filigree.model.answer import Gap
from filigree.model.files import (
    Aspect,
    Difference,
    Evidence,
    Role,
    Seen,
    Sort,
    Verdict,
)
from filigree.model.package import Package
from filigree.model.signatures import SignatureVerdict
from filigree.questions.evidence.references import NOTHING, Against

SIGNED = "as it was signed"
"""What a record is expected to be that bears a signature."""
LOUD = frozenset(verdict for verdict in Verdict if not verdict.quiet)
_CODE = (Role.PROGRAM, Role.LIBRARY)


@dataclass(frozen=True, slots=True)
class FileVerdict:
    """The verdict on one path, what it rests on, and the differences that led to it.

    `reason` is why a file was excused or could not be read, or in what way its record was changed.
    `seen` is how the file was when its content was read, None where it was not. `policy` is the sort of
    local policy that the verdict rests on, and `policy_file` the file that says so. `layers` are those of
    an image that speak of the path, the lowest first; None where there are none.
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
    policy: Sort | None = None
    policy_file: str | None = None
    layers: list[int] | None = None


def is_code(row: FileVerdict) -> bool:
    """Whether a path of a package is of what runs."""
    return row.role in _CODE


class VerifyProgress(NamedTuple):
    """How far a run has come: paths judged, of how many, and bytes read."""

    done: int
    total: int
    bytes_read: int


_Any = TypeVar("_Any")


class Job(NamedTuple):
    """A part of a package's files: the `part`-th of `parts`, of about `paths` paths."""

    package: Package
    part: int
    parts: int
    paths: int

    def of(self, records: Sequence[_Any]) -> Sequence[_Any]:
        """Its part of what is told of the package's files."""
        count = len(records)
        return records[count * self.part // self.parts : count * (self.part + 1) // self.parts]


class JobOutcome(NamedTuple):
    rows: list[FileVerdict]
    verdicts: Counter[Verdict]
    aspects: Counter[Aspect]
    unreadable: Counter[str]
    bytes_read: int
    gaps: list[Gap]
    touched: int = 0
    reused: int = 0
    passed: int = 0
    policies: Counter[tuple[Sort, str]] = Counter()  # noqa: RUF012
    blank: Sequence[str] = ()
    evidence: Evidence = Evidence.RECORD
    signature: SignatureVerdict | None = None
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
