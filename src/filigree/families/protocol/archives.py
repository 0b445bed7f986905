"""Archives: package files of a family, opened and read."""

from collections.abc import Callable, Sequence
from datetime import datetime
from typing import Protocol

from filigree.families.protocol.records import PackageRecords, Report
from filigree.formats.random_access import Bytes
from filigree.model.archives import ArchiveFacts, NameParts
from filigree.model.files import FileRecord
from filigree.model.keys import Key
from filigree.model.package import Package
from filigree.model.signatures import Check, Signatures


class Archive(PackageRecords, Protocol):
    """One archive, opened. Nothing of it is unpacked to the disk, and nothing of it is followed."""

    @property
    def package(self) -> Package:
        """The package that it holds."""
        ...

    @property
    def facts(self) -> ArchiveFacts:
        """What is to be said of it as a file."""
        ...

    def digest(self, algorithm: str) -> str:
        """The digest of the archive as a file, `algorithm:hex`; or of a part of it, by an algorithm of
        the family's own that an index promises by."""
        ...

    def expected(self) -> list[FileRecord]:
        """What its files are to be, as cheaply as can be told: by the header where that tells."""
        ...

    def signature(
        self, keys: Sequence[Key], now: datetime, beside: bytes | None = None
    ) -> Signatures:
        """What its signatures say, judged with these keys; `beside` is one that lies beside it.

        Bad where a digest that it carries itself does not hold, whatever the signatures say.
        """
        ...

    def checks(self) -> Sequence[Check]:
        """The digests and sizes that it carries of itself as a whole, held against what is there."""
        ...


class ArchiveFamily(Protocol):
    """How a family's archives are read. A family without archives leaves it out."""

    def recognises(self, head: bytes) -> bool:
        """Whether a file that begins so is such an archive; `head` has at least 64 bytes of it."""
        ...

    @property
    def recognises_whole(self) -> Callable[[Bytes], bool] | None:
        """Tells whether what no family knew by its start is one, by what stands anywhere in it.

        None where its archives show at once what they are.
        """
        ...

    def parts_of_name(self, name: str) -> NameParts | None:
        """A file name taken apart; None where no such archive is called so."""
        ...

    def name_of(self, package: Package) -> str:
        """What the archive of a package is called."""
        ...

    def open(self, source: Bytes, path: str, report: Report) -> Archive:
        """An archive. Raises DatabaseError where not even its description can be read."""
        ...
