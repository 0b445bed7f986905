"""The policy of a system, out of what its family knows of it."""

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property

from filigree.model.files import ManagedLink, Relocation


class DeclaredPolicy:
    """What was declared of paths; links, and diversions, are read when they are first asked for."""

    def __init__(
        self,
        links: Callable[[], Mapping[str, ManagedLink]],
        moved: Callable[[], Sequence[Relocation]] = tuple,
    ) -> None:
        self._links = links
        self._moved = moved

    @cached_property
    def relocations(self) -> Sequence[Relocation]:
        return self._moved()

    @cached_property
    def managed_links(self) -> Mapping[str, ManagedLink]:
        return self._links()
