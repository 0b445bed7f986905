"""The defaults of a database: what a family leaves out that has no such thing."""

from collections.abc import Callable, Collection, Sequence

from filigree.families.protocol import History, Policy, RecordSignatures
from filigree.model.package import Package


class DatabaseDefaults:
    """A database without policy, history and signatures, of which nothing stays open."""

    policy: Policy | None = None
    history: History | None = None
    hook_places: Sequence[str] = ()
    signatures: RecordSignatures | None = None
    made_paths: Callable[[Package], Collection[str]] | None = None
    takes_place: Callable[[Package, Package], bool] | None = None
    prepare: Callable[[Sequence[Package]], None] | None = None
    report_unclaimed: Callable[[], None] | None = None

    def close(self) -> None:
        """Nothing is held open."""
