"""What a family of systems must be able to do. A family from elsewhere implements Family and Database.

A method whose notion a family lacks returns nothing, and `silent_on` of the family says why.
"""

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from typing import NamedTuple, Protocol

from filigree.access.jail import Jail
from filigree.formats.keys import Key
from filigree.formats.random_access import Bytes
from filigree.model.answer import Gap
from filigree.model.archives import ArchiveFacts, NameParts
from filigree.model.choices import Choice, Offering
from filigree.model.events import Event
from filigree.model.files import Aspect, FileRecord, ManagedLink, Relocation
from filigree.model.needs import Capability, Need, Relation, Term
from filigree.model.package import Package, Script, VersionParts
from filigree.model.repositories import (
    Advisory,
    Change,
    Group,
    IndexFile,
    ListedPath,
    Offer,
    Place,
    Refreshed,
    Repository,
)
from filigree.model.signatures import Check, Signatures

Report = Callable[[Gap], None]
"""Takes a gap as it is found."""


class Listing(Protocol):
    """The paths that a package has on record, absolute, in the record's order."""

    def __len__(self) -> int: ...

    def __contains__(self, path: object) -> bool: ...

    def __iter__(self) -> Iterator[str]: ...

    def matching(self, pattern: re.Pattern[bytes]) -> Iterable[str]:
        """The paths that a pattern (over UTF-8, for a whole path) matches."""
        ...

    def named(self, name: str) -> Iterable[str]:
        """The paths whose last part is `name`; the root's is empty."""
        ...


class Records(Protocol):
    """What is on record of packages, one by one: in a system's database, or in an archive."""

    @property
    def aspects(self) -> frozenset[Aspect]:
        """The aspects of a file that these records tell."""
        ...

    def listing(self, package: Package) -> Listing:
        """The paths of one package. What cannot be read is reported as a gap."""
        ...

    def files(self, package: Package) -> list[FileRecord]:
        """What is on record of each path of a package, in the record's order."""
        ...

    def configuration(self, package: Package) -> list[FileRecord]:
        """The records of the files of a package that an administrator may change."""
        ...

    def needs(self, package: Package) -> tuple[Need, ...]:
        """Everything that a package asks of others, of every kind."""
        ...

    def capabilities(self, package: Package) -> tuple[Capability, ...]:
        """Every name that a package answers to, its own first."""
        ...

    def scripts(self, package: Package) -> tuple[Script, ...]:
        """The maintainers' scripts of a package."""
        ...

    def fields(self, package: Package) -> Mapping[str, str]:
        """Every field of a package's record, as the family names them."""
        ...


class Archive(Records, Protocol):
    """One archive, opened. Nothing of it is unpacked to the disk, and nothing of it is followed."""

    @property
    def package(self) -> Package:
        """The package that it holds."""
        ...

    @property
    def facts(self) -> ArchiveFacts: ...

    def digest(self, algorithm: str) -> str:
        """The digest of the archive as a file, `algorithm:hex`."""
        ...

    def expected(self) -> list[FileRecord]:
        """What its files are to be, as cheaply as can be told: by the header where that tells."""
        ...

    def signature(
        self, keys: Sequence[Key], now: datetime, beside: bytes | None = None
    ) -> Signatures:
        """What its signatures say, judged with these keys; `beside` is one that lies beside it.

        Bad where a digest that it carries itself does not hold, whatever the signatures say.
        """
        ...

    def checks(self) -> Sequence[Check]:
        """The digests and sizes that it carries of itself as a whole, held against what is there."""
        ...


ADDED = "--repo-url"
"""Where a repository is configured that the auditor adds."""


class FetchedCopies(NamedTuple):
    """What the auditor adds to a system's own configuration.

    `copies` is where copies of indexes lie that were fetched by us, None where those do not count;
    `addresses` are repositories besides those that are configured.
    """

    copies: Jail | None = None
    addresses: tuple[str, ...] = ()


NO_COPIES = FetchedCopies()


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


