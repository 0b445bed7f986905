"""The repositories of an `apk` system, the copies of their indexes, and its keys."""

import hashlib
import re
import struct
from collections.abc import Iterator
from functools import cached_property
from typing import NamedTuple

from filigree.access.trees.protocol import Tree
from filigree.families.apk import places
from filigree.families.apk.caches import cache_folders
from filigree.families.apk.offers import INDEX_LIMIT, OpenIndex, built_seconds, open_index
from filigree.families.protocol import ADDED, Fetch, Judging, Report, RootKey
from filigree.families.shared.indexes import best_of, copies_folder
from filigree.families.shared.looking import names_in, read_or_report
from filigree.families.shared.rings import RingRepositories
from filigree.formats.apk.binary import BinaryError
from filigree.formats.apk.fixes import read_fixes
from filigree.formats.damage import Damage, text_of
from filigree.formats.members import PayloadError
from filigree.formats.random_access import MemoryBytes
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap, moment_of
from filigree.model.errors import AccessError, words_of
from filigree.model.repositories import (
    IndexCopy,
    IndexFile,
    IndexKind,
    Refreshed,
    Repository,
    without_user,
)
from filigree.model.signatures import SignatureVerdict

_LIST_LIMIT = 1 << 20
FIXES_LIMIT = 64 << 20
_SCHEME = re.compile(r"[a-z][a-z0-9+.-]*://", re.IGNORECASE)
INDEX = "APKINDEX.tar.gz"


class ConfiguredLine(NamedTuple):
    """One repository as it is configured: its tag, its address, and where that stands."""

    tag: str | None
    address: str
    place: str


class BranchPart(NamedTuple):
    """Of which branch a database of fixes is, and of which part of it."""

    branch: str
    part: str


