"""Where packages are looked for: among what is installed, what repositories offer, or both."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING

from filigree.families.protocol import PackageRecords
from filigree.model.package import Package, State
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System

if TYPE_CHECKING:
    from filigree.questions.offers.catalogue import Catalogue


class Scope(StrEnum):
    """Where packages are looked for."""

    INSTALLED = "installed"
    AVAILABLE = "available"
    ANY = "any"


@dataclass(frozen=True, slots=True)
class Lookup:
    """A scope, opened. `offered` is None where only what is installed counts."""

    system: System
    scope: Scope = Scope.INSTALLED
    offered: "Catalogue | None" = None

    @property
    def notes(self) -> list[str]:
        """What is to be said of the repositories that were asked for."""
        return self.offered.notes if self.offered else []

    def records(self, package: Package) -> PackageRecords:
        """Where a package is on record: an index, its archive, or else the system's database.

        Raises LookupError where a package is only offered and no repositories were opened.
        """
        if package.state is State.AVAILABLE and self.offered is not None:
            return self.offered.records(package)
        return self.system.records(package)


@contextmanager
def looking(
    system: System, scope: Scope, options: RepositoryOptions = EVERYTHING
) -> Iterator[Lookup]:
    """Open the indexes that a scope takes, and let go of them afterwards."""
    if scope is Scope.INSTALLED:
        yield Lookup(system)
        return
    from filigree.questions.offers.catalogue import open_catalogue

    with open_catalogue(system, options) as offered:
        yield Lookup(system, scope, offered)