class Sources(Protocol):
    """What a system could install: its repositories, what their indexes tell, and how it chooses.

    What reads an index takes a file whose digest was told by `digest_of`, and raises AccessError or
    ValueError where it breaks off, or is another one meanwhile.
    """

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

    def digest_of(self, file: IndexFile) -> str | None:
        """The digest of a copy; None, and a gap, where it is not as promised, or cannot be read."""
        ...

    def offers(self, file: IndexFile, report: Report) -> Iterator[Offer]:
        """What an index of packages offers, as it comes."""
        ...

    def paths(self, file: IndexFile, report: Report) -> Iterator[ListedPath]:
        """What an index of paths tells."""
        ...

    def descriptions(self, file: IndexFile, report: Report) -> Iterator[tuple[str, str]]:
        """Long descriptions that are kept apart, by the key that `description_key_of` gives."""
        ...

    def advisories(self, file: IndexFile, report: Report) -> Iterator[Advisory]: ...

    def groups(self, file: IndexFile, report: Report) -> Iterator[Group]: ...

    def groups_told(self, members: Iterable[tuple[str, str]]) -> Iterator[Group]:
        """The groups that packages themselves say they are of, from pairs of group and package."""
        ...

    def changes(self, file: IndexFile, report: Report) -> Iterator[tuple[str, Change]]:
        """Changes, each with the holder that it is of."""
        ...

    def streams(self, file: IndexFile, report: Report) -> Iterator[tuple[str, str]]:
        """Streams of versions: by the key that `stream_key` gives, and by the empty one the defaults
        and what streams need."""
        ...

    def package(self, record: str, repository: str, brief: bool = False) -> Package | None:
        """The package of an offer's record; a `brief` one is asked nothing more."""
        ...

    def needs(self, package: Package, record: str) -> tuple[Need, ...]: ...

    def capabilities(self, package: Package, record: str) -> tuple[Capability, ...]: ...

    def fields(self, package: Package, record: str) -> Mapping[str, str]: ...

    def place(self, record: str, repository: Repository) -> Place:
        """Where the archive of an offer can be fetched, and what its index promises of it."""
        ...

    def description_key_of(self, record: str) -> str | None: ...

    def stream_key(self, package: Package) -> str | None: ...

    def holder(self, package: Package) -> str:
        """How an index of paths names a package."""
        ...

    def held(self, holder: str) -> tuple[str, str | None, str | None]:
        """Name, and perhaps version and architecture, of what an index of paths names."""
        ...

    def barred(
        self, package: Package, repository: Repository, told: Sequence[str], defaults: Sequence[str]
    ) -> str | None:
        """Why the system never takes what is offered; `told` are its streams, if it has any."""
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


