"""A system: a root and its family, what every question is asked of."""

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, contextmanager
from functools import cached_property
from glob import escape as glob_escape
from typing import TYPE_CHECKING

from filigree.access.gap_list import GapList
from filigree.access.roots import PLAIN, RootChoice, absolute, open_root
from filigree.access.trees.directory import DirectoryTree
from filigree.access.trees.protocol import Borrowed, Tree
from filigree.families.protocol import (
    Archive,
    Database,
    Family,
    Judging,
    PackageRecords,
    RecordsOf,
    Sources,
)
from filigree.families.registry import (
    family_named,
    family_or_none,
    is_archive_name,
    open_archive,
    records_of_families,
)
from filigree.families.shared.looking import GROUPS, USERS, accounts_at, os_release
from filigree.formats.accounts import Accounts
from filigree.formats.unpacking import renew_allowance
from filigree.model.answer import Alarm, Gap, SystemLabel
from filigree.model.errors import AccessError, BadQuestion, Obstacle, words_of
from filigree.model.events import Event
from filigree.model.files import Kind, ManagedLink, Relocation
from filigree.model.keys import Key
from filigree.model.package import Package, State
from filigree.model.repositories import without_user
from filigree.model.signatures import Signatures
from filigree.paths import PathIndex

if TYPE_CHECKING:
    from filigree.access.remote import RemoteFile


_SIGNATURE_LIMIT = 1 << 20


