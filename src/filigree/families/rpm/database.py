"""The installed packages of an `rpm` system, read afresh from the root."""

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import cached_property, lru_cache, partial
from typing import TYPE_CHECKING, Any

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Judging, Report
from filigree.families.rpm import described, file_records, places
from filigree.families.rpm.caches import cache_folders
from filigree.families.rpm.containers import Container, open_container
from filigree.families.rpm.finding import database_paths
from filigree.families.rpm.history import Origins, RpmHistory
from filigree.families.rpm.policy import main_words, read_policy
from filigree.families.rpm.rules import RpmRules
from filigree.families.rpm.signatures import record_signature
from filigree.families.shared.damaged import sound_needs
from filigree.families.shared.defaults import DatabaseDefaults
from filigree.families.shared.indexes import Keys
from filigree.families.shared.links import read_managed_links
from filigree.families.shared.listing import PathListing, SplitListing
from filigree.families.shared.looking import names_in
from filigree.families.shared.policy import DeclaredPolicy
from filigree.formats.random_access import ContainerError
from filigree.formats.rpm import tags
from filigree.formats.rpm.header import Header, HeaderError, read_header
from filigree.formats.version_parts import split_version
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, DatabaseError
from filigree.model.files import FileRecord
from filigree.model.keys import Key
from filigree.model.needs import Capability, Need
from filigree.model.package import Package, Script
from filigree.model.signatures import Signatures, SignatureVerdict

if TYPE_CHECKING:
    from filigree.families.rpm.repositories import RpmRepositories

_ANY = frozenset({"noarch", "src", "nosrc", "none"})
_ADDED = (
    "kernel", "kernel-PAE", "installonlypkg(kernel)", "installonlypkg(kernel-module)",
    "installonlypkg(vm)", "multiversion(kernel)",
)  # fmt: skip
"""What is only ever added, by name or by what it provides, unless the configuration says more."""
_NO_PATHS = PathListing()
_RELEASES = (
    "system-release(releasever)",
    "system-release",
    "redhat-release",
    "distribution-release",
)


class RpmSignatures:
    """The signatures that are kept in each header; `header_of` reads that of a package again."""

    def __init__(self, header_of: Callable[[Package], Header | None]) -> None:
        self._header_of = header_of

    def judged(self, package: Package, keys: Sequence[Key], now: datetime) -> Signatures:
        header = self._header_of(package)
        if header is None:
            return Signatures(SignatureVerdict.NONE, reason="its record cannot be read")
        return record_signature(header, keys, now)


