"""What a `deb` system could install."""

from collections.abc import Iterable, Iterator, Mapping, Sequence

from filigree.access.jail import Jail
from filigree.families.deb import offers
from filigree.families.deb.choosing import choices
from filigree.families.deb.offers import description_key
from filigree.families.deb.repositories import DebRepositories
from filigree.families.deb.stanza import capabilities_told, needs_told
from filigree.families.indexes import checked_pieces, digest_found
from filigree.families.protocol import Fetch, Own, Report
from filigree.model.choices import Choice, Offering
from filigree.model.needs import Capability, Need
from filigree.model.package import Package
from filigree.model.repositories import (
    Advisory,
    Change,
    Group,
    IndexFile,
    Listed,
    Offer,
    Place,
    Refreshed,
    Repository,
)


class DebSources:
    """Reads the configuration and the copies of indexes once, for one question."""

    def __init__(self, jail: Jail, report: Report, configured: DebRepositories, own: Own) -> None:
        self._own = own
        self._jail = jail
        self._report = report
        self._configured = configured

    def repositories(self) -> Sequence[Repository]:
        return self._configured.all()

    def _jail_of(self, file: IndexFile) -> Jail:
        """Where a copy lies: below the root, or among those that we fetched."""
        return self._own.copies if file.own and self._own.copies else self._jail

    def refresh(self, repository: Repository, fetch: Fetch, paths: bool) -> Refreshed:
        return self._configured.refresh(repository, fetch, paths)

    # -- what indexes tell -----------------------------------------------------------------

    def digest_of(self, file: IndexFile) -> str | None:
        return digest_found(self._jail_of(file), file, self._report)

    def offers(self, file: IndexFile, report: Report) -> Iterator[Offer]:
        return offers.read_offers(checked_pieces(self._jail_of(file), file), file.path, report)

    def paths(self, file: IndexFile, report: Report) -> Iterator[Listed]:
        return offers.read_paths(checked_pieces(self._jail_of(file), file), file.path, report)

    def descriptions(self, file: IndexFile, report: Report) -> Iterator[tuple[str, str]]:
        return offers.read_descriptions(
            checked_pieces(self._jail_of(file), file), file.path, report
        )

    def advisories(self, file: IndexFile, report: Report) -> Iterator[Advisory]:  # noqa: ARG002
        return iter(())

    def groups(self, file: IndexFile, report: Report) -> Iterator[Group]:  # noqa: ARG002
        return iter(())

    def groups_told(self, members: Iterable[tuple[str, str]]) -> Iterator[Group]:
        return offers.groups_of(members)

    def changes(self, file: IndexFile, report: Report) -> Iterator[tuple[str, Change]]:  # noqa: ARG002
        return iter(())

    def streams(self, file: IndexFile, report: Report) -> Iterator[tuple[str, str]]:  # noqa: ARG002
        return iter(())

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

    def stream_key(self, package: Package) -> str | None:  # noqa: ARG002
        return None

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

    def kind_of_machine(self, package: Package) -> str:
        machine = package.architecture
        return self._configured.native if machine == "all" else machine

    def choices(self, installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
        return choices(self._configured.pins, installed, offered)
