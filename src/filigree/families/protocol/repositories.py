"""What a system could install: its repositories, what their indexes tell, and how it chooses."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any, NamedTuple, Protocol

from filigree.access.trees.protocol import Tree
from filigree.families.protocol.records import Report
from filigree.model.choices import Choice, Offering
from filigree.model.keys import Key
from filigree.model.needs import Capability, Need
from filigree.model.package import Package
from filigree.model.repositories import (
    IndexFile,
    IndexKind,
    Membership,
    Place,
    Refreshed,
    Repository,
)

ADDED = "the auditor"
"""Where a repository is configured that the auditor adds."""


class FetchedCopies(NamedTuple):
    """What the auditor adds to a system's own configuration.

    `copies` is where copies of indexes lie that were fetched by us, None where those do not count;
    `addresses` are repositories besides those that are configured.
    """

    copies: Tree | None = None
    addresses: tuple[str, ...] = ()


NO_COPIES = FetchedCopies()


Remembered = Callable[[str, Callable[[], str]], str]
"""Tells what is under a key: what an earlier run found, or what the second finds."""


def found_anew(_: str, find: Callable[[], str]) -> str:
    """What is to be found, where nothing is remembered."""
    return find()


class Judging(NamedTuple):
    """How an auditor has indexes judged: at which time, and with which copies and keys.

    Signatures are judged with the keys that each repository allows, or with those of `keyring` alone.
    `remembered` tells what was found by unpacking a file, under its digest as it lies.
    """

    now: datetime
    keyring: list[Key] | None = None
    copies: FetchedCopies = NO_COPIES
    remembered: Remembered = found_anew


class Fetch(Protocol):
    """Brings files from repositories, and keeps copies of indexes for the auditor.

    `get` raises FetchError; `keep` puts what was got, or a text, in its place among the copies.
    """

    def get(
        self, address: str, limit: int, digest: str | None = None, size: int | None = None
    ) -> str:
        """The path of what was fetched, whole, and with its digest."""
        ...

    def forget(self, address: str) -> None:
        """Not to keep what was fetched from an address: it is not to be believed."""
        ...

    def drop(self, place: str) -> None:
        """Not to keep a copy any longer."""
        ...

    def keep(self, got: str, place: str) -> None:
        """Keep what was got as a copy, at a place below the folder of copies."""
        ...


class RootKey(NamedTuple):
    """A key that a root holds: which repositories it may sign, by identity, and how it comes to that.

    `everything` is whether it is trusted for whatever no other key is asked for; `archives` whether
    archives that are signed themselves are judged by it. `how` is for people.
    """

    key: Key
    how: str
    scope: tuple[str, ...] = ()
    everything: bool = False
    archives: bool = True


class OfferRow(NamedTuple):
    """An offered package, and its record as the index has it."""

    package: Package
    record: str


Reader = Callable[[IndexFile, Report], Iterator[Any]]
"""Reads an index of one kind. Raises AccessError or ValueError where it breaks off, or changes."""
Kept = Callable[[IndexKind, str], Sequence[str]]
"""What was kept of indexes of a kind under a key."""


class Repositories(Protocol):
    """The repositories that a system is configured to use, and the keys that they are judged by."""

    def repositories(self) -> Sequence[Repository]:
        """Every index that the system is configured to use, in the order of the configuration."""
        ...

    def root_keys(self) -> Sequence[RootKey]:
        """Every key that the root holds, in every place that its family reads; never the auditor's."""
        ...

    @property
    def key_place(self) -> str:
        """Where a key would be put that archives are signed with, for people."""
        ...

    def refresh(self, repository: Repository, fetch: Fetch, paths: bool) -> Refreshed:
        """Fetch the indexes of a repository, each verified before it is kept; with `paths` those too.

        Raises FetchError where the repository cannot be reached.
        """
        ...


class Offers(Protocol):
    """What indexes tell: a reader for each kind that the family has, and records made sense of.

    A reader takes a file whose digest was told by `digest_of`. What each yields: of packages `Offer`, of
    paths `ListedPath`, of advisories `Advisory`, of groups `Group`, of changes pairs of a holder and a
    `Change`, of other kinds pairs of a key and a text, which the family asks for again as `kept`.
    """

    @property
    def readers(self) -> Mapping[IndexKind, Reader]:
        """How indexes are read, by their kind; what the family does not have is left out."""
        ...

    @property
    def membership(self) -> Membership:
        """How firmly packages belong to groups that they say themselves they are of."""
        ...

    def digest_of(self, file: IndexFile) -> str | None:
        """The digest of a copy; None, and a gap, where it is not as promised, or cannot be read."""
        ...

    def package(self, record: str, repository: str, brief: bool) -> Package | None:
        """The package of an offer's record; a `brief` one is asked nothing more."""
        ...

    def needs(self, row: OfferRow) -> tuple[Need, ...]:
        """Everything that an offer asks of others."""
        ...

    def capabilities(self, row: OfferRow) -> tuple[Capability, ...]:
        """Every name that an offer answers to, its own first."""
        ...

    def fields(self, row: OfferRow) -> Mapping[str, str]:
        """Every field of an offer's record."""
        ...

    def place(self, row: OfferRow, repository: Repository) -> Place:
        """Where the archive of an offer can be fetched, and what its index promises of it."""
        ...

    def description(self, record: str, kept: Kept) -> str | None:
        """The long description of an offer, where it is kept apart; None where it is not."""
        ...

    def holder(self, package: Package) -> str:
        """How an index of paths names a package."""
        ...

    def named(self, holder: str) -> tuple[str, str | None, str | None]:
        """Name, and perhaps version and architecture, of what an index of paths names."""
        ...


class Chooser(Protocol):
    """Which of several versions a system would take."""

    def barred(self, package: Package, repository: Repository, kept: Kept) -> str | None:
        """Why the system never takes what is offered; None where it may."""
        ...

    def kind_of_machine(self, package: Package) -> str:
        """What makes packages of one name take each other's place: the same for `all` and for ours."""
        ...

    def order(self, here: Package, other: Package) -> int | None:
        """Negative, 0 or positive as `here` is older than `other`; None where that is a guess."""
        ...

    def choices(self, installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
        """All versions of one name for one kind of machine, the newest first; one may be taken."""
        ...


class Sources(Repositories, Offers, Chooser, Protocol):
    """All of what a system could install, read for one question."""
