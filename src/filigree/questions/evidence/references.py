"""Archives that installed packages can be held against: given, of the system's own cache, or fetched."""

import os
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from filigree.access.private_folder import is_private
from filigree.families.protocol import ADDED
from filigree.families.registry import is_archive_name
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, BadQuestion, DatabaseError, FiligreeError
from filigree.model.package import Package
from filigree.questions.evidence.vouching import Promise, Vouching
from filigree.questions.offers.keeping import needed_cache, usable_cache
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System

CACHE = "cache"
_FILES_LIMIT = 200_000


class FoundArchive(NamedTuple):
    """An archive of a package: where it lies, below the root or not, and whether the auditor gave it."""

    path: str
    below: bool
    given: bool


@dataclass(frozen=True, slots=True)
class Against:
    """What files are held against: archives and folders of the auditor's own, the system's own cache,
    repositories by name; `everywhere` is all of it. With `fetch` what is missing is fetched first.

    `announce` is told, for people, what is about to be fetched.
    """

    paths: tuple[str, ...] = ()
    cache: bool = False
    repositories: tuple[str, ...] = ()
    everywhere: bool = False
    fetch: bool = False
    announce: Callable[[str], None] | None = field(default=None, compare=False)

    @property
    def named(self) -> bool:
        """Whether it is said what files are held against."""
        return bool(self.paths or self.cache or self.repositories)

    @property
    def anything(self) -> bool:
        """Whether anything is to be held against."""
        return self.named or self.everywhere or self.fetch


NOTHING = Against()


def against_of(words: Iterable[str], fetch: bool = False) -> Against:
    """What a person named: `cache`, an archive or folder, or else a repository.

    Raises BadQuestion where something is written as a path and nothing is there.
    """
    paths, repositories, cache = [], [], False
    for word in words:
        if word == CACHE:
            cache = True
        elif os.path.exists(word):
            paths.append(word)
        elif "/" in word and (word.startswith(("/", ".")) or is_archive_name(word)):
            raise BadQuestion("there is no such archive or folder", word, "check the path")
        else:
            repositories.append(word)
    return Against(tuple(paths), cache, tuple(repositories), fetch=fetch)


