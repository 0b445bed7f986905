"""What is on record of packages that are only offered: what their indexes tell of them."""

from collections.abc import Callable, Mapping

from filigree.families.protocol import OfferRow
from filigree.families.shared.listing import PathListing
from filigree.model.files import Aspect, FileRecord, Kind
from filigree.model.needs import Capability, Need
from filigree.model.package import Package, Script
from filigree.questions.offers.opening import OpenIndexes
from filigree.questions.offers.paths import OfferedPaths


class OfferRecords:
    """The records of offers. `row_of` gives the row of one in its index."""

    aspects: frozenset[Aspect] = frozenset()

    def __init__(
        self, indexes: OpenIndexes, paths: OfferedPaths, row_of: Callable[[Package], OfferRow]
    ) -> None:
        self._indexes = indexes
        self._paths = paths
        self._row_of = row_of

    def needs(self, package: Package) -> tuple[Need, ...]:
        return self._indexes.sources.needs(self._row_of(package))

    def capabilities(self, package: Package) -> tuple[Capability, ...]:
        return self._indexes.sources.capabilities(self._row_of(package))

    def fields(self, package: Package) -> Mapping[str, str]:
        return self._indexes.sources.fields(self._row_of(package))

    def listing(self, package: Package) -> PathListing:
        return PathListing([listed.path for listed in self._paths.of(package)])

    def files(self, package: Package) -> list[FileRecord]:
        return [
            FileRecord(one.path, one.path, Kind.DIRECTORY if one.kind == "directory" else None)
            for one in self._paths.of(package)
        ]

    def configuration(self, *_: Package) -> list[FileRecord]:
        return []

    def scripts(self, *_: Package) -> tuple[Script, ...]:
        return ()
