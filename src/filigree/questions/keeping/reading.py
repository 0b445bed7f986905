"""What is asked of a root, so that all is kept that any question reads: the questions themselves ask.

A family from elsewhere is covered as our own are: what its code reads below the root is noted, whatever
it is.
"""

import gc
import os
from collections.abc import Callable, Mapping
from contextlib import suppress
from datetime import UTC, datetime
from typing import NamedTuple

from filigree.access.trees.noting import NotingTree
from filigree.access.trees.protocol import Entry, Tree
from filigree.families.protocol import Judging
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, FiligreeError
from filigree.model.files import FileRecord, Kind
from filigree.model.package import Package
from filigree.questions.commands.behind import behind
from filigree.questions.commands.contents import contents
from filigree.questions.commands.dossier import dossier
from filigree.questions.commands.keys import keys
from filigree.questions.commands.repos import repos
from filigree.questions.commands.survey import survey
from filigree.questions.finding.causes import Causes
from filigree.questions.offers.catalogue import open_catalogue
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System


def _archives(system: System, _: RepositoryOptions) -> None:
    """Every archive that the system keeps, and what lies beside it: any may be held against a file."""
    for path in system.cached_archives():
        system.tree.lend(path).close()
        system.beside(path, below=True)


def _indexes(system: System, _: RepositoryOptions) -> None:
    """Every index of every repository, whichever question asks it."""
    sources = system.sources(Judging(datetime.now(UTC)))
    if sources is None:
        return
    for repository in sources.repositories():
        for file in repository.copy.files if repository.copy is not None else ():
            sources.digest_of(file)
            with suppress(AccessError):
                system.tree.lend(file.path).close()


def _offers(system: System, options: RepositoryOptions) -> None:
    """What is told of an offer, of one of each repository."""
    with open_catalogue(system, options) as offered:
        for _, table in offered.indexes.tables:
            for _, name in table.names()[:1]:
                for package in offered.called([name]):
                    offered.place(package)


_ODD = (
    Entry("/usr/bin/of-nobody", Kind.FILE, 1, 0o755, 0, 0, 0),
    Entry("/usr/bin/of-nobody", Kind.LINK, 1, 0o777, 0, 0, 0, "nowhere"),
    Entry("/etc/passwd-", Kind.FILE, 1, 0o644, 0, 0, 0),
)
"""Paths that no cause accounts for: all causes are asked for them."""


def _causes(system: System, _: RepositoryOptions) -> None:
    """All that can tell why a file of nobody's is there."""
    causes = Causes(system, ())
    for one in _ODD:
        causes.of(one)


def _first(system: System) -> list[str]:
    """One package: what is on record of each of them is read apart."""
    return [package.name for package in system.packages if package.state.present][:1]


def _people(system: System, _: RepositoryOptions) -> None:
    """The root's own lists of users and groups."""
    assert system.users is not system.groups


READERS: Mapping[str, Callable[[System, RepositoryOptions], object]] = {
    "survey": lambda system, _: survey(system),
    "dossier": lambda system, options: dossier(system, _first(system), True, options=options),
    "contents": lambda system, _: contents(system, _first(system)),
    "keys": lambda system, options: keys(system, options=options),
    "repos": lambda system, options: repos(system, options=options),
    "behind": lambda system, options: behind(system, options=options),
    "causes": _causes,
    "people": _people,
    "indexes": _indexes,
    "offers": _offers,
}
"""Questions that between them read all that any question reads, but for archives."""
ARCHIVES = "archives"
"""What reads the archives that the system keeps."""


class WhatWasRead(NamedTuple):
    """What a question read: real paths of files, and of paths that are not walked those that it asked
    for. `failure` is why it did not come to its end."""

    contents: tuple[str, ...]
    looked: tuple[str, ...]
    failure: str | None


def ask(
    tree: Tree, name: str, unwalked: tuple[str, ...], options: RepositoryOptions
) -> WhatWasRead:
    """Ask one question of READERS, and note what it asks of the tree."""
    noting = NotingTree(tree)
    failure = None
    reader = _archives if name == ARCHIVES else READERS[name]
    try:
        reader(System(noting), options)
    except (FiligreeError, ValueError) as error:
        failure = str(error)
    gc.collect()  # workers do without: what a question leaves would stay for the next one
    fronts = tuple(f"{path}/" for path in unwalked)
    looked = tuple(path for path in noting.looked if path in unwalked or path.startswith(fronts))
    return WhatWasRead(tuple(noting.contents), looked, failure)


class OnRecord(NamedTuple):
    """What is to be digested of the files of some packages: real paths, each with an algorithm; which of
    their settings are edited; and what was read for their records."""

    digests: list[tuple[str, str]]
    edited: list[str]
    contents: list[str]
    gaps: list[Gap]


class RecordReader:
    """Reads what is on record of packages, from a system that is opened once in each process."""

    def __init__(self, tree: Tree, settings: bool) -> None:
        self._tree = tree
        self._settings = settings
        self._opened: tuple[int, NotingTree, System] | None = None

    def __call__(self, names: tuple[str, ...]) -> OnRecord:
        """The paths on record of some packages, by which algorithms their records tell contents; all that
        is on record of them is read."""
        if self._opened is None or self._opened[0] != os.getpid():
            noting = NotingTree(self._tree)
            self._opened = (os.getpid(), noting, System(noting))
        _, noting, system = self._opened
        found = _on_record(system, self._tree, names, self._settings)
        read = [*noting.contents]
        noting.contents.clear()
        noting.looked.clear()
        return found._replace(contents=read)


def _on_record(system: System, tree: Tree, names: tuple[str, ...], settings: bool) -> OnRecord:
    known = len(system.gaps)
    digests: list[tuple[str, str]] = []
    edited: list[str] = []
    chosen = set(names)
    for package in system.packages:
        if package.name not in chosen:
            continue
        _read(system, package)
        for record in system.database.files(package):
            for one in (record, record.plain):
                if one is not None:
                    digests += _digests(system, one)
            if settings and record.config and record.digest is not None:
                size = tree.holds(record.location, record.digest, 1 << 26)
                if size < 0 and (real := _real(system, record)) is not None:
                    edited.append(real)
    return OnRecord(digests, edited, [], system.gaps[known:])


def _read(system: System, package: Package) -> None:
    """All that is on record of a package, whoever asks for it."""
    database = system.database
    for _ in database.listing(package):
        break
    database.configuration(package)
    database.scripts(package)
    database.fields(package)
    database.needs(package)
    database.capabilities(package)
    for _ in database.script_texts(package):
        pass
    if database.signatures is not None:
        database.signatures.judged(package, [], datetime.now(UTC))


def _digests(system: System, record: FileRecord) -> list[tuple[str, str]]:
    real = _real(system, record)
    if real is None:
        return []
    told = [one.partition(":")[0] for one in (record.digest, *record.also) if one is not None]
    return [(real, one) for one in dict.fromkeys(told or ["sha256"])]


def _real(system: System, record: FileRecord) -> str | None:
    try:
        return system.tree.real_path(record.location, follow=False)
    except AccessError:
        return None
