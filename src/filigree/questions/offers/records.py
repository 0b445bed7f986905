"""What is on record of packages that are only offered: what their indexes tell of them."""

from collections.abc import Callable, Mapping

from filigree.families.protocol import OfferRow, Sources
from filigree.families.shared.listing import PathListing
from filigree.model.files import Aspect, FileRecord, Kind
from filigree.model.needs import Capability, Need
from filigree.model.package import Package, Script
from filigree.questions.offers.paths import OfferedPaths


class OfferRecords:
    """The records of one offer. `row_of` gives the row of it in its index, when that is asked for."""

    aspects: frozenset[Aspect] = frozenset()

    def __init__(
        self, sources: Sources, paths: OfferedPaths, row_of: Callable[[Package], OfferRow],
        package: Package,
    ) -> None:  # fmt: skip
        self._sources = sources
        self._paths = paths
        self._row_of = row_of
        self._package = package

    def needs(self) -> tuple[Need, ...]:
        return self._sources.needs(self._row_of(self._package))

    def capabilities(self) -> tuple[Capability, ...]:
        return self._sources.capabilities(self._row_of(self._package))

    def fields(self) -> Mapping[str, str]:
        return self._sources.fields(self._row_of(self._package))

    def listing(self) -> PathListing:
        return PathListing([listed.path for listed in self._paths.of(self._package)])

    def files(self) -> list[FileRecord]:
        return [
            FileRecord(one.path, one.path, Kind.DIRECTORY if one.kind == "directory" else None)
            for one in self._paths.of(self._package)
        ]

    def configuration(self) -> list[FileRecord]:
        return []

    def scripts(self) -> tuple[Script, ...]:
        return ()
