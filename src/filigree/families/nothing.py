"""No system at all: what archives are asked about where the root holds none of a known family."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime

from filigree.access.jail import Jail
from filigree.families.protocol import NO_COPIES, ArchiveFamily, Family, FetchedCopies, Report
from filigree.families.shared.defaults import DatabaseDefaults
from filigree.families.shared.listing import PathListing
from filigree.formats.keys import Key
from filigree.formats.version_parts import split_version
from filigree.model.files import Aspect, FileRecord
from filigree.model.needs import Capability, Need, Relation, Term
from filigree.model.package import Package, Script, VersionParts

NAME = "none"


class EmptyDatabase(DatabaseDefaults):
    """No record of anything."""

    aspects: frozenset[Aspect] = frozenset()
    architecture: str | None = None

    def packages(self) -> Sequence[Package]:
        return ()

    def listing(self, package: Package) -> PathListing:  # noqa: ARG002
        return PathListing()

    def listings(self) -> Iterator[tuple[Package, PathListing]]:
        return iter(())

    def path_count(self, package: Package) -> int:  # noqa: ARG002
        return 0

    def files(self, package: Package) -> list[FileRecord]:  # noqa: ARG002
        return []

    configuration = files

    def needs(self, package: Package) -> tuple[Need, ...]:  # noqa: ARG002
        return ()

    def capabilities(self, package: Package) -> tuple[Capability, ...]:  # noqa: ARG002
        return ()

    def meets(self, term: Term, asker: Package, holder: Package, capability: Capability) -> bool:  # noqa: ARG002
        return False

    def forbids(self, *_: object) -> bool:
        return False

    def rivals(self, one: Package, other: Package) -> str | None:  # noqa: ARG002
        return None

    machines: Sequence[str] = ()
    keeping: frozenset[Relation] = frozenset()

    def machine_of(self, package: Package) -> str:
        return package.architecture

    def scripts(self, package: Package) -> tuple[Script, ...]:  # noqa: ARG002
        return ()

    def fields(self, package: Package) -> Mapping[str, str]:  # noqa: ARG002
        return {}

    def sources(
        self,
        now: datetime,  # noqa: ARG002
        keyring: list[Key] | None,  # noqa: ARG002
        own: FetchedCopies = NO_COPIES,  # noqa: ARG002
    ) -> None:
        return None

    kept_endings: Sequence[str] = ()

    def script_texts(self, package: Package) -> Iterator[str]:  # noqa: ARG002
        return iter(())

    def place_of(self, package: Package) -> str:  # noqa: ARG002
        return "/"

    def archive_folders(self) -> Sequence[str]:
        return ()

    def index_folders(self) -> Sequence[str]:
        return ()

    def keeper_of(self, path: str) -> Package | None:  # noqa: ARG002
        return None


class NoFamily:
    """The family of a root that holds no system."""

    name = NAME
    url_types: Sequence[str] = ()
    silent_on: Mapping[str, str] = {}
    archives: ArchiveFamily | None = None

    def looked_for(self) -> Iterable[str]:
        return ()

    def recognises(self, jail: Jail) -> bool:  # noqa: ARG002
        return False

    def open(self, jail: Jail, report: Report) -> EmptyDatabase:  # noqa: ARG002
        return EmptyDatabase()

    def split_version(self, version: str) -> VersionParts:
        return split_version(version)

    def order(self, one: str, other: str) -> int | None:
        return 0 if one == other else None

    def compare_versions(self, one: str, other: str) -> int:
        return (one > other) - (one < other)


FAMILY: Family = NoFamily()
