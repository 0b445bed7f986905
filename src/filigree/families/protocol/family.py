"""A family: one way in which systems keep packages."""

from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any, Protocol

from filigree.access.trees.protocol import Tree
from filigree.families.protocol.archives import ArchiveFamily
from filigree.families.protocol.database import Database
from filigree.families.protocol.records import Report
from filigree.families.protocol.repositories import Judging, Sources
from filigree.model.package import VersionParts


class Family(Protocol):
    """One way in which systems keep packages."""

    @property
    def name(self) -> str:
        """What the family is called, in one word."""
        ...

    @property
    def url_types(self) -> Sequence[str]:
        """The types by which package URLs name its packages."""
        ...

    @property
    def epoch_apart(self) -> bool:
        """Whether package URLs tell the epoch of a version apart from it."""
        ...

    @property
    def digests(self) -> Sequence[str]:
        """By which algorithms its records usually tell the contents of files: of an image these digests
        are made in the one pass over it, others when they are asked for."""
        ...

    @property
    def places(self) -> Sequence[str]:
        """Below which paths its systems keep records, settings, keys and lists: what a question reads.

        A tree that is slow to read keeps what is there. What is elsewhere is read all the same.
        """
        ...

    @property
    def silent_on(self) -> Mapping[str, str]:
        """What the family's database does not record, each with a sentence for people."""
        ...

    @property
    def rests_on(self) -> Mapping[str, str]:
        """What each thing that it knows rests on, by notion: the rest of the notions it is silent on."""
        ...

    @property
    def archives(self) -> ArchiveFamily | None:
        """How its archives are read."""
        ...

    def looked_for(self) -> Iterable[str]:
        """The paths that tell such a system."""
        ...

    def recognises(self, tree: Tree) -> bool:
        """Whether the root is such a system."""
        ...

    def open(self, tree: Tree, report: Report) -> Database:
        """The root's database. Raises DatabaseError where it cannot be read as a whole."""
        ...

    def sources(self, database: Any, judging: Judging) -> Sources | None:
        """What the system of a database of this family could install; None without repositories."""
        ...

    def split_version(self, version: str) -> VersionParts:
        """The parts of a full version."""
        ...

    def order(self, one: str, other: str) -> int | None:
        """Negative, 0 or positive as `one` is older than, the same as or newer than `other`.

        None where that would be a guess. Whoever says which of two versions is newer asks this, or the
        order of `Sources`, which may know more.
        """
        ...

    def compare_versions(self, one: str, other: str) -> int:
        """An order to list versions by, and to tell whether two are the same. 0 is sure; what comes
        first may be a guess, and is never told as what is older."""
        ...

    @property
    def sort_key(self) -> Callable[[str], str] | None:
        """What makes of a version a text whose bytes sort as `compare_versions` has it, for tables of
        many systems; None where the family has no such thing."""
        ...
