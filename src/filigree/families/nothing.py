"""No system at all: what archives are asked about where the root holds none of a known family."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from types import MappingProxyType

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import ArchiveFamily, Family
from filigree.families.shared.defaults import DatabaseDefaults
from filigree.families.shared.listing import PathListing
from filigree.formats.version_parts import split_version
from filigree.model.files import Aspect, FileRecord
from filigree.model.needs import Capability, Need, Relation
from filigree.model.package import Package, Script, VersionParts

NAME = "none"


class NoRules:
    """Nothing goes by any rule."""

    marks: frozenset[str] = frozenset()
    machines: Sequence[str] = ()
    keeping: frozenset[Relation] = frozenset()

    def satisfies(self, *_: object) -> bool:
        return False

    forbids = stays = satisfies

    def rivals(self, *_: Package) -> str | None:
        return None

    def machine_of(self, package: Package) -> str:
        return package.architecture


class EmptyDatabase(DatabaseDefaults):
    """No record of anything."""

    aspects: frozenset[Aspect] = frozenset()
    architecture: str | None = None
    rules = NoRules()

    def packages(self) -> Sequence[Package]:
        return ()

    def listing(self, *_: Package) -> PathListing:
        return PathListing()

    def listings(self) -> Iterator[tuple[Package, PathListing]]:
        return iter(())

    def path_count(self, *_: Package) -> int:
        return 0

    def files(self, *_: Package) -> list[FileRecord]:
        return []

    configuration = files

    def needs(self, *_: Package) -> tuple[Need, ...]:
        return ()

    def capabilities(self, *_: Package) -> tuple[Capability, ...]:
        return ()

    def scripts(self, *_: Package) -> tuple[Script, ...]:
        return ()

    def fields(self, *_: Package) -> Mapping[str, str]:
        return {}

    kept_endings: Sequence[str] = ()

    def script_texts(self, *_: Package) -> Iterator[str]:
        return iter(())

    def place_of(self, *_: Package) -> str:
        return "/"

    def archive_folders(self) -> Sequence[str]:
        return ()

    def index_folders(self) -> Sequence[str]:
        return ()

    def keeper_of(self, *_: str) -> Package | None:
        return None


class NoFamily:
    """The family of a root that holds no system."""

    name = NAME
    url_types: Sequence[str] = ()
    epoch_apart = False
    digests: Sequence[str] = ()
    places: Sequence[str] = ()
    rests_on: Mapping[str, str] = MappingProxyType({})
    silent_on: Mapping[str, str] = {}
    archives: ArchiveFamily | None = None

    def looked_for(self) -> Iterable[str]:
        return ()

    def recognises(self, *_: Tree) -> bool:
        return False

    def open(self, *_: object) -> EmptyDatabase:
        return EmptyDatabase()

    def sources(self, *_: object) -> None:
        return None

    def split_version(self, version: str) -> VersionParts:
        return split_version(version)

    sort_key = None

    def order(self, one: str, other: str) -> int | None:
        return 0 if one == other else None

    def compare_versions(self, one: str, other: str) -> int:
        return (one > other) - (one < other)


FAMILY: Family = NoFamily()
