"""By which names repositories are asked for."""

import fnmatch
from typing import Protocol


class NamedRepository(Protocol):
    """What has the names of a repository."""

    @property
    def identity(self) -> str:
        """What nothing else of the system is called."""
        ...

    @property
    def name(self) -> str:
        """What it is called for people."""
        ...

    @property
    def suite(self) -> str | None:
        """The part of an archive of packages that it is of."""
        ...


def is_called(repository: NamedRepository, name: str) -> bool:
    """Whether a name, or a glob, is of a repository: of its identity, its name or its suite."""
    texts = (repository.identity, repository.name, repository.suite or "")
    return any(text == name or fnmatch.fnmatchcase(text, name) for text in texts)


def unknown_repositories(names: list[str]) -> list[str]:
    """What is to be said of names that no repository has."""
    return [f"no repository is called {name}" for name in names]
