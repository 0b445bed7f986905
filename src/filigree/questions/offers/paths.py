"""The paths that offered packages would bring, by the indexes of paths of their repositories."""

from collections.abc import Callable, Iterable
from functools import cached_property

from filigree.access.path_table import PathTable
from filigree.model.answer import Gap
from filigree.model.package import Package
from filigree.model.repositories import IndexKind, ListedPath, Repository
from filigree.questions.offers.opening import OpenIndexes


class OfferedPaths:
    """Asks the indexes of paths; `called` gives the offers of names, `known_as` what provides them."""

    def __init__(
        self,
        indexes: OpenIndexes,
        called: Callable[[Iterable[str]], list[Package]],
        known_as: Callable[[str, Iterable[str]], list[tuple[str, Package]]],
    ) -> None:
        self._indexes = indexes
        self._called = called
        self._known_as = known_as

    @cached_property
    def _tables(self) -> list[tuple[Repository, PathTable]]:
        return self._indexes.others(IndexKind.PATHS, PathTable)

    def report_missing(self) -> None:
        """Say of which repositories no index of paths is there."""
        silent = self._indexes.system.family.silent_on.get("paths_offered")
        if silent is not None:
            self._indexes.system.report(Gap("the paths of what is offered", silent))
            return
        told = {repository.identity for repository, _ in self._tables}
        for repository, _ in self._indexes.tables:
            if repository.identity not in told:
                what = f"the paths that {repository.identity} offers"
                self._indexes.system.report(Gap(what, "its index of paths was never fetched"))

    def at(self, path: str) -> list[tuple[ListedPath, Package]]:
        """The packages that would bring a path, by indexes of paths or by what they tell themselves."""
        rows = self._holders(lambda table: table.at(path))
        told = {(listed.path, package) for listed, package in rows}
        rows += (
            (ListedPath(path, "", None), package)
            for path, package in self._known_as("path", [path])
            if (path, package) not in told
        )
        return rows

    def named(self, name: str) -> list[tuple[ListedPath, Package]]:
        """The packages that would bring a path whose last part is a name."""
        return self._holders(lambda table: table.named(name))

    def glob(self, pattern: str) -> list[tuple[ListedPath, Package]]:
        """The packages that would bring a path that a glob matches."""
        return self._holders(lambda table: table.glob(pattern))

    def _holders(
        self, ask: Callable[[PathTable], Iterable[ListedPath]]
    ) -> list[tuple[ListedPath, Package]]:
        """What the indexes of paths tell, with the packages that they name."""
        found: dict[tuple[str, str], ListedPath] = {}
        for _, table in self._tables:
            for listed in ask(table):
                found.setdefault((listed.path, listed.holder), listed)
        rows: list[tuple[ListedPath, Package]] = []
        parts = {holder: self._indexes.sources.named(holder) for _, holder in found}
        by_name: dict[str, list[Package]] = {}
        for package in self._called(name for name, _, _ in parts.values()):
            by_name.setdefault(package.name, []).append(package)
        for listed in found.values():
            name, version, architecture = parts[listed.holder]
            rows += (
                (listed, package)
                for package in by_name.get(name, ())
                if version in (None, package.version)
                and architecture in (None, package.architecture)
            )
        return rows

    def of(self, package: Package) -> list[ListedPath]:
        """The paths of a package, sorted."""
        holder = self._indexes.sources.holder(package)
        found: dict[str, ListedPath] = {}
        for _, table in self._tables:
            for listed in table.held_by(holder):
                found.setdefault(listed.path, listed)
        return sorted(found.values())
