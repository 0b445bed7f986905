"""What the repositories of a system offer, out of the copies of their indexes that may be believed."""

import fnmatch
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime
from enum import StrEnum
from functools import partial
from typing import Protocol

from filigree.access.store import Store, Table
from filigree.model.answer import Gap, moment_of
from filigree.model.package import Package, State
from filigree.model.repositories import Offer, Repository
from filigree.system import System


class Scope(StrEnum):
    """Where packages are looked for."""

    INSTALLED = "installed"
    AVAILABLE = "available"
    ANY = "any"


class Available:
    """The usable indexes of one system, or of those repositories that fit one of `repositories`.

    An enabled index that was never fetched, or that may not be believed, is a gap. `cache` is the folder
    where parsed indexes are kept; without one they are parsed every time.
    """

    def __init__(
        self,
        system: System,
        repositories: Iterable[str] = (),
        cache: str | None = None,
        now: datetime | None = None,
    ) -> None:
        self._system = system
        self._tables: list[tuple[Repository, Table]] = []
        self.unknown: list[str] = []
        store = Store(cache, system.report)
        every = system.database.repositories(now or datetime.now(UTC), None)
        for repository in self._chosen(every, list(repositories)):
            copy = repository.copy
            if not repository.enabled:
                continue
            if copy is None or not copy.usable:
                why = "; ".join((*repository.remarks, *(copy.remarks if copy else ())))
                system.report(
                    Gap(f"what {repository.identity} offers", why or "no copy to believe")
                )
                continue
            key = copy.list_digest or ""
            table = store.table(key, partial(system.database.offers, repository))
            self._tables.append((repository, table))

    def _chosen(self, every: Iterable[Repository], wanted: list[str]) -> list[Repository]:
        found = list(every)
        if not wanted:
            return found
        chosen = [one for one in found if any(is_called(one, name) for name in wanted)]
        self.unknown = [name for name in wanted if not any(is_called(one, name) for one in found)]
        return chosen

    @property
    def empty(self) -> bool:
        """Whether there is no index that may be believed."""
        return not self._tables

    def names(self) -> frozenset[str]:
        """Every name that is offered."""
        return frozenset(name for _, table in self._tables for _, name in table.names())

    def packages(self, chooses: Callable[[str], bool] | None = None) -> Iterator[Package]:
        """The packages whose name is chosen, or all; what several indexes offer comes several times."""
        family = self._system.family.name
        for repository, table in self._tables:
            numbers = None
            if chooses is not None:
                numbers = [number for number, name in table.names() if chooses(name)]
            for offer in table.offers(numbers):
                yield _package(offer, family, repository.identity)

    def close(self) -> None:
        """Let go of the tables."""
        for _, table in self._tables:
            table.close()


class Called(Protocol):
    """What has the names of a repository."""

    @property
    def identity(self) -> str: ...

    @property
    def name(self) -> str: ...

    @property
    def suite(self) -> str | None: ...


def is_called(repository: Called, name: str) -> bool:
    """Whether a name, or a glob, is of a repository: of its identity, its name or its suite."""
    texts = (repository.identity, repository.name, repository.suite or "")
    return any(text == name or fnmatch.fnmatchcase(text, name) for text in texts)


def _package(offer: Offer, family: str, repository: str) -> Package:
    return Package(
        name=offer.name,
        version=offer.version,
        architecture=offer.architecture,
        family=family,
        state=State.AVAILABLE,
        section=offer.section,
        source=offer.source,
        summary=offer.summary,
        homepage=offer.homepage,
        license=offer.license,
        maintainer=offer.maintainer,
        vendor=offer.vendor,
        installed_size=offer.installed_size,
        archive_size=offer.archive_size,
        built_at=moment_of(offer.built),
        repository=repository,
    )
