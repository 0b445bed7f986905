"""Copies of indexes that were fetched into the auditor's own cache; the root is never written to.

They count beside the copies that the root has where they are asked for. Nothing of a copy is believed
here: each use verifies it again.
"""

import contextlib
import os
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from filigree.access.private_folder import copy_private, make_private
from filigree.access.trees.directory import DirectoryTree
from filigree.access.web import FetchError
from filigree.families.protocol import ADDED, FetchedCopies, Judging, Sources
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, BadQuestion
from filigree.model.repositories import Refreshed, Repository
from filigree.questions.offers.keeping import needed_cache, usable_cache
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System

if TYPE_CHECKING:
    from filigree.access.fetching import Fetcher

COPIES = "copies"


def copies_folder(system: System, cache: str) -> str:
    """Where the copies of indexes lie that were fetched for systems of this family."""
    return os.path.join(cache, COPIES, system.offering_family.name)


def copies_of(system: System, options: RepositoryOptions) -> FetchedCopies:
    """What the auditor adds to the system's configuration: copies, and addresses, fetched first.

    Raises BadQuestion where something is to be fetched and nothing is to be kept.
    """
    if not options.refreshed and not options.addresses:
        return FetchedCopies()
    if not all(address.strip() for address in options.addresses):
        raise BadQuestion(
            "the address of a repository is empty", None, "give an address or a folder"
        )
    addresses = tuple(options.addresses)
    if addresses or options.cache is None:
        needed_cache(options.cache)
    if options.addresses and not options.quiet:
        fetch_added(system, options)
    cache = usable_cache(system, options.cache, COPIES, whole=True)
    if cache is None:
        return FetchedCopies(None, addresses)
    folder = copies_folder(system, cache)
    make_private(folder)
    return FetchedCopies(DirectoryTree(folder), addresses)


class Fetching:
    """Fetches for one repository, and keeps what is to be kept. `sent` is how many bytes came."""

    def __init__(self, fetcher: "Fetcher", copies: str) -> None:
        self._fetcher = fetcher
        self._copies = copies
        self.sent = 0
        self.kept = False

    def get(
        self, address: str, limit: int, digest: str | None = None, size: int | None = None
    ) -> str:
        found = self._fetcher.fetch(address, limit, digest, size)
        self.sent += found.sent
        return found.path

    def forget(self, address: str) -> None:
        self._fetcher.forget(address)

    def drop(self, place: str) -> None:
        with contextlib.suppress(OSError):
            os.unlink(self._path(place))

    def keep(self, got: str, place: str) -> None:
        path = self._path(place)
        try:
            make_private(os.path.dirname(path))
            if os.path.exists(path) and os.path.samefile(got, path):
                return
            new = f"{path}.{os.getpid()}.new"
            try:
                os.link(got, new)
            except OSError:
                copy_private(got, new)
            os.replace(new, path)
        except OSError as error:
            raise FetchError(f"it could not be kept: {error.strerror}", place) from error
        self.kept = True

    def _path(self, place: str) -> str:
        """A place below the copies: whatever a repository calls its files, nothing else is written to."""
        parts = [part for part in place.split("/") if part not in ("", ".", "..")]
        return os.path.join(self._copies, *parts)


class CopyFetcher:
    """The auditor's copies of one system's indexes, open for fetching newer ones.

    `sources` is None where the family has no repositories.
    """

    def __init__(
        self, system: System, options: RepositoryOptions, folder: str, fetcher: "Fetcher"
    ) -> None:
        self._folder = folder
        self._fetcher = fetcher
        self._paths = options.paths
        keys = system.own_keys(options.keyring) if options.keyring else None
        now = options.now or datetime.now(UTC)
        own = FetchedCopies(DirectoryTree(folder), tuple(options.addresses))
        self.sources: Sources | None = system.sources(Judging(now, keys, own))

    def enabled(self, added_only: bool = False) -> list[Repository]:
        """The repositories that are fetched: all, or those that the auditor added."""
        every = self.sources.repositories() if self.sources is not None else ()
        return [
            one for one in every if one.enabled and (not added_only or one.configured_in == ADDED)
        ]

    def fetch(self, repository: Repository) -> tuple[Fetching, Refreshed | FetchError]:
        """Fetch the indexes of a repository; what came of it, or why nothing did."""
        assert self.sources is not None
        fetching = Fetching(self._fetcher, self._folder)
        try:
            return fetching, self.sources.refresh(repository, fetching, self._paths)
        except FetchError as error:
            return fetching, error
        except AccessError as error:  # what came could not be judged, and so it is not kept
            return fetching, FetchError(error.what, repository.identity)


@contextlib.contextmanager
def open_copies(
    system: System, options: RepositoryOptions, fetcher: "Fetcher | None" = None
) -> Iterator[CopyFetcher]:
    """The auditor's copies, open for fetching. Raises BadQuestion where nothing can be kept."""
    from filigree.access.fetching import Fetcher

    cache = needed_cache(options.cache)
    used = fetcher or Fetcher(os.path.join(cache, "fetched"), options.progress)
    try:
        folder = copies_folder(system, cache)
        make_private(folder)
        copies = CopyFetcher(system, options, folder, used)
        if copies.sources is None:
            system.report(Gap("what could be installed", "no repositories of this family are read"))
        yield copies
    except OSError as error:
        raise BadQuestion(
            f"the cache cannot be written to: {error.strerror}", options.cache
        ) from error
    finally:
        used.close()


def fetch_added(system: System, options: RepositoryOptions) -> None:
    """Fetch the repositories whose addresses were given; what is refused, or out of reach, is a gap."""
    refused: list[Gap] = []
    with open_copies(system, options) as copies:
        for repository in copies.enabled(added_only=True):
            _, found = copies.fetch(repository)
            if isinstance(found, FetchError):
                report_unreached(system, repository.identity, str(found))
            elif found.refused is not None:
                refused.append(Gap(f"what {repository.identity} offers now", found.refused))
    for gap in refused:
        system.report(gap)


def report_unreached(system: System, identity: str, why: str) -> None:
    """Say that what is new at a repository could not be fetched."""
    system.report(Gap(f"what is new at {identity}", why or "it cannot be reached"))
