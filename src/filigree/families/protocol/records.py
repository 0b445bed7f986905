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


class Records(Protocol):
    """What is on record of packages, one by one: in a system's database, or in an archive."""

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