class ApkRepositories(RingRepositories):
    """Reads them once, for one question."""

    key_place = f"{places.KEYS}, as a file of the name that signatures tell"

    def __init__(
        self, tree: Tree, report: Report, architecture: str | None, judging: Judging
    ) -> None:
        super().__init__(tree, report, architecture, judging)
        self._folders = cache_folders(tree, report)
        self._branches: dict[tuple[str, bool], BranchPart | None] = {}

    def _read(self) -> Iterator[Repository]:
        yield from map(self._repository, self._lines)
        for text in self._own.addresses:
            tag, address = _parted(text)
            yield self._repository(ConfiguredLine(tag, address, ADDED))

    @cached_property
    def _lines(self) -> list[ConfiguredLine]:
        return list(self._read_lines())

    def _read_lines(self) -> Iterator[ConfiguredLine]:
        files = [places.REPOSITORIES]
        for name in names_in(self._tree, places.MORE_REPOSITORIES, self._report):
            if name.endswith(".list"):
                files.append(f"{places.MORE_REPOSITORIES}/{name}")
        for file in files:
            data = read_or_report(self._tree, file, self._report, _LIST_LIMIT)
            for number, line in enumerate(text_of(data).split("\n"), 1):
                text = line.partition("#")[0].strip() if not line.startswith("#") else ""
                if not text:
                    continue
                tag, address = _parted(text)
                if not address or " " in address:
                    self._report(Gap(f"{file}, line {number}", "a line that names no repository"))
                    continue
                yield ConfiguredLine(tag, address, f"{file}:{number}")

    def _repository(self, line: ConfiguredLine) -> Repository:
        shown = without_user(line.address).rstrip("/")
        copy = self._best_copy(line)
        remarks = []
        if copy is None:
            remarks.append("it was never fetched")
        elif copy.signature.verdict is SignatureVerdict.UNKNOWN_KEY:
            remarks.append(f"the missing key would be put in {self.key_place}")
        facts = {"priority_from": "the newest version counts, from wherever"}
        if line.tag:
            facts["tag"] = line.tag
            facts["priority_from"] = f"asked for by the tag {line.tag} alone"
        return Repository(
            identity=identity_of(line),
            name="/".join(shown.split("/")[-2:]), enabled=True, addresses=(line.address.rstrip("/"),),
            suite=None, component=line.tag, architecture=self.native or None, priority=None,
            configured_in=line.place, must_be_signed=True, archives_must_be_signed=True, copy=copy,
            remarks=tuple(remarks), facts=facts,
        )  # fmt: skip

    # -- the copy --------------------------------------------------------------------------

    def index_address(self, address: str) -> str:
        """Where the index of a repository is."""
        return f"{address.rstrip('/')}/{self.native}/{INDEX}"

    def _places(self, line: ConfiguredLine) -> Iterator[str]:
        """Where a copy below the root may lie: in a folder of its own, or in its cache."""
        if line.place == ADDED:
            return
        if line.address.startswith("/"):
            yield self.index_address(line.address)
        # By the index's address; a system that names it by the repository's has the other.
        for told in (self.index_address(line.address), line.address.rstrip("/")):
            name = f"APKINDEX.{short_digest(told)}.tar.gz"
            yield from (f"{folder}/{name}" for folder in self._folders)

    def _best_copy(self, line: ConfiguredLine) -> IndexCopy | None:
        """The root's own copy; one that we fetched, where that counts and is as new.

        Of the root's own the first that is there: an unsigned one beside it could call itself newer.
        """
        place = next(filter(self._tree.exists, self._places(line)), None)
        root = self._copy(self._tree, place, line) if place is not None else None
        if self._own.copies is None:
            return root
        path = f"/{copies_folder('apk', (line.address,))}/{INDEX}"
        return best_of((root, self._copy(self._own.copies, path, line)))

    def _copy(self, tree: Tree, path: str, line: ConfiguredLine) -> IndexCopy | None:
        if not tree.exists(path):
            return None
        own = tree is self._own.copies
        try:
            seen = tree.observe(tree.real_path(path))
            # Digest, signature and list are of one reading: whoever owns the root could show another one
            # to each.
            data = tree.read(path, INDEX_LIMIT)
        except AccessError as error:
            self._report(Gap(path, error.what))
            return None
        try:
            index = open_index(MemoryBytes(data))
            signature = index.signature(self._judging)
            packages, made, why = self._counted(index)
        except (PayloadError, UnpackError, BinaryError, AccessError, struct.error) as error:
            self._report(Gap(path, f"it cannot be read: {words_of(error)}"))
            return None
        digest = f"sha256:{hashlib.sha256(data).hexdigest()}"
        matches = True if signature.verdict is SignatureVerdict.GOOD else None
        listed = IndexFile(IndexKind.PACKAGES, path, digest, False, own)
        files = tuple(self._databases(tree, line, own))
        return IndexCopy(
            path=path, size=seen.size, packages=packages, made_at=moment_of(made),
            fetched_at=moment_of(seen.modified // 10**9), expires_at=None, signature=signature,
            matches=matches, remarks=(why,) if why else (), listed=listed, files=files, own=own,
        )  # fmt: skip

    def _databases(self, tree: Tree, line: ConfiguredLine, own: bool) -> Iterator[IndexFile]:
        """The databases of security fixes that were given, and are of this repository."""
        for folder in ("",) if own else self._folders:
            for name in names_in(tree, folder or "/", self._report):
                path = f"{folder}/{name}"
                if not name.endswith(".json"):
                    continue
                told = self._told_of(tree, path, own)
                address = line.address.rstrip("/")
                if told and address.endswith(f"/{told.part}") and told.branch in address:
                    yield IndexFile(IndexKind.ADVISORIES, path, None, False, own)

    def _told_of(self, tree: Tree, path: str, own: bool) -> BranchPart | None:
        """Of which part of which branch a database of fixes is: read once, however many repositories
        there are."""
        if (path, own) not in self._branches:
            found = None
            try:
                told = read_fixes(tree.read(path, FIXES_LIMIT))
                found = BranchPart(told.branch, told.part)
            except (AccessError, ValueError) as error:
                self._report(Gap(path, words_of(error)))
            self._branches[path, own] = found
        return self._branches[path, own]

    @staticmethod
    def _counted(index: OpenIndex) -> tuple[int | None, int | None, str | None]:
        """How many packages it has, when the newest of them was built, and why it breaks off."""
        count, newest = 0, None
        try:
            for one in index.records():
                if isinstance(one, Damage):
                    continue
                count += 1
                if (built := built_seconds(one)) is not None:
                    newest = max(newest or 0, built)
        except (PayloadError, UnpackError, BinaryError, AccessError, struct.error) as error:
            return None, newest, f"it cannot be read to its end: {words_of(error)}"
        return count, newest, None

    def refresh(self, repository: Repository, fetch: Fetch, paths: bool) -> Refreshed:
        """Fetch the index of a repository of `all`. Raises FetchError."""
        from filigree.families.apk.refreshing import refresh

        del paths  # no index tells them
        address = repository.addresses[0]
        place = f"/{copies_folder('apk', (address,))}/{INDEX}"
        seen = [repository.copy.made_at] if repository.copy else []
        return refresh(self.index_address(address), place, fetch, self._judging, seen)

    # -- keys ------------------------------------------------------------------------------

    @cached_property
    def _held(self) -> list[RootKey]:
        names = tuple(identity_of(one) for one in self._lines)
        found = []
        shipped = f"{places.SHIPPED_KEYS}/{self.native}" if self.native else places.SHIPPED_KEYS
        for folder, how in (
            (places.KEYS, "it lies among the system's keys: trusted for everything"),
            (shipped, "it came with the system, for its kind of machine: trusted for everything"),
        ):
            for name in sorted(names_in(self._tree, folder, self._report)):
                for key in self._keys.held(f"{folder}/{name}"):
                    found.append(RootKey(key, how, names, True))
        return found


def identity_of(line: ConfiguredLine) -> str:
    """What a repository is called in answers: its address, and its tag."""
    address = _SCHEME.sub("", without_user(line.address).rstrip("/"))
    return f"{address} @{line.tag}" if line.tag else address


def short_digest(address: str) -> str:
    """The part of an address's digest that names its copy."""
    data = address.encode("utf-8", "surrogateescape")
    return hashlib.sha1(data, usedforsecurity=False).hexdigest()[:8]


def _parted(text: str) -> tuple[str | None, str]:
    """The tag of a line, and its address."""
    if not text.startswith("@"):
        return None, text
    tag, _, address = text[1:].partition(" ")
    return tag, address.strip()
