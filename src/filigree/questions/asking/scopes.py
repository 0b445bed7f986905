"""Where packages are looked for: among what is installed, what repositories offer, or both."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import TYPE_CHECKING, NamedTuple

from filigree.system import System

if TYPE_CHECKING:
    from filigree.access.fetching import Progress
    from filigree.questions.offers.available import Available


class Scope(StrEnum):
    """Where packages are looked for."""

    INSTALLED = "installed"
    AVAILABLE = "available"
    ANY = "any"


class Working(NamedTuple):
    """How far something has come that is done but once. `total` is 0 where nobody knows."""

    what: str
    done: int
    total: int


class RepositoryOptions(NamedTuple):
    """Which repositories are asked: those called one of `repositories`, or all.

    What was parsed of their indexes is kept in the folder `cache`, None for nowhere. With a `keyring`
    (files or folders of the auditor's own) seals are judged with its keys alone. `now` is the time at
    which everything is judged. With `refreshed` the copies that `refresh` fetched count where they are
    as new as the root's; `addresses` are repositories besides those that are configured: they are
    fetched at once. `quiet` does not report what cannot be believed, and fetches nothing.
    `paths` is whether indexes of paths are fetched, too; `progress` is told how far a fetch has come,
    `working` how far the parsing of an index has, or the making of a graph.
    """

    repositories: tuple[str, ...] = ()
    cache: str | None = None
    keyring: tuple[str, ...] = ()
    now: datetime | None = None
    refreshed: bool = False
    addresses: tuple[str, ...] = ()
    quiet: bool = False
    paths: bool = False
    progress: "Callable[[Progress], None] | None" = None
    working: Callable[[Working], None] | None = None


EVERYTHING = RepositoryOptions()


@dataclass(frozen=True, slots=True)
class Lookup:
    """A scope, opened. `offered` is None where only what is installed counts."""

    scope: Scope = Scope.INSTALLED
    offered: "Available | None" = None

    @property
    def notes(self) -> list[str]:
        """What is to be said of the repositories that were asked for."""
        unknown = self.offered.unknown if self.offered else []
        return [f"no repository is called {name}" for name in unknown]


INSTALLED = Lookup()


@contextmanager
def looking(system: System, scope: Scope, options: RepositoryOptions = EVERYTHING) -> Iterator[Lookup]:
    """Open the indexes that a scope takes, and let go of them afterwards."""
    if scope is Scope.INSTALLED:
        yield INSTALLED
        return
    from filigree.questions.offers.available import Available

    offered = Available(system, options)
    try:
        yield Lookup(scope, offered)
    finally:
        offered.close()
