"""What one row of a timeline is, and how rows are ordered."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from enum import StrEnum

from filigree.model.events import Clock, Outcome
from filigree.model.files import Aspect
from filigree.questions.finding.ranks import Rank


class Deed(StrEnum):
    """What happened. Packages: `recorded` is one that is on record though no history tells how it came.
    Files: `edited` is configuration that an administrator may change, `appeared` a file of nobody's. The
    rest: an image's layer was `built`, an index `fetched`, a key's file `trusted`, a snapshot `kept`."""

    INSTALLED = "installed"
    UPGRADED = "upgraded"
    DOWNGRADED = "downgraded"
    REINSTALLED = "reinstalled"
    REPLACED = "replaced"
    REMOVED = "removed"
    RECORDED = "recorded"
    ALTERED = "altered"
    EDITED = "edited"
    VANISHED = "vanished"
    APPEARED = "appeared"
    BUILT = "built"
    FETCHED = "fetched"
    TRUSTED = "trusted"
    KEPT = "kept"


OF_PACKAGES = frozenset({
    Deed.INSTALLED, Deed.UPGRADED, Deed.DOWNGRADED, Deed.REINSTALLED, Deed.REPLACED, Deed.REMOVED,
    Deed.RECORDED,
})  # fmt: skip
OF_FILES = frozenset({Deed.ALTERED, Deed.EDITED, Deed.VANISHED, Deed.APPEARED})


@dataclass(slots=True)
class Happening:
    """One thing that happened. `subject` is a package's name and architecture, a path, a fingerprint, an
    index, a layer or a snapshot; `package` is whose it is, None for nobody's.

    `at` is when, as far as `clock` can be believed, `until` when at the latest: the end of the
    transaction, the last change of a file's inode. `before` and `version` are those of a package. `by` is
    who asked, `command` what was run, `outcome` how it ended, `session` the transaction, `began` when
    that did. `told_in` is the file that tells it. `doubts` say why a time, or what is told, cannot be so.

    `explained_by` is what accounts for it, None where nothing does; `explains` are the subjects of other
    things that this one accounts for. `aspects` and `rank` are those of a file.
    """

    at: datetime | None
    until: datetime | None
    action: Deed
    subject: str
    package: str | None
    version: str | None
    before: str | None
    architecture: str | None
    by: str | None
    command: str | None
    outcome: Outcome | None
    session: str | None
    told_in: str | None
    clock: Clock
    explained_by: str | None
    explains: list[str] = field(default_factory=list)
    doubts: list[str] = field(default_factory=list)
    aspects: list[Aspect] = field(default_factory=list)
    rank: Rank = Rank.OTHER
    began: datetime | None = None


def by_a_file(deed: Deed, subject: str) -> Happening:
    """Something that nothing but a file's own clock tells of: all else of it is unknown as yet."""
    return Happening(
        at=None, until=None, action=deed, subject=subject, package=None, version=None, before=None,
        architecture=None, by=None, command=None, outcome=None, session=None, told_in=None,
        clock=Clock.FILE, explained_by=None,
    )  # fmt: skip


_DEEDS = {deed: place for place, deed in enumerate(Deed)}
_NEVER = datetime.min.replace(tzinfo=UTC)


def in_order(row: Happening) -> tuple[datetime, str, int, str]:
    """By time; what has none comes first. Of one moment a transaction stays together."""
    return row.at or _NEVER, row.session or "", _DEEDS[row.action], row.subject


def span_of(rows: Sequence[Happening]) -> tuple[datetime | None, datetime | None]:
    """The earliest and the latest time of some rows; None where none has any."""
    times = [row.at for row in rows if row.at is not None]
    return min(times, default=None), max(times, default=None)
