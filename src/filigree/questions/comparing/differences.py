"""What one row of a comparison is, and how rows are ordered."""

from dataclasses import dataclass
from enum import StrEnum

from filigree.model.files import Aspect
from filigree.questions.finding.ranks import Rank


class What(StrEnum):
    """What a difference is of."""

    PACKAGE = "package"
    FILE = "file"
    KEY = "key"
    REPOSITORY = "repository"
    POLICY = "policy"
    USER = "user"
    HISTORY = "history"


class ChangeKind(StrEnum):
    """What became of it. `record` is a package of the same version whose record tells something else."""

    CAME = "came"
    GONE = "gone"
    NEWER = "newer"
    OLDER = "older"
    REPLACED = "replaced"
    REBUILT = "rebuilt"
    RECORD = "record"
    REASON = "reason"
    HELD = "held"
    STATE = "state"
    ORIGIN = "origin"
    ALTERED = "altered"


_MIRROR = {
    ChangeKind.CAME: ChangeKind.GONE, ChangeKind.GONE: ChangeKind.CAME,
    ChangeKind.NEWER: ChangeKind.OLDER, ChangeKind.OLDER: ChangeKind.NEWER,
}  # fmt: skip


def mirrored(kind: ChangeKind) -> ChangeKind:
    """What it is called when the two roots are told the other way round."""
    return _MIRROR.get(kind, kind)


@dataclass(frozen=True, slots=True)
class Compared:
    """One difference between two roots. `subject` is a package's label without its version, a path, a
    fingerprint, an identity or a name; `package` is whose it is, None for nobody's.

    `before` and `after` say what it was and is, None where there was, or is, none. `aspects` are in what
    a path is another; `explained_by` is what accounts for it, None where nothing does, and then `why`
    says what speaks against it. `layer` is that of an image which has it now.
    """

    what: What
    change: ChangeKind
    subject: str
    package: str | None
    before: str | None
    after: str | None
    aspects: list[Aspect]
    explained_by: str | None
    why: str | None
    rank: Rank
    layer: int | None


_WHAT = {what: place for place, what in enumerate(What)}
_RANKS = {rank: place for place, rank in enumerate(Rank)}


def gravest(row: Compared) -> tuple[bool, int, bool, int, str]:
    """What nothing explains comes first; of that what runs, then what a package has."""
    return (
        row.explained_by is not None, _RANKS[row.rank], row.package is None, _WHAT[row.what],
        row.subject,
    )  # fmt: skip
