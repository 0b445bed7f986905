"""What happened to the packages of a system, as its own history tells it."""

from datetime import datetime
from enum import StrEnum
from typing import NamedTuple


class Action(StrEnum):
    """What was done with a package."""

    INSTALLED = "installed"
    REPLACED = "replaced"
    REMOVED = "removed"


class Event(NamedTuple):
    """One thing that was done, and the version that it was done with; None where the history is silent.

    `replaced` is of the version that went: another one of that name took its place. `told_in` is the file
    that tells it.
    """

    at: datetime | None
    action: Action
    name: str
    version: str | None
    architecture: str | None
    told_in: str
