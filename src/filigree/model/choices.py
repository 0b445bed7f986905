"""Which version a system would take: what there is, its priorities, the one that its rules choose."""

from dataclasses import dataclass
from typing import NamedTuple

from filigree.model.package import Package
from filigree.model.repositories import Repository


class Offering(NamedTuple):
    """A package that a repository offers; `barred` is why the system never takes it, if so."""

    package: Package
    repository: Repository
    barred: str | None = None


@dataclass(frozen=True, slots=True)
class Choice:
    """One version of a package that is there or could be.

    `priority` is by the family's own scale, and `why` where it comes from; `taken` is whether the
    system's rules choose it, and `verdict` why or why not.
    """

    version: str
    architecture: str
    installed: bool
    offers: tuple[Offering, ...]
    priority: int | None
    why: str
    taken: bool
    verdict: str
