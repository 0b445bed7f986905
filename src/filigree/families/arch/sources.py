"""What an `arch` system could install."""

from collections.abc import Iterator, Mapping, Sequence

from filigree.access.jail import Jail
from filigree.families.arch import described, offers
from filigree.families.arch.database import needs_told
from filigree.families.arch.needs import ANY
from filigree.families.arch.repositories import ArchRepositories
from filigree.families.protocol import FetchedCopies, Report
from filigree.families.shared.choosing import choices_by_number
from filigree.families.shared.indexes import IndexReader
from filigree.formats.arch.versions import compare_versions
from filigree.formats.members import PayloadError
from filigree.model.answer import Gap
from filigree.model.choices import Choice, Offering
from filigree.model.needs import Capability, Need
from filigree.model.package import Package
from filigree.model.repositories import (
    IndexFile,
    ListedPath,
    Offer,
    Place,
    Repository,
)

_LAST = 1 << 20


class ArchSources(IndexReader):
    """Reads the configuration and the copies of indexes once, for one question."""

    any_machine = ANY
    compare = staticmethod(compare_versions)

    def __init__(
        self, jail: Jail, report: Report, configured: ArchRepositories, own: FetchedCopies
    ) -> None:
        super().__init__(jail, report, configured, own)
        self._configured = configured

    def digest_of(self, file: IndexFile) -> str | None:
        """The digest of a copy; None, and a gap, where its own signature is bad, or it cannot be read."""
        why = self._configured.refused(self._jail_of(file), file.path)
        if why is not None:
            self._report(Gap(file.path, why))
            return None
        return super().digest_of(file)

    # -- what indexes tell -----------------------------------------------------------------

    def offers(self, file: IndexFile, report: Report) -> Iterator[Offer]:
        try:
            yield from offers.read_offers(self._pieces(file), file.path, report)
        except PayloadError as error:
            report(Gap(file.path, f"{error}; what follows was not read"))

    def paths(self, file: IndexFile, report: Report) -> Iterator[ListedPath]:
        try:
            yield from offers.read_paths(self._pieces(file))
        except PayloadError as error:
            report(Gap(file.path, f"{error}; what follows was not read"))

    # -- packages --------------------------------------------------------------------------

    def package(self, record: str, repository: str, brief: bool = False) -> Package | None:  # noqa: ARG002
        return offers.package_offered(record, repository)

    def needs(self, package: Package, record: str) -> tuple[Need, ...]:
        return needs_told(offers.fields_in(record), package, self._report)

    def capabilities(self, package: Package, record: str) -> tuple[Capability, ...]:
        return described.capabilities_of(offers.fields_in(record), package)

    def fields(self, package: Package, record: str) -> Mapping[str, str]:  # noqa: ARG002
        return {name: "\n".join(values) for name, values in offers.fields_in(record).items()}

    def place(self, record: str, repository: Repository) -> Place:
        return offers.place_of(record, repository.addresses)

    def holder(self, package: Package) -> str:
        return f"{package.name}-{package.version}"

    def held(self, holder: str) -> tuple[str, str | None, str | None]:
        front, _, release = holder.rpartition("-")
        name, _, version = front.rpartition("-")
        return name, f"{version}-{release}", None

    def barred(self, *_: object) -> str | None:
        """What is left out is held where it is: nothing that is offered is never taken."""
        return None

    def choices(self, installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
        return choices_by_number(installed, offered, compare_versions, _LAST)
