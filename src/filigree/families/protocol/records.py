"""Records: what is told of packages, one by one, by a system's database, an archive or an index."""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Protocol

from filigree.model.answer import Gap
from filigree.model.files import Aspect, FileRecord
from filigree.model.needs import Capability, Need
from filigree.model.package import Package, Script

Report = Callable[[Gap], None]
"""Takes a gap as it is found."""


class Listing(Protocol):
    """The paths that a package has on record, absolute, in the record's order."""

    def __len__(self) -> int: ...

    def __contains__(self, path: object) -> bool: ...

    def __iter__(self) -> Iterator[str]: ...

    def matching(self, pattern: re.Pattern[bytes]) -> Iterable[str]:
        """The paths that a pattern (over UTF-8, for a whole path) matches."""
        ...

    def named(self, name: str) -> Iterable[str]:
        """The paths whose last part is `name`; the root's is empty."""
        ...


class PackageRecords(Protocol):
    """What is on record of one package: by an archive, by an index, by a system's database."""

    @property
    def aspects(self) -> frozenset[Aspect]:
        """The aspects of a file that these records tell."""
        ...

    def listing(self) -> Listing:
        """Its paths. What cannot be read is reported as a gap."""
        ...

    def files(self) -> list[FileRecord]:
        """What is on record of each path, in the record's order."""
        ...

    def configuration(self) -> list[FileRecord]:
        """The records of the files that an administrator may change."""
        ...

    def needs(self) -> tuple[Need, ...]:
        """Everything that it asks of others, of every kind."""
        ...

    def capabilities(self) -> tuple[Capability, ...]:
        """Every name that it answers to, its own first."""
        ...

    def scripts(self) -> tuple[Script, ...]:
        """The maintainers' scripts."""
        ...

    def fields(self) -> Mapping[str, str]:
        """Every field of the record, as the family names them."""
        ...


class Records(Protocol):
    """What a system's database has on record of its packages, one by one."""

    @property
    def aspects(self) -> frozenset[Aspect]:
        """The aspects of a file that these records tell."""
        ...

    def listing(self, package: Package) -> Listing:
        """The paths of one package. What cannot be read is reported as a gap."""
        ...

    def files(self, package: Package) -> list[FileRecord]:
        """What is on record of each path of a package, in the record's order."""
        ...

    def configuration(self, package: Package) -> list[FileRecord]:
        """The records of the files of a package that an administrator may change."""
        ...

    def needs(self, package: Package) -> tuple[Need, ...]:
        """Everything that a package asks of others, of every kind."""
        ...

    def capabilities(self, package: Package) -> tuple[Capability, ...]:
        """Every name that a package answers to, its own first."""
        ...

    def scripts(self, package: Package) -> tuple[Script, ...]:
        """The maintainers' scripts of a package."""
        ...

    def fields(self, package: Package) -> Mapping[str, str]:
        """Every field of a package's record, as the family names them."""
        ...


class RecordsOf:
    """The records that a database has of one package."""

    def __init__(self, records: Records, package: Package) -> None:
        self._records = records
        self._package = package

    @property
    def aspects(self) -> frozenset[Aspect]:
        return self._records.aspects

    def listing(self) -> Listing:
        return self._records.listing(self._package)

    def files(self) -> list[FileRecord]:
        return self._records.files(self._package)

    def configuration(self) -> list[FileRecord]:
        return self._records.configuration(self._package)

    def needs(self) -> tuple[Need, ...]:
        return self._records.needs(self._package)

    def capabilities(self) -> tuple[Capability, ...]:
        return self._records.capabilities(self._package)

    def scripts(self) -> tuple[Script, ...]:
        return self._records.scripts(self._package)

    def fields(self) -> Mapping[str, str]:
        return self._records.fields(self._package)
