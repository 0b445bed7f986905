"""What a `deb` system could install."""

from collections.abc import Mapping, Sequence
from functools import cached_property

from filigree.families.deb import offers
from filigree.families.deb.choosing import choices
from filigree.families.deb.database import DebDatabase
from filigree.families.deb.offers import description_key
from filigree.families.deb.stanza import capabilities_told, needs_told
from filigree.families.protocol import Judging, Kept, OfferRow, Reader
from filigree.families.shared.indexes import IndexReader
from filigree.formats.deb.versions import compare_versions
from filigree.model.choices import Choice, Offering
from filigree.model.needs import Capability, Need
from filigree.model.package import Package
from filigree.model.repositories import (
    IndexKind,
    Membership,
    Place,
    Repository,
)


class DebSources(IndexReader):
    """Reads the configuration and the copies of indexes once, for one question."""

    any_machine = "all"
    compare = staticmethod(compare_versions)
    membership = Membership.DEFAULT

    def __init__(self, database: DebDatabase, judging: Judging) -> None:
        configured = database.repositories(judging)
        super().__init__(database.tree, database.report, configured, judging)
        self._configured = configured

    # -- what indexes tell -----------------------------------------------------------------

    @cached_property
    def readers(self) -> Mapping[IndexKind, Reader]:
        return {
            IndexKind.PACKAGES: self._reader(offers.read_offers),
            IndexKind.PATHS: self._reader(offers.read_paths),
            IndexKind.DESCRIPTIONS: self._reader(offers.read_descriptions),
        }

    # -- packages --------------------------------------------------------------------------

    def package(self, record: str, repository: str, brief: bool) -> Package | None:
        return offers.package_offered(record, repository, brief)

    def needs(self, row: OfferRow) -> tuple[Need, ...]:
        return needs_told(row.package, self._report)

    def capabilities(self, row: OfferRow) -> tuple[Capability, ...]:
        return capabilities_told(row.package, self._report)

    def fields(self, row: OfferRow) -> Mapping[str, str]:
        return row.package.fields

    def place(self, row: OfferRow, repository: Repository) -> Place:
        return offers.place_of(row.record, repository.addresses)

    def description(self, record: str, kept: Kept) -> str | None:
        key = description_key(record)
        for text in kept(IndexKind.DESCRIPTIONS, key) if key is not None else ():
            _, _, rest = text.partition("\n")
            lines = ["" if line.strip() == "." else line[1:] for line in rest.split("\n")]
            return "\n".join(lines)
        return None

    def holder(self, package: Package) -> str:
        return package.name

    def named(self, holder: str) -> tuple[str, str | None, str | None]:
        return holder, None, None

    # -- choosing --------------------------------------------------------------------------

    def barred(self, *_: object) -> str | None:
        return None

    def choices(self, installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
        return choices(self._configured.pins, installed, offered)