class RpmDatabase(DatabaseDefaults):
    """Every record of the root's database; what cannot be read is reported, and costs itself."""

    aspects = described.ASPECTS

    def __init__(self, tree: Tree, report: Report) -> None:
        self.tree = tree
        self.report = report
        self._places: dict[Package, int] = {}
        self._counts: dict[Package, int] = {}
        self._side_by_side: dict[str, bool] = {}
        self._key_texts: list[tuple[str, str]] = []
        self.path, self._container = self._open()
        self._packages = self._read_packages()
        self._header = lru_cache(maxsize=4)(self._read_header)

    def _open(self) -> tuple[str, Container]:
        """The first container that can be read; others are pointed out, for they are another truth."""
        failures: list[tuple[str, str]] = []
        paths = database_paths(self.tree)
        for at, path in enumerate(paths):
            try:
                container = open_container(self.tree, path)
            except AccessError as error:
                failures.append((path, error.what))
                continue
            except ContainerError as error:
                failures.append((path, str(error)))
                continue
            for other in paths[at + 1 :]:
                self.report(Gap(other, f"a second database; the answers are from {path}"))
            for other, why in failures:
                self.report(Gap(other, why))
            return path, container
        path, why = failures[0] if failures else (places.DATABASES[0], "there is no such file")
        raise DatabaseError(
            f"the package database cannot be read: {why}",
            path,
            "run as a user who may read it, or check that the disk is mounted whole",
        )

    # -- packages --------------------------------------------------------------------------

    def packages(self) -> Sequence[Package]:
        return self._packages

    @cached_property
    def architecture(self) -> str | None:
        """What most packages are built for."""
        counts = Counter(p.architecture for p in self._packages if p.architecture not in _ANY)
        return counts.most_common(1)[0][0] if counts else None

    def _read_packages(self) -> list[Package]:
        found = []
        history, policy = Origins(self.tree, self.report), read_policy(self.tree, self.report)

        def more(name: str, version: str, architecture: str) -> Mapping[str, Any]:
            reason, repository = history.of(name, version, architecture)
            return {
                "reason": reason,
                "repository": repository,
                "held": policy.holds(name, version, architecture),
                "protected": name in policy.protected,
            }

        for place, header in self._headers():
            try:
                if described.name_of(header) == described.KEY:
                    self._key_texts.append(self._key_text(header))
                    continue
                package = described.package_of(header, more=more)
            except HeaderError as error:
                self.report(Gap(f"{self.path}, record {place}", str(error)))
                continue
            self._places[package] = place
            self._counts[package] = file_records.path_count(header)
            found.append(package)
        if not found:
            self.report(Gap(self.path, "the package database is empty"))
        return found

    def _key_text(self, header: Header) -> tuple[str, str]:
        """Where an imported key is on record, for people, and its text."""
        label = "-".join(header.text(tag) or "" for tag in (tags.NAME, tags.VERSION, tags.RELEASE))
        return f"{label} in {self.path}", header.text(tags.DESCRIPTION) or ""

    def _headers(self) -> Iterator[tuple[int, Header]]:
        """Every header; what is none is reported, and so is the end of a damaged container."""
        try:
            for place, blob, damage in self._container:
                if blob is None:
                    self.report(Gap(self.path, damage or "a record without a header"))
                    continue
                try:
                    yield place, read_header(blob)
                except HeaderError as error:
                    self.report(Gap(f"{self.path}, record {place}", str(error)))
        except ContainerError as error:
            self.report(Gap(self.path, f"{error}; what follows was not read"))
        except AccessError as error:
            self.report(Gap(self.path, f"{error.what}; what follows was not read"))

    def _read_header(self, package: Package) -> Header | None:
        """The header of a package, read again from its place."""
        try:
            blob = self._container.blob(self._places[package])
            header = read_header(blob) if blob is not None else None
            if header is not None and described.name_of(header) == package.name:
                return header
            why = "its record is gone: the database changed while it was read"
        except (ContainerError, HeaderError) as error:
            why = str(error)
        except AccessError as error:
            why = error.what
        self.report(Gap(f"the record of {package.label}", why))
        return None

    # -- files -----------------------------------------------------------------------------

    def listing(self, package: Package) -> PathListing | SplitListing:
        header = self._header(package)
        return self._listing(header, package) if header else _NO_PATHS

    def _listing(self, header: Header, package: Package) -> PathListing | SplitListing:
        try:
            return file_records.listing_of(header)
        except HeaderError as error:
            self.report(Gap(f"the files of {package.label}", str(error)))
            return _NO_PATHS

    def listings(self) -> Iterator[tuple[Package, PathListing | SplitListing]]:
        by_place = {self._places[package]: package for package in self._packages}
        for place, header in self._headers():
            package = by_place.get(place)
            if package is not None:
                yield package, self._listing(header, package)

    def path_count(self, package: Package) -> int:
        return self._counts[package]

    def files(self, package: Package) -> list[FileRecord]:
        header = self._header(package)
        if header is None:
            return []

        def report(why: str) -> None:
            self.report(Gap(f"the files of {package.label}", why))

        try:
            return file_records.with_states(
                file_records.files_of(header), header, self.path, report
            )
        except HeaderError as error:
            report(str(error))
            return []

    def configuration(self, package: Package) -> list[FileRecord]:
        return [record for record in self.files(package) if record.config]

    # -- needs -----------------------------------------------------------------------------

    def needs(self, package: Package) -> tuple[Need, ...]:
        header = self._header(package)
        return needs_told(_told(header), package, self.report) if header else ()

    def capabilities(self, package: Package) -> tuple[Capability, ...]:
        header = self._header(package)
        if header is None:
            return (Capability(package.name, package.version),)
        return capabilities_told(_told(header), package, self.report)

    @cached_property
    def rules(self) -> RpmRules:
        return RpmRules(self.architecture, self._stands_side_by_side)

    def _stands_side_by_side(self, name: str) -> bool:
        """Whether several versions of a name may be there: it is declared so, or they are there."""
        if name not in self._side_by_side:
            present = [p for p in self._packages if p.name == name]
            names = {name, *(c.name for p in present for c in self.capabilities(p))}
            several = len({p.architecture for p in present}) < len(present)
            self._side_by_side[name] = several or bool(names & self._only_added)
        return self._side_by_side[name]

    @cached_property
    def _only_added(self) -> frozenset[str]:
        return frozenset((*_ADDED, *main_words(self.tree, self.report, "installonlypkgs")))

    # -- the rest --------------------------------------------------------------------------

    def scripts(self, package: Package) -> tuple[Script, ...]:
        header = self._header(package)
        return scripts_told(header, package, self.report) if header else ()

    def fields(self, package: Package) -> Mapping[str, str]:
        header = self._header(package)
        return described.fields_of(header) if header else {}

    @cached_property
    def policy(self) -> DeclaredPolicy:  # type: ignore[override]
        return DeclaredPolicy(
            lambda: read_managed_links(
                self.tree, places.LINK_GROUPS, places.CHOSEN_LINKS, self.report
            )
        )

    @cached_property
    def history(self) -> "RpmHistory":  # type: ignore[override]
        return RpmHistory(self.tree, self.report)

    @cached_property
    def signatures(self) -> "RpmSignatures":  # type: ignore[override]
        return RpmSignatures(self._header)

    def repositories(self, judging: Judging) -> "RpmRepositories":
        """What the system is configured to install from."""
        from filigree.families.rpm.repositories import RpmRepositories, RpmSystem

        system = RpmSystem(self._packages, self.architecture, self._release(), self._imported)
        return RpmRepositories(self.tree, self.report, system, judging)

    def _imported(self) -> list[Key]:
        """The keys that the database itself trusts: on record as packages, and beside it as files."""
        keys = Keys(self.tree, self.report)
        found = [key for place, text in self._key_texts for key in keys.of_text(text, place)]
        folder = f"{self.path.rpartition('/')[0]}/{places.KEY_FOLDER}"
        for name in names_in(self.tree, folder, self.report):
            found += keys.of_file(f"{folder}/{name}") or []
        return found

    def _release(self) -> str | None:
        """The release that this system is of, by the package that says so; None where none does."""
        for package in self._packages:
            if "release" not in package.name:
                continue
            for capability in self.capabilities(package):
                if capability.name in _RELEASES:
                    told = capability.version if "(" in capability.name else package.version
                    version = split_version(told or package.version).version
                    return version or None
        return None

    hook_places = places.HOOKS
    kept_endings = (".rpmsave", ".rpmnew", ".rpmorig")

    def script_texts(self, package: Package) -> Iterator[str]:
        header = self._header(package)
        try:
            yield from described.script_texts_of(header) if header else ()
        except HeaderError as error:
            self.report(Gap(f"the scripts of {package.label}", str(error)))

    def place_of(self, *_: Package) -> str:
        return self.path

    def index_folders(self) -> Sequence[str]:
        return tuple(path for path in places.CACHES if self.tree.is_directory(path))

    def archive_folders(self) -> Sequence[str]:
        return cache_folders(self.tree, self.report)

    def keeper_of(self, *_: str) -> Package | None:
        return None

    def close(self) -> None:
        self._container.close()


def _told(header: Header) -> described.Written:
    return partial(described.relations, header)


def needs_told(told: described.Written, package: Package, report: Report) -> tuple[Need, ...]:
    """The needs of a package; what does not parse is reported."""
    found: list[Need] = []
    try:
        found.extend(sound_needs(described.needs_of(told), package, report))
    except HeaderError as error:
        report(Gap(f"the needs of {package.label}", str(error)))
    return tuple(found)


def capabilities_told(
    told: described.Written, package: Package, report: Report
) -> tuple[Capability, ...]:
    """The names that a package answers to; what cannot be read is reported."""
    try:
        return described.capabilities_of(told, package)
    except HeaderError as error:
        report(Gap(f"what {package.label} provides", str(error)))
        return (Capability(package.name, package.version),)


def scripts_told(header: Header, package: Package, report: Report) -> tuple[Script, ...]:
    """The scripts of a package; what cannot be read is reported."""
    try:
        return described.scripts_of(header)
    except HeaderError as error:
        report(Gap(f"the scripts of {package.label}", str(error)))
        return ()
