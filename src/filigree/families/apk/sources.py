"""What an `apk` system could install."""

import hashlib
import struct
from collections.abc import Iterator, Mapping, Sequence
from functools import cached_property

from filigree.families.apk import described, offers
from filigree.families.apk.database import ApkDatabase, needs_told
from filigree.families.apk.repositories import FIXES_LIMIT
from filigree.families.apk.rules import term_is_met
from filigree.families.protocol import Judging, Kept, OfferRow, Reader, Report
from filigree.families.shared.choosing import Numbers, choices_by_number
from filigree.families.shared.indexes import IndexReader
from filigree.formats.apk.binary import BinaryError
from filigree.formats.apk.fixes import read_fixes
from filigree.formats.apk.versions import compare_versions, order
from filigree.formats.members import PayloadError
from filigree.formats.random_access import MemoryBytes
from filigree.model.answer import Gap
from filigree.model.choices import Choice, Offering
from filigree.model.errors import AccessError, Obstacle
from filigree.model.needs import Capability, Need
from filigree.model.package import Package
from filigree.model.repositories import (
    Advisory,
    IndexFile,
    IndexKind,
    Offer,
    Place,
    Reference,
    Repository,
)

_LAST = 1 << 20


class ApkSources(IndexReader):
    """Reads the configuration and the copies of indexes once, for one question."""

    any_machine = described.ANY
    compare = staticmethod(compare_versions)

    def __init__(self, database: ApkDatabase, judging: Judging) -> None:
        super().__init__(database.tree, database.report, database.repositories(judging), judging)
        self._world = database.world or []
        self._packages = database.packages()

    # -- what indexes tell -----------------------------------------------------------------

    @cached_property
    def readers(self) -> Mapping[IndexKind, Reader]:
        return {IndexKind.PACKAGES: self._offers, IndexKind.ADVISORIES: self._fixes}

    def digest_of(self, file: IndexFile) -> str | None:
        """The digest of a copy; that of a database of fixes with all indexes that tell of its sources."""
        digest = super().digest_of(file)
        if file.kind is not IndexKind.ADVISORIES or digest is None:
            return digest
        told = [digest, *(one.digest or "" for one in self._lists())]
        told += sorted(f"{one.name} {one.source}" for one in self._packages)
        return f"sha256:{hashlib.sha256(chr(10).join(told).encode('utf-8', 'replace')).hexdigest()}"

    def _lists(self) -> list[IndexFile]:
        copies = [one.copy for one in self.repositories()]
        return [one.listed for one in copies if one is not None and one.usable and one.listed]

    def _fixes(self, file: IndexFile, report: Report) -> Iterator[Advisory]:
        """What a database tells of holes that were mended, of all packages that are made of a source."""
        told = read_fixes(self._tree_of(file).read(file.path, FIXES_LIMIT))
        if told.damaged:
            report(Gap(file.path, f"{told.damaged:,} entries make no sense"))
        # Whoever can write to it could have left a hole out.
        report(Gap(file.path, "nobody signed it: a hole could have been left out"))
        made: dict[str, dict[str, None]] = {}
        for one in self._packages:
            made.setdefault(one.source or one.name, {})[one.name] = None
        for listed in self._lists():
            for offer in self._offers(listed, lambda _: None):
                source = offers.fields_in(offer.record).get("o") or offer.name
                made.setdefault(source, {})[offer.name] = None
        for fix in told.fixes:
            names = made.get(fix.source, {fix.source: None})
            references = tuple(
                Reference("cve" if hole.startswith("CVE-") else "other", hole, None)
                for hole in fix.holes
            )
            yield Advisory(
                f"{fix.source} {fix.version}", "security", None, ", ".join(fix.holes) or None, None,
                references, tuple((name, fix.version, "") for name in names),
            )  # fmt: skip

    def _offers(self, file: IndexFile, report: Report) -> Iterator[Offer]:
        """Every package of an index, which must still be what it was."""
        data = self._tree_of(file).read(file.path, offers.INDEX_LIMIT)
        if f"sha256:{hashlib.sha256(data).hexdigest()}" != file.digest:
            raise AccessError(Obstacle.CHANGED, file.path)
        try:
            index = offers.open_index(MemoryBytes(data))
            yield from offers.read_offers(index, file.path, report)
        except (PayloadError, BinaryError, struct.error) as error:
            report(Gap(file.path, f"{error}; what follows was not read"))

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
