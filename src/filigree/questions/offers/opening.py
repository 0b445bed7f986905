"""Opens the indexes of a system's repositories as tables: the copies that may be believed, and no others.

- An enabled index that was never fetched, or that may not be believed, is a gap.
- What was parsed of an index is kept under its digest, and parsed anew where nothing may be kept.
- An index that several repositories share is opened once.
"""

import os
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import UTC, datetime
from functools import cached_property
from typing import Any, TypeVar

from filigree.access.store import Store
from filigree.access.tables import BlobTable, OfferTable, Table, keyed
from filigree.families.protocol import Judging, Kept, Report, Sources
from filigree.model.answer import Gap
from filigree.model.keys import Key
from filigree.model.limits import why_too_long
from filigree.model.repositories import IndexFile, IndexKind, Offer, Repository
from filigree.questions.offers.fetched_copies import copies_of
from filigree.questions.offers.keeping import remembered, usable_cache
from filigree.questions.offers.naming import is_called
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions, Working
from filigree.system import System

K = TypeVar("K", bound=Table[Any])
T = TypeVar("T")
PACE = 1000
"""After so many items it is told how far it has come."""


class OpenIndexes:
    """The usable indexes of one system, of all its repositories or of some, opened.

    `tables` are the indexes of packages, each with its repository; `unknown` are names that were asked
    for and that no repository has. `keys_of` is `root` or `auditor`.
    """

    def __init__(self, system: System, options: RepositoryOptions = EVERYTHING) -> None:
        self.system = system
        self.tables: list[tuple[Repository, OfferTable]] = []
        self.unknown: list[str] = []
        self.now = options.now or datetime.now(UTC)
        self.keys_of = "auditor" if options.keyring else "root"
        self._store = Store(usable_cache(system, options.cache), system.report, system.say)
        self._opened: list[Table[Any]] = []
        self._quiet = options.quiet
        self._working = options.working
        keys: list[Key] | None = system.own_keys(options.keyring) if options.keyring else None
        judging = Judging(self.now, keys, copies_of(system, options), remembered(self._store))
        self._sources = system.sources(judging)
        if self._sources is None:
            system.report(Gap("what could be installed", "no repositories of this family are read"))
            return
        for repository in self._wanted(self._sources.repositories(), options.repositories):
            if repository.enabled:
                self._open(repository)

    @property
    def sources(self) -> Sources:
        """What reads the indexes. Only to be asked where there is any repository."""
        assert self._sources is not None, "there are no packages of any repository"
        return self._sources

    @property
    def readable(self) -> bool:
        """Whether the family has repositories at all."""
        return self._sources is not None

    @property
    def empty(self) -> bool:
        """Whether there is no index that may be believed."""
        return not self.tables

    def _wanted(self, every: Iterable[Repository], names: Sequence[str]) -> list[Repository]:
        found = list(every)
        if not names:
            return found
        self.unknown = [name for name in names if not any(is_called(one, name) for one in found)]
        return [one for one in found if any(is_called(one, name) for name in names)]

    def _open(self, repository: Repository) -> None:
        copy = repository.copy
        if copy is None or copy.listed is None or not copy.usable:
            why = "; ".join((*repository.remarks, *(copy.remarks if copy else ())))
            gap = Gap(f"what {repository.identity} offers", why or "no copy to believe")
            if not self._quiet:
                self.system.report(gap)
            return
        table = self._table(OfferTable, copy.listed, self._sound_offers)
        self.tables.append((repository, table))

    def _sound_offers(self, file: IndexFile, report: Report) -> Iterator[Offer]:
        """What an index offers, without names and versions that are none."""
        for offer in self.sources.readers[IndexKind.PACKAGES](file, report):
            why = why_too_long(offer.name, offer.version, offer.architecture)
            if why is None:
                yield offer
            else:
                report(Gap(f"{file.path}, {offer.name[:80]}", why))

    def _table(self, kind: type[K], file: IndexFile, read: Callable[..., Iterable[Any]]) -> K:
        def items(report: Report) -> Iterator[Any]:
            return self.watched(f"parsing {os.path.basename(file.path)}", read(file, report))

        table = self._store.table(kind, file.digest or "", file.path, items)
        self._opened.append(table)
        return table

    def watched(self, what: str, items: Iterable[T], total: int = 0) -> Iterator[T]:
        """The items, and now and then word of how many they are."""
        if self._working is None:
            yield from items
            return
        done = 0
        for done, item in enumerate(items, 1):
            yield item
            if done % PACE == 0:
                self._working(Working(what, done, total))
        self._working(Working(what, done, done))

    def others(
        self,
        kind: IndexKind,
        layout: type[K],
        rows: Callable[[Iterator[Any]], Iterator[Any]] = iter,
    ) -> list[tuple[Repository, K]]:
        """The tables of other indexes of one kind, each with a repository that has it.

        `rows` makes of what the family's reader yields what the table takes. None where the family has no
        reader of that kind.
        """
        reader = self._sources.readers.get(kind) if self._sources is not None else None
        if reader is None:
            return []

        def read(file: IndexFile, report: Report) -> Iterator[Any]:
            return rows(reader(file, report))

        found: dict[str, tuple[Repository, K]] = {}
        for repository, _ in self.tables:
            for file in repository.copy.files if repository.copy else ():
                if file.kind is kind and file.path not in found:
                    digest = self.sources.digest_of(file)
                    if digest is not None:
                        whole = file._replace(digest=digest)
                        table = self._table(layout, whole, read)
                        found[file.path] = repository, table
        return list(found.values())

    @cached_property
    def kept(self) -> Kept:
        """What is kept of indexes whose text is the family's own business, by kind and key."""
        opened: dict[IndexKind, list[Any]] = {}

        def told(kind: IndexKind, key: str) -> Sequence[str]:
            if kind not in opened:
                opened[kind] = [table for _, table in self.others(kind, keyed(kind.value))]
            return [text for table in opened[kind] for _, text in table.of([key])]

        return told

    def blobs(
        self,
        key: str,
        what: str,
        make: Callable[[Report], Iterable[tuple[str, bytes]]],
        is_whole: Callable[[dict[str, bytes]], bool],
    ) -> dict[str, bytes]:
        """Named bytes that are kept under a key; empty where making them broke off.

        What `make` reports is kept with them, and told every time. What is kept and is not whole is made
        anew.
        """
        blobs: dict[str, bytes] = {}
        for _ in range(2):
            table = self._store.table(BlobTable, key, what, make)
            self._opened.append(table)
            blobs = table.whole()
            if not blobs or is_whole(blobs):
                break
            self._store.forget(BlobTable, key)
        return blobs

    def forget(self, at: int) -> None:
        """Not to believe what is kept of the index of that number."""
        repository, _ = self.tables[at]
        listed = repository.copy.listed if repository.copy else None
        if listed is not None:
            self._store.forget(OfferTable, listed.digest or "")

    def close(self) -> None:
        """Let go of the tables. What was returned can be asked nothing more."""
        for table in self._opened:
            table.close()
