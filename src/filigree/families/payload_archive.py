"""What archives do alike that say what their files are by the payload alone."""

from functools import cached_property

from filigree.families.listing import PathListing
from filigree.families.protocol import Report
from filigree.families.seals import digest_of_part
from filigree.formats.random_access import Bytes
from filigree.model.files import FileRecord
from filigree.model.package import Package
from filigree.model.seals import Check


class PayloadArchive:
    """One archive. A family's own tells its `_paths` (without digests) and its `_files` (with them)."""

    @cached_property
    def _paths(self) -> list[FileRecord]:
        raise NotImplementedError

    @cached_property
    def _files(self) -> list[FileRecord]:
        raise NotImplementedError

    def __init__(self, source: Bytes, path: str, report: Report) -> None:
        self._source = source
        self._path = path
        self._report = report

    def digest(self, algorithm: str) -> str:
        return digest_of_part(self._source, 0, algorithm)

    def checks(self) -> list[Check]:
        """What is in it is compared file by file; of the whole it says nothing itself."""
        return []

    def listing(self, package: Package) -> PathListing:  # noqa: ARG002
        return PathListing([record.path for record in self._paths])

    def files(self, package: Package) -> list[FileRecord]:  # noqa: ARG002
        return self._files

    def configuration(self, package: Package) -> list[FileRecord]:  # noqa: ARG002
        return [record for record in self._paths if record.config]
