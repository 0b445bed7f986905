"""The package database of a root: an inventory, and beside it what not every family has."""

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Protocol

from filigree.families.protocol.records import Listing, Records
from filigree.families.protocol.rules import Rules
from filigree.model.events import Event
from filigree.model.files import ManagedLink, Relocation
from filigree.model.keys import Key
from filigree.model.package import Package
from filigree.model.signatures import Signatures


class Policy(Protocol):
    """What an administrator declared of paths, where a family has ways to declare it."""

    @property
    def relocations(self) -> Sequence[Relocation]:
        """Declared diversions."""
        ...

    @property
    def managed_links(self) -> Mapping[str, ManagedLink]:
        """Links made at run time by the system's own mechanism for interchangeable programs."""
        ...


class History(Protocol):
    """What a system noted of what happened to its packages; `arrivals` is whether also that one came,
    where none stood before."""

    @property
    def arrivals(self) -> bool: ...

    def events(self, names: Collection[str] | None = None) -> Iterator[Event]:
        """What happened to packages of these names, or all; in no order."""
        ...


class RecordSignatures(Protocol):
    """The signatures that a family keeps with each record."""

    def judged(self, package: Package, keys: Sequence[Key], now: datetime) -> Signatures:
        """What the signatures say of a package's own record, by these keys and at this time."""
        ...


class Database(Records, Protocol):
    """The package database of one root, as it is at this moment.

    `policy`, `history` and `signatures` are None where the family has no such thing; so are `made_paths`
    (of a package: those of its paths that stand on no list, but are made when it is installed),
    `takes_place` (whether the files of one package take the place of another's), `prepare` (reads, before
    work is shared out, what the files of packages take besides their records) and `report_unclaimed`
    (reports what is on record of packages that the database does not know).
    """

    @property
    def architecture(self) -> str | None:
        """The system's own architecture."""
        ...

    @property
    def rules(self) -> Rules:
        """By which rules its packages go together."""
        ...

    @property
    def policy(self) -> Policy | None:
        """What the administrator declared of paths."""
        ...

    @property
    def history(self) -> History | None:
        """What happened when."""
        ...

    @property
    def signatures(self) -> RecordSignatures | None:
        """Who signed the records."""
        ...

    @property
    def kept_endings(self) -> Sequence[str]:
        """How copies of configuration are called that are kept when a package changes."""
        ...

    @property
    def hook_places(self) -> Sequence[str]:
        """The directories and files whose contents the package system's own programs run, or are told
        by what to run."""
        ...

    @property
    def made_paths(self) -> Callable[[Package], Collection[str]] | None:
        """Tells the paths of a package that stand on no list."""
        ...

    @property
    def takes_place(self) -> Callable[[Package, Package], bool] | None:
        """Tells whether the files of one package take the place of another's, at the paths of both."""
        ...

    @property
    def prepare(self) -> Callable[[Sequence[Package]], None] | None:
        """Reads what the files of packages take besides their records."""
        ...

    @property
    def report_unclaimed(self) -> Callable[[], None] | None:
        """Reports what is on record of nothing that is there."""
        ...

    def packages(self) -> Sequence[Package]:
        """Every record, in the database's order, of whatever state."""
        ...

    def listings(self) -> Iterator[tuple[Package, Listing]]:
        """The paths of every package that has any."""
        ...

    def path_count(self, package: Package) -> int:
        """About how many paths a package has: cheap, and good enough to share out work."""
        ...

    def script_texts(self, package: Package) -> Iterator[str]:
        """What the maintainers' scripts of a package say; never run by us."""
        ...

    def place_of(self, package: Package) -> str:
        """The file below the root that holds a package's record."""
        ...

    def keeper_of(self, path: str) -> Package | None:
        """The package that a file of the database itself belongs to."""
        ...

    def archive_folders(self) -> Sequence[str]:
        """Where the system itself keeps archives that it fetched."""
        ...

    def index_folders(self) -> Sequence[str]:
        """Where the system itself keeps the indexes that it fetched."""
        ...

    def close(self) -> None:
        """Let go of what is held open."""
        ...