class Database(Records, Protocol):
    """The package database of one root, as it is at this moment."""

    @property
    def architecture(self) -> str | None:
        """The system's own architecture."""
        ...

    def packages(self) -> Sequence[Package]:
        """Every record, in the database's order, of whatever state."""
        ...

    def listings(self) -> Iterator[tuple[Package, Listing]]:
        """The paths of every package that has any."""
        ...

    def made_paths(self, package: Package) -> Collection[str]:
        """Those of its paths that stand on no list, but are made when it is installed."""
        ...

    def path_count(self, package: Package) -> int:
        """About how many paths a package has: cheap, and good enough to share out work."""
        ...

    def report_unclaimed(self) -> None:
        """Report what is on record of packages that the database does not know."""
        ...

    def meets(self, term: Term, asker: Package, holder: Package, capability: Capability) -> bool:
        """Whether `holder`, through one of its capabilities, meets what `asker` asks for."""
        ...

    def forbids(
        self, kind: Relation, term: Term, asker: Package, holder: Package, capability: Capability
    ) -> bool:
        """Whether `asker`, by a need of this kind, cannot be there together with `holder`."""
        ...

    def rivals(self, one: Package, other: Package) -> str | None:
        """Why two packages of one name cannot be there together; None where they can."""
        ...

    @property
    def machines(self) -> Sequence[str]:
        """The architectures that the system takes, its own first; none where nothing tells."""
        ...

    @property
    def keeping(self) -> frozenset[Relation]:
        """The kinds of ties that keep a dependency in place, by the system's own settings."""
        ...

    def stays(self, package: Package) -> bool:
        """Whether a package is never taken for left over, by the system's own settings."""
        ...

    def machine_of(self, package: Package) -> str:
        """The kind of machine that a package is for; what is for any counts as the system's own."""
        ...

    def relocations(self) -> Sequence[Relocation]:
        """Declared diversions."""
        ...

    def managed_links(self) -> Mapping[str, ManagedLink]:
        """Links made at run time by the system's own mechanism for interchangeable programs."""
        ...

    def sources(
        self, now: datetime, keyring: list[Key] | None, own: FetchedCopies = NO_COPIES
    ) -> Sources | None:
        """What the system could install, judged at a time; None where the family has no such notion.

        Signatures are judged with the keys that each repository allows, or with those of `keyring` alone.
        """
        ...

    @property
    def kept_endings(self) -> Sequence[str]:
        """How copies of configuration are called that are kept when a package changes."""
        ...

    def script_texts(self, package: Package) -> Iterator[str]:
        """What the maintainers' scripts of a package say; never run by us."""
        ...

    def place_of(self, package: Package) -> str:
        """The file below the root that holds a package's record."""
        ...

    def archive_folders(self) -> Sequence[str]:
        """Where the system itself keeps archives that it fetched."""
        ...

    def index_folders(self) -> Sequence[str]:
        """Where the system itself keeps the indexes that it fetched."""
        ...

    def record_signature(
        self, package: Package, keys: Sequence[Key], now: datetime
    ) -> Signatures | None:
        """What the signatures say of a package's own record; None where the family keeps none of it."""
        ...

    def keeper_of(self, path: str) -> Package | None:
        """The package that a file of the database itself belongs to."""
        ...

    def prepare(self, packages: Sequence[Package]) -> None:
        """Read, before work is shared out, what the files of packages take besides their records."""
        ...

    def events(self, names: Collection[str] | None = None) -> Iterator[Event]:
        """What happened to packages of these names, or all, by the system's own history; in no order."""
        ...

    def close(self) -> None:
        """Let go of what is held open."""
        ...


class ArchiveFamily(Protocol):
    """How a family's archives are read. A family without archives leaves it out."""

    def recognises(self, head: bytes) -> bool:
        """Whether a file that begins so is such an archive; `head` has at least 64 bytes of it."""
        ...

    def recognises_whole(self, source: Bytes) -> bool:
        """Whether what no family knew by its start is one by what stands anywhere in it: asked last."""
        ...

    def parts_of_name(self, name: str) -> NameParts | None:
        """A file name taken apart; None where no such archive is called so."""
        ...

    def name_of(self, package: Package) -> str:
        """What the archive of a package is called."""
        ...

    def open(self, source: Bytes, path: str, report: Report) -> Archive:
        """An archive. Raises DatabaseError where not even its description can be read."""
        ...


class Family(Protocol):
    """One way in which systems keep packages."""

    @property
    def name(self) -> str: ...

    @property
    def url_types(self) -> Sequence[str]:
        """The types by which package URLs name its packages."""
        ...

    @property
    def silent_on(self) -> Mapping[str, str]:
        """What the family's database does not record, each with a sentence for people."""
        ...

    @property
    def archives(self) -> ArchiveFamily | None:
        """How its archives are read."""
        ...

    def looked_for(self) -> Iterable[str]:
        """The paths that tell such a system."""
        ...

    def recognises(self, jail: Jail) -> bool:
        """Whether the root is such a system."""
        ...

    def open(self, jail: Jail, report: Report) -> Database:
        """The root's database. Raises DatabaseError where it cannot be read as a whole."""
        ...

    def split_version(self, version: str) -> VersionParts: ...

    def order(self, one: str, other: str) -> int | None:
        """Negative, 0 or positive as `one` is older than, the same as or newer than `other`.

        None where that would be a guess. Whoever says which of two versions is newer asks this, or the
        order of `Sources`, which may know more.
        """
        ...

    def compare_versions(self, one: str, other: str) -> int:
        """An order to list versions by, and to tell whether two are the same. 0 is sure; what comes
        first may be a guess, and is never told as what is older."""
        ...
