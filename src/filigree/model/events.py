"""What happened to the packages of a system, as its own history tells it."""

from collections.abc import Iterable
from datetime import datetime
from enum import StrEnum
from typing import NamedTuple, Protocol


class Action(StrEnum):
    """What was done with a package."""

    INSTALLED = "installed"
    REPLACED = "replaced"
    REMOVED = "removed"


class Clock(StrEnum):
    """What a time rests on, and so who could have set it.

    `log` and `record` are the system's own clock, written down by its package programs;
    `log-without-zone` is the same where nothing tells the zone, and is taken for UTC. `file` is a file's
    own time of change, which whoever may write to it can set; `inode` is when the file system last
    touched it, which a copy sets anew; `directory` that of the directory that something went from.
    `image` is the clock of who built an image, `auditor` that of who took a snapshot.
    """

    LOG = "log"
    LOCAL_LOG = "log-without-zone"
    RECORD = "record"
    FILE = "file"
    INODE = "inode"
    DIRECTORY = "directory"
    IMAGE = "image"
    AUDITOR = "auditor"


class Outcome(StrEnum):
    """How a transaction ended; `unfinished` where its end is not told though its family tells ends."""

    COMPLETED = "completed"
    FAILED = "failed"
    UNFINISHED = "unfinished"


class Session(NamedTuple):
    """One transaction: what was done in one go. None where the history is silent.

    `identity` tells it from all others of the root. `user` is who asked, by name or number, `command`
    what was run, as recorded; `told_in` the file that tells of it.
    """

    identity: str
    began: datetime | None
    ended: datetime | None
    user: str | None
    command: str | None
    outcome: Outcome | None
    told_in: str


class Event(NamedTuple):
    """One thing that was done, and the version that it was done with; None where the history is silent.

    `replaced` is of the version that went: another one of that name took its place. `told_in` is the file
    that tells it, `clock` what its time rests on, `session` the transaction that it belongs to.
    """

    at: datetime | None
    action: Action
    name: str
    version: str | None
    architecture: str | None
    told_in: str
    clock: Clock = Clock.LOG
    session: Session | None = None

    @property
    def step(self) -> tuple[object, ...]:
        """What was done, whichever file tells it: logs are rotated, and kept elsewhere."""
        return self[:5]


class Timed(Protocol):
    """Whatever has a time, or none."""

    @property
    def at(self) -> datetime | None: ...


def earliest(told: Iterable[Timed]) -> datetime | None:
    """The first time that some things tell; None where none tells any."""
    return min((one.at for one in told if one.at is not None), default=None)
