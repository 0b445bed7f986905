"""What an auditor says of repositories: which are asked, with whose keys, and what is kept of them."""

from collections.abc import Callable
from datetime import datetime
from typing import TYPE_CHECKING, NamedTuple

if TYPE_CHECKING:
    from filigree.access.fetching import FetchProgress


class Working(NamedTuple):
    """How far something has come that is done but once. `total` is 0 where nobody knows."""

    what: str
    done: int
    total: int


class RepositoryOptions(NamedTuple):
    """Which repositories are asked: those called one of `repositories`, or all.

    What was parsed of their indexes is kept in the folder `cache`, None for nowhere. With a `keyring`
    (files or folders of the auditor's own) signatures are judged with its keys alone. `now` is the time
    at which everything is judged. With `refreshed` the copies that `refresh` fetched count where they are
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
    progress: "Callable[[FetchProgress], None] | None" = None
    working: Callable[[Working], None] | None = None


EVERYTHING = RepositoryOptions()
