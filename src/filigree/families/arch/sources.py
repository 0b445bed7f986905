"""What an `arch` system could install."""

from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any

from filigree.families.arch import described, offers
from filigree.families.arch.database import ArchDatabase, needs_told
from filigree.families.arch.needs import ANY
from filigree.families.protocol import Judging, OfferRow, Reader, Report
from filigree.families.shared.choosing import Numbers, choices_by_number
from filigree.families.shared.indexes import IndexReader
from filigree.formats.arch.versions import compare_versions
from filigree.formats.members import PayloadError
from filigree.model.answer import Gap
from filigree.model.choices import Choice, Offering
from filigree.model.needs import Capability, Need
from filigree.model.package import Package
from filigree.model.repositories import (
    IndexFile,
    IndexKind,
    Place,
    Repository,
)

_LAST = 1 << 20


class ArchSources(IndexReader):
    """Reads the configuration and the copies of indexes once, for one question."""

    any_machine = ANY
    compare = staticmethod(compare_versions)

    def __init__(self, database: ArchDatabase, judging: Judging) -> None:
        configured = database.repositories(judging)
        super().__init__(database.tree, database.report, configured, judging)
        self._configured = configured

    def digest_of(self, file: IndexFile) -> str | None:
        """The digest of a copy; None, and a gap, where its own signature is bad, or it cannot be read."""
        why = self._configured.refused(self._tree_of(file), file.path)
        if why is not None:
            self._report(Gap(file.path, why))
            return None
        return super().digest_of(file)

    # -- what indexes tell -----------------------------------------------------------------

    @cached_property
    def readers(self) -> Mapping[IndexKind, Reader]:
        return {
            IndexKind.PACKAGES: self._to_its_end(self._reader(offers.read_offers)),
            IndexKind.PATHS: self._to_its_end(self._plain_reader(offers.read_paths)),
        }

    @staticmethod
    def _to_its_end(read: Reader) -> Reader:
        """A reader that reports where an index breaks off."""

        def items(file: IndexFile, report: Report) -> Iterator[Any]:
            try:
                yield from read(file, report)
            except PayloadError as error:
                report(Gap(file.path, f"{error}; what follows was not read"))

        return items

    # -- packages --------------------------------------------------------------------------

    def package(self, record: str, repository: str, *_: bool) -> Package | None:
        return offers.package_offered(record, repository)

    def needs(self, row: OfferRow) -> tuple[Need, ...]:
        return needs_told(offers.fields_in(row.record), row.package, self._report)

    def capabilities(self, row: OfferRow) -> tuple[Capability, ...]:
        return described.capabilities_of(offers.fields_in(row.record), row.package)

    def fields(self, row: OfferRow) -> Mapping[str, str]:
        return {name: "\n".join(values) for name, values in offers.fields_in(row.record).items()}

    def place(self, row: OfferRow, repository: Repository) -> Place:
        return offers.place_of(row.record, repository.addresses)

    def holder(self, package: Package) -> str:
        return f"{package.name}-{package.version}"

    def named(self, holder: str) -> tuple[str, str | None, str | None]:
        front, _, release = holder.rpartition("-")
        name, _, version = front.rpartition("-")
        return name, f"{version}-{release}", None

    def barred(self, *_: object) -> str | None:
        """What is left out is held where it is: nothing that is offered is never taken."""
        return None

    def choices(self, installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
        return choices_by_number(installed, offered, Numbers(compare_versions, _LAST))
