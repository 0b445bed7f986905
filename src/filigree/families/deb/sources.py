"""What a `deb` system could install."""

from collections.abc import Iterator, Mapping, Sequence

from filigree.access.jail import Jail
from filigree.families.deb import offers
from filigree.families.deb.choosing import choices
from filigree.families.deb.offers import description_key
from filigree.families.deb.repositories import DebRepositories
from filigree.families.deb.stanza import capabilities_told, needs_told
from filigree.families.protocol import FetchedCopies, Report
from filigree.families.shared.indexes import IndexReader
from filigree.formats.deb.versions import compare_versions
from filigree.model.choices import Choice, Offering
from filigree.model.needs import Capability, Need
from filigree.model.package import Package
from filigree.model.repositories import (
    IndexFile,
    ListedPath,
    Membership,
    Offer,
    Place,
    Repository,
)


class DebSources(IndexReader):
    """Reads the configuration and the copies of indexes once, for one question."""

    any_machine = "all"
    compare = staticmethod(compare_versions)
    membership = Membership.DEFAULT

    def __init__(
        self, jail: Jail, report: Report, configured: DebRepositories, own: FetchedCopies
    ) -> None:
        super().__init__(jail, report, configured, own)
        self._configured = configured

    # -- what indexes tell -----------------------------------------------------------------

    def offers(self, file: IndexFile, report: Report) -> Iterator[Offer]:
        return offers.read_offers(self._pieces(file), file.path, report)

    def paths(self, file: IndexFile, report: Report) -> Iterator[ListedPath]:
        return offers.read_paths(self._pieces(file), file.path, report)

    def descriptions(self, file: IndexFile, report: Report) -> Iterator[tuple[str, str]]:
        return offers.read_descriptions(self._pieces(file), file.path, report)

    # -- packages --------------------------------------------------------------------------

    def package(self, record: str, repository: str, brief: bool = False) -> Package | None:
        return offers.package_offered(record, repository, brief)

    def needs(self, package: Package, record: str) -> tuple[Need, ...]:  # noqa: ARG002
        return needs_told(package, self._report)

    def capabilities(self, package: Package, record: str) -> tuple[Capability, ...]:  # noqa: ARG002
        return capabilities_told(package, self._report)

    def fields(self, package: Package, record: str) -> Mapping[str, str]:  # noqa: ARG002
        return package.fields

    def place(self, record: str, repository: Repository) -> Place:
        return offers.place_of(record, repository.addresses)

    def description_key_of(self, record: str) -> str | None:
        return description_key(record)

    def holder(self, package: Package) -> str:
        return package.name

    def held(self, holder: str) -> tuple[str, str | None, str | None]:
        return holder, None, None

    # -- choosing --------------------------------------------------------------------------

    def barred(
        self,
        package: Package,  # noqa: ARG002
        repository: Repository,  # noqa: ARG002
        told: Sequence[str],  # noqa: ARG002
        defaults: Sequence[str],  # noqa: ARG002
    ) -> str | None:
        return None

    def choices(self, installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
        return choices(self._configured.pins, installed, offered)
