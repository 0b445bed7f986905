"""What is asked of a root, so that all is kept that any question reads: the questions themselves ask.

A family from elsewhere is covered as our own are: what its code reads below the root is noted, whatever
it is.
"""

from collections.abc import Callable, Mapping
from contextlib import suppress
from datetime import UTC, datetime
from typing import NamedTuple

from filigree.access.trees.noting import NotingTree
from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Judging
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, FiligreeError
from filigree.model.files import FileRecord
from filigree.model.package import Package
from filigree.questions.commands.behind import behind
from filigree.questions.commands.contents import contents
from filigree.questions.commands.dossier import dossier
from filigree.questions.commands.keys import keys
from filigree.questions.commands.repos import repos
from filigree.questions.commands.strays import strays
from filigree.questions.commands.survey import survey
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


def _first(system: System) -> list[str]:
    """One package: what is on record of each of them is read apart."""
    return [package.name for package in system.packages if package.state.present][:1]


READERS: Mapping[str, Callable[[System, RepositoryOptions], object]] = {
    "survey": lambda system, _: survey(system),
    "dossier": lambda system, options: dossier(system, _first(system), True, options=options),
    "contents": lambda system, _: contents(system, _first(system)),
    "keys": lambda system, options: keys(system, options=options),
    "repos": lambda system, options: repos(system, options=options),
    "behind": lambda system, options: behind(system, options=options),
    "strays": lambda system, _: strays(system),
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


def wanted_of(tree: Tree, names: tuple[str, ...], settings: bool) -> OnRecord:
    """The paths on record of some packages, by which algorithms their records tell contents; all that is
    on record of them is read."""
    noting = NotingTree(tree)
    system = System(noting)
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
    return OnRecord(digests, edited, list(noting.contents), system.gaps[known:])


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
