"""What an `apk` system could install."""

import struct
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property

from filigree.families.apk import described, offers
from filigree.families.apk.database import ApkDatabase, needs_told
from filigree.families.apk.rules import term_is_met
from filigree.families.protocol import Judging, Kept, OfferRow, Reader, Report
from filigree.families.shared.choosing import Numbers, choices_by_number
from filigree.families.shared.indexes import IndexReader, packed_digest
from filigree.formats.apk.binary import BinaryError
from filigree.formats.apk.versions import compare_versions, order
from filigree.formats.members import PayloadError
from filigree.model.answer import Gap
from filigree.model.choices import Choice, Offering
from filigree.model.errors import AccessError, Obstacle
from filigree.model.needs import Capability, Need
from filigree.model.package import Package
from filigree.model.repositories import IndexFile, IndexKind, Offer, Place, Repository

_LAST = 1 << 20


class ApkSources(IndexReader):
    """Reads the configuration and the copies of indexes once, for one question."""

    any_machine = described.ANY
    compare = staticmethod(compare_versions)

    def __init__(self, database: ApkDatabase, judging: Judging) -> None:
        super().__init__(database.tree, database.report, database.repositories(judging), judging)
        self._world = database.world or []

    # -- what indexes tell -----------------------------------------------------------------

    @cached_property
    def readers(self) -> Mapping[IndexKind, Reader]:
        return {IndexKind.PACKAGES: self._offers}

    def _offers(self, file: IndexFile, report: Report) -> Iterator[Offer]:
        """Every package of an index, which must still be what it was."""
        tree = self._tree_of(file)
        if packed_digest(tree, file.path, "sha256") != file.digest:
            raise AccessError(Obstacle.CHANGED, file.path)
        source = tree.lend(file.path)
        try:
            yield from offers.read_offers(offers.open_index(source), file.path, report)
        except (PayloadError, BinaryError, struct.error) as error:
            report(Gap(file.path, f"{error}; what follows was not read"))
        finally:
            source.close()

    # -- packages --------------------------------------------------------------------------

    def package(self, record: str, repository: str, *_: bool) -> Package | None:
        return offers.package_offered(record, repository)

    def needs(self, row: OfferRow) -> tuple[Need, ...]:
        return needs_told(row.package, self._report)

    def capabilities(self, row: OfferRow) -> tuple[Capability, ...]:
        return described.capabilities_of(offers.fields_in(row.record), row.package)

    def fields(self, row: OfferRow) -> Mapping[str, str]:
        return row.package.fields

    def place(self, row: OfferRow, repository: Repository) -> Place:
        base = repository.addresses[0] if repository.addresses else None
        return offers.place_of(row.package, base)

    def holder(self, package: Package) -> str:
        return package.name

    def named(self, holder: str) -> tuple[str, str | None, str | None]:
        return holder, None, None

    # -- choosing --------------------------------------------------------------------------

    def barred(self, package: Package, repository: Repository, kept: Kept) -> str | None:
        """What must be absent, and what only a tag asks for that nobody asks by."""
        del kept
        own = Capability(package.name, package.version)
        for one in self._world:
            if one.away and term_is_met(one.term, own):
                return "it must be absent, by what was asked for of this system"
        tag = repository.facts.get("tag")
        if tag is None:
            return None
        asked = any(
            one.tag == tag and one.term.name == package.name for one in self._world if not one.away
        )
        return None if asked else f"its repository is asked by the tag {tag} alone, and nobody does"

    def order(self, here: Package, other: Package) -> int | None:
        return order(here.version, other.version)

    def choices(self, installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
        return choices_by_number(installed, offered, Numbers(compare_versions, _LAST))
