"""What a family answers whose records know no such thing, unless it has an answer of its own."""

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import datetime

from filigree.formats.keys import Key
from filigree.model.events import Event
from filigree.model.files import ManagedLink, Relocation
from filigree.model.package import Package
from filigree.model.signatures import Signatures


class DatabaseDefaults:
    """A database without diversions, links of the system's own, signatures of records, and a history."""

    def prepare(self, packages: Sequence[Package]) -> None:
        """The records are all that there is."""

    def report_unclaimed(self) -> None:
        """There is nothing unclaimed."""

    def made_paths(self, package: Package) -> Collection[str]:  # noqa: ARG002
        return ()

    def relocations(self) -> Sequence[Relocation]:
        return ()

    def managed_links(self) -> Mapping[str, ManagedLink]:
        return {}

    def record_signature(
        self,
        package: Package,  # noqa: ARG002
        keys: Sequence[Key],  # noqa: ARG002
        now: datetime,  # noqa: ARG002
    ) -> Signatures | None:
        return None

    def events(self, names: Collection[str] | None = None) -> Iterator[Event]:  # noqa: ARG002
        return iter(())

    def stays(self, package: Package) -> bool:  # noqa: ARG002
        return False

    def close(self) -> None:
        """Nothing is held open."""
