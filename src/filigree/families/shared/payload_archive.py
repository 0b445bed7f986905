"""What archives do alike that say what their files are by the payload alone."""

from collections.abc import Sequence
from datetime import datetime
from functools import cached_property

from filigree.families.protocol import Report
from filigree.families.shared.listing import PathListing
from filigree.families.shared.signatures import beside_signature, digest_of_part, weighed
from filigree.formats.random_access import Bytes
from filigree.formats.unpacking import Unpacked
from filigree.model.files import FileRecord
from filigree.model.keys import Key
from filigree.model.signatures import Check, Signatures


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

    def listing(self) -> PathListing:
        return PathListing([record.path for record in self._paths])

    def files(self) -> list[FileRecord]:
        return self._files

    def configuration(self) -> list[FileRecord]:
        return [record for record in self._paths if record.config]


class OnePayload(PayloadArchive):
    """An archive that is one payload as a whole, and bears no signature within."""

    def _unpacked(self) -> Unpacked:
        return Unpacked(self._source, 0, self._source.size)

    def signature(
        self, keys: Sequence[Key], now: datetime, beside: bytes | None = None
    ) -> Signatures:
        """By what lies beside it."""
        signatures = [] if beside is None else [beside_signature(self._source, beside, keys, now)]
        return weighed(signatures, ())

    def expected(self) -> list[FileRecord]:
        return self._files