class References:
    """The archives of installed packages, and what indexes promise of them."""

    def __init__(
        self, system: System, packages: Sequence[Package], against: Against, options: RepositoryOptions,
        vouching: Vouching,
    ) -> None:  # fmt: skip
        self._system = system
        self._against = against
        self._options = options
        self._known: dict[tuple[str, str, str], list[FoundArchive]] = {}
        self.promises = vouching.promises(packages) if against.anything else {}
        self.fetched = self.fetched_size = 0
        self._unreached: dict[Package, str] = {}
        self._others: Counter[str] = Counter()
        for found in (*self._given(), *self._cached()):
            self._learn(found)
        if self._others:
            count, folder = self._others.total(), next(iter(self._others))
            more = f" and {len(self._others) - 1:,} more folders" if len(self._others) > 1 else ""
            what = f"{count:,} archives of other families in {folder}{more}"
            system.report(Gap(what, "nothing here is held against them"))
        self._kept = self._kept_before()
        if against.fetch:
            self._fetch([one for one in packages if not self.of(one)])

    def of(self, package: Package) -> list[FoundArchive]:
        """The archives that may be of a package, by what they are called."""
        _, colon, bare = package.version.partition(":")
        versions = (package.version, bare) if colon else (package.version,)
        found = [
            one
            for version in versions
            for one in self._known.get((package.name, version, package.architecture), ())
        ]
        return found + self._kept.get(package, [])

    def lack(self, package: Package) -> str:
        """Why there is none of a package."""
        if package in self._unreached:
            return f"its archive could not be fetched: {self._unreached[package]}"
        told = [one for one in self.promises.get(package, ()) if one.place.address]
        if told:
            return "no archive of it is at hand; an index offers it, and fetching would bring it"
        return "no archive of it is at hand, and no index that may be believed offers it"

    # -- what is there ---------------------------------------------------------------------

    def _given(self) -> Iterator[FoundArchive]:
        for path in self._against.paths:
            if os.path.isdir(path):
                yield from (FoundArchive(file, False, True) for file in _archives_in(path))
            else:
                yield FoundArchive(path, False, True)

    def _cached(self) -> Iterator[FoundArchive]:
        if self._against.cache or self._against.everywhere:
            yield from (FoundArchive(path, True, False) for path in self._system.cached_archives())

    def _learn(self, found: FoundArchive) -> None:
        """Remember an archive by what it is called; one that was named, by what it is."""
        name = found.path.rpartition("/")[2]
        archives = self._system.family.archives
        parts = archives.parts_of_name(name) if archives is not None else None
        named = found.path in self._against.paths
        if parts is None or not all(parts) or named:
            try:
                with self._system.looking_into(found.path, found.below, quiet=True) as archive:
                    package = archive.package
            except (AccessError, DatabaseError) as error:
                self._system.report(Gap(found.path, error.what))
                return
            if package.family != self._system.family.name:
                self._others[os.path.dirname(found.path)] += 1
                return
            key = (package.name, package.version, package.architecture)
        else:
            key = (parts.name, parts.version, parts.architecture)
        self._known.setdefault(key, []).append(found)

    # -- what is fetched -------------------------------------------------------------------

    def _folder(self) -> str | None:
        cache = usable_cache(self._system, self._options.cache)
        return os.path.join(cache, "archives") if cache else None

    def _kept_before(self) -> dict[Package, list[FoundArchive]]:
        """What was fetched in an earlier run: what it is, its digest tells later."""
        from filigree.access.fetching import kept_at

        folder = self._folder()
        wanted = self._against.repositories or self._against.everywhere or self._against.fetch
        if folder is None or not wanted:
            return {}
        found: dict[Package, list[FoundArchive]] = {}
        for key, promises in self.promises.items():
            for promise in promises:
                path = kept_at(folder, promise.place.address or "")
                if is_private(path):
                    found.setdefault(key, []).append(FoundArchive(path, False, False))
        return found

    def _fetch(self, packages: Sequence[Package]) -> None:
        from filigree.access.fetching_many import FetchRequest, fetch_all

        folder = os.path.join(needed_cache(self._options.cache), "archives")
        # What cannot be had from one place may be had from another that promises the same.
        places = {one: _fetchable(self.promises.get(one, ())) for one in packages}
        left = [one for one in packages if places[one]]
        size = sum(places[one][0].place.size or 0 for one in left)
        if left and self._against.announce is not None:
            count = f"{len(left):,} archive{'s' if len(left) != 1 else ''}"
            self._against.announce(f"fetching {count}, {size:,} bytes, into {folder}")
        while left:
            wishes: dict[FetchRequest, list[Package]] = {}
            for package in left:
                place = places[package].pop(0).place
                wish = FetchRequest(place.address or "", place.digest, place.size)
                wishes.setdefault(wish, []).append(package)
            failed = []
            for wish, outcome in fetch_all(folder, list(wishes), self._options.progress):
                if isinstance(outcome, FiligreeError):
                    self._unreached.update((one, outcome.what) for one in wishes[wish])
                    failed += wishes[wish]
                    continue
                for package in wishes[wish]:
                    self._kept.setdefault(package, []).append(
                        FoundArchive(outcome.path, False, False)
                    )
                self.fetched += 1
                self.fetched_size += outcome.sent
            left = [one for one in failed if places[one]]


def _fetchable(promises: Sequence[Promise]) -> list[Promise]:
    """Promises of what can be fetched and held against its digest; what the auditor named first."""
    found = [one for one in promises if one.place.address and one.place.promised]
    return sorted(found, key=lambda one: one.repository.configured_in != ADDED)


def _archives_in(folder: str) -> list[str]:
    """Every archive in a folder and below it, by what it is called; links to folders are not followed."""
    found: list[str] = []
    for above, _, names in os.walk(folder):
        found += (os.path.join(above, name) for name in sorted(names) if is_archive_name(name))
        if len(found) > _FILES_LIMIT:
            break
    return found[:_FILES_LIMIT]