class System:
    """One root, opened. `gaps` collects what could not be looked at, each once, as it is found."""

    def __init__(
        self, root: str | Tree, family: str | None = None, here: str = "/",
        choice: RootChoice = PLAIN,
    ) -> None:  # fmt: skip
        renew_allowance()
        self.tree: Tree = (
            open_root(absolute(root), records_of_families, choice)
            if isinstance(root, str)
            else root
        )
        self.root = self.tree.root
        self.here = here
        self._gaps = GapList()
        self._asides: dict[str, None] = {}
        self._opened: dict[tuple[str, bool], Archive] = {}
        self._archives: dict[Package, Archive] = {}
        self._lent: list[Borrowed | RemoteFile] = []
        self._offering: System | None = None
        self._sources: tuple[Judging, Sources | None] | None = None
        self.snapshot_signature: Signatures | None = None
        for what, why in self.tree.troubles:
            self.report(Alarm(what, why))
        self.family: Family = (
            family_named(family) if family else family_or_none(self.tree, self.report)
        )
        self.database: Database = self.family.open(self.tree, self.report)

    def __enter__(self) -> "System":
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def close(self) -> None:
        """Let go of the root, and of the archives. No question can be asked afterwards."""
        for source in self._lent:
            source.close()
        self.database.close()
        self.tree.close()
        if self._offering is not None:
            self._offering.close()

    def report(self, gap: Gap) -> None:
        """Note something that could not be looked at; of more than make sense how many there are."""
        self._gaps.add(gap)

    def heard(self) -> AbstractContextManager[Mapping[Gap, None]]:
        """What is reported meanwhile, also what was reported before."""
        return self._gaps.heard()

    def say(self, words: str) -> None:
        """Note something that the auditor should know, and that costs the answers nothing."""
        self._asides[words] = None

    @property
    def asides(self) -> list[str]:
        """What else is to be said, each once."""
        return list(self._asides)

    @property
    def gaps(self) -> list[Gap]:
        """What could not be looked at, each once, as it was found."""
        found = self._gaps.told()
        if self._offering is not None:
            found += (gap for gap in self._offering.gaps if gap not in self._gaps)
        return found

    @property
    def packages(self) -> Sequence[Package]:
        """Every package on record, of whatever state."""
        return self.database.packages()

    def present(self, names: Iterable[str]) -> list[Package]:
        """The packages of some names whose files are on the disk."""
        return [package for name in names for package in self._present.get(name, ())]

    @cached_property
    def _present(self) -> dict[str, list[Package]]:
        found: dict[str, list[Package]] = {}
        for package in self.packages:
            if package.state.present:
                found.setdefault(package.name, []).append(package)
        return found

    @cached_property
    def paths(self) -> PathIndex:
        """Every path on record."""
        return PathIndex(self.database)

    def events(self) -> list[Event]:
        """All that the system's own history tells; nothing where its family keeps none."""
        history = self.database.history
        return [] if history is None else list(history.events())

    @property
    def relocations(self) -> Sequence[Relocation]:
        """Declared diversions; none where the family knows no such thing."""
        policy = self.database.policy
        return policy.relocations if policy is not None else ()

    @property
    def managed_links(self) -> Mapping[str, ManagedLink]:
        """Links made at run time by the system's own mechanism for interchangeable programs."""
        policy = self.database.policy
        return policy.managed_links if policy is not None else {}

    def sources(self, judging: Judging) -> Sources | None:
        """What the system could install; None where its family has no repositories."""
        if self._offering is not None:
            return self._offering.sources(judging)
        # Several answers that are asked at one moment rest on one reading of them.
        if self._sources is None or self._sources[0] != judging:
            self._sources = judging, self.family.sources(self.database, judging)
        return self._sources[1]

    @property
    def offering_family(self) -> Family:
        """Whose repositories are asked: the system's own family, or that of `use_repositories_of`."""
        return self.family if self._offering is None else self._offering.family

    def use_repositories_of(self, other: "System") -> None:
        """Ask the repositories, and the keys, that another root tells of; it is closed with this one.

        Raises BadQuestion where that is of another family, unless here is no record at all.
        """
        if self.family.name not in (other.family.name, "none"):
            raise BadQuestion(
                f"it is a system of the {other.family.name} family, and this one is of "
                f"{self.family.name}", other.root, "name one of the same family",
            )  # fmt: skip
        self._offering = other

    def records(self, package: Package) -> PackageRecords:
        """Where a package is on record: its archive, or else the system's database.

        Raises LookupError for a package that is only offered: its records are its repositories'.
        """
        if package.state is State.AVAILABLE:
            raise LookupError(f"{package.label} is only offered: ask the lookup that found it")
        return self._archives.get(package) or RecordsOf(self.database, package)

    def archive(self, path: str, below: bool = False) -> Archive:
        """The archive at a path of the auditor's own file system, or at an address, opened once.

        With `below` it lies below the root.

        Raises AccessError where no regular file can be read there, DatabaseError where it is none.
        """
        if (path, below) not in self._opened:
            source = self.tree.lend(path) if below else self._borrowed(path)
            self._lent.append(source)
            archive = open_archive(source, path, self.report)
            self._opened[path, below] = archive
            self._archives[archive.package] = archive
        return self._opened[path, below]

    @contextmanager
    def looking_into(
        self, path: str, below: bool = False, quiet: bool = False
    ) -> Iterator[Archive]:
        """An archive for as long as it is looked at: of hundreds none stays open.

        A `quiet` look tells nothing of what is wrong with it.
        """
        source = self.tree.lend(path) if below else self._borrowed(path)
        try:
            yield open_archive(source, path, (lambda _: None) if quiet else self.report)
        finally:
            source.close()

    def beside(self, path: str, below: bool = False) -> bytes | None:
        """The signature that lies beside a file; None where there is none, or none can be looked for."""
        if path.startswith(("http://", "https://")):
            return self._signature_at(path)
        tree, place = (self.tree, path) if below else (self._outside, absolute(path))
        from filigree.families.shared.signatures import ENDINGS

        for ending in ENDINGS:
            try:
                found = tree.read_or_none(place + ending, _SIGNATURE_LIMIT)
            except AccessError as error:
                self.report(Gap(path + ending, error.what))
                continue
            if found is not None:
                return found
        return None

    def _signature_at(self, address: str) -> bytes | None:
        """The signature that lies beside a file at an address."""
        from filigree.access.remote import RemoteFile, beside_address
        from filigree.families.shared.signatures import ENDINGS

        for ending in ENDINGS:
            try:
                file = RemoteFile(beside_address(address, ending), most=_SIGNATURE_LIMIT)
            except AccessError as error:
                if not error.absent:
                    self.report(Gap(without_user(address) + ending, error.what))
                    return None
                continue
            try:
                if file.size > _SIGNATURE_LIMIT:
                    self.report(
                        Gap(without_user(address) + ending, "it is no signature: it is too large")
                    )
                    continue
                return file.at(0, file.size)
            finally:
                file.close()
        return None

    def cached_archives(self) -> Iterator[str]:
        """Where archives lie that the system itself keeps, by what they are called."""
        for folder in self.database.archive_folders():
            if not self.tree.is_directory(folder):
                continue
            for found in self.tree.walk(self.tree.real_path(folder)):
                if isinstance(found, Gap):
                    self.report(found)
                elif found.kind is Kind.FILE and is_archive_name(found.path):
                    yield found.path

    def _borrowed(self, path: str) -> "Borrowed | RemoteFile":
        if not path.startswith(("http://", "https://")):
            return self._outside.lend(absolute(path))
        from filigree.access.remote import RemoteFile

        return RemoteFile(path)

    def archive_of(self, package: Package) -> Archive | None:
        """The archive that a package was read from; None where it is on record."""
        return self._archives.get(package)

    def own_files(self, pattern: str) -> list[str]:
        """The auditor's own regular files that a glob matches, sorted."""
        from glob import glob

        return sorted(path for path in glob(pattern) if os.path.isfile(path))

    def own_lines(self, path: str, limit: int) -> Iterator[bytes]:
        """The lines of a file of the auditor's own, one after the other. Raises AccessError."""
        rest, total = b"", 0
        for piece in self._outside.pieces(absolute(path)):
            total += len(piece)
            if total > limit:
                raise AccessError(Obstacle.TOO_LARGE, path, f"more than {limit} bytes")
            *lines, rest = (rest + piece).split(b"\n")
            yield from lines
        if rest:
            yield rest

    def own_bytes(self, path: str, limit: int) -> bytes:
        """A file of the auditor's own. Raises BadQuestion where it cannot be read."""
        try:
            return self._outside.read(absolute(path), limit)
        except AccessError as error:
            raise BadQuestion(f"it cannot be read: {words_of(error)}", path) from error

    def own_keys(self, paths: Sequence[str]) -> list[Key]:
        """The keys of the auditor's own files, and of the files in folders.

        Raises BadQuestion where one holds none, or cannot be read.
        """
        from filigree.families.shared.indexes import doubts
        from filigree.formats.key_files import read_key_file

        found: list[Key] = []
        for path in paths:
            files = self.own_files(f"{glob_escape(path)}/*") if os.path.isdir(path) else [path]
            for file in files:
                try:
                    data = self._outside.read(absolute(file), 64 << 20)
                    found += read_key_file(data, file)
                except (AccessError, ValueError) as error:
                    raise BadQuestion(f"no keys can be read: {words_of(error)}", file) from error
        if not found:
            raise BadQuestion("the keyring holds no keys", ", ".join(paths))
        for gap in doubts(found):
            self.report(gap)
        return found

    @cached_property
    def _outside(self) -> Tree:
        """The auditor's own files: archives are given by where they lie outside of the root."""
        return DirectoryTree("/")

    def family_of(self, package: Package) -> Family:
        """The family of a package: an archive's may be another one than the system's."""
        same = package.family == self.family.name
        return self.family if same else family_named(package.family)

    def real(self, path: str) -> str:
        """A path with the links of its directories resolved, or as it is where that fails."""
        try:
            return self.tree.real_path(path, follow=False)
        except AccessError:
            return path

    def owners_of(self, path: str) -> list[Package]:
        """The packages that list a path, or the same file by another path."""
        exact = self.real(path)
        named = self.paths.named(path.rpartition("/")[2])
        found = (p for p, listed in named if listed == path or self.real(listed) == exact)
        return list(dict.fromkeys(found))

    @cached_property
    def label(self) -> str:
        """The system's name for people, as it gives it itself; empty where it gives none."""
        names = os_release(self.tree, self.report)
        return names.get("PRETTY_NAME") or names.get("NAME") or ""

    @cached_property
    def system_label(self) -> SystemLabel:
        """What was asked, for an answer: root, family and name."""
        taken = self.tree.taken
        seen_at = None if taken is None else taken.ended
        return SystemLabel(self.root, self.family.name, self.label, seen_at)

    @cached_property
    def users(self) -> Accounts:
        """The root's own list of users; without one nobody knows whose files are."""
        return accounts_at(self.tree, USERS, "users", self.report)

    @cached_property
    def groups(self) -> Accounts:
        """The root's own list of groups."""
        return accounts_at(self.tree, GROUPS, "groups", self.report)


def open_system(
    root: str | Tree = "/", family: str | None = None, here: str = "/", choice: RootChoice = PLAIN
) -> System:
    """Open the system below `root`, of a family by name or of its own.

    `root` is a directory, an image of a container, a tar of a whole root, or any tree; `choice` says
    what is meant where there are several.

    `here` is the directory, as the root sees it, at which relative paths start.
    Raises NoSystem where the root is no directory or holds no known system, DatabaseError where
    its package database cannot be read at all.
    """
    return System(root, family, here, choice)
