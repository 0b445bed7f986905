"""The installed packages of a `deb` system, read afresh from the root."""

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import cached_property
from typing import TYPE_CHECKING

from filigree.access.trees.protocol import Tree
from filigree.families.deb import places
from filigree.families.deb.listing import DebListing
from filigree.families.deb.needs import overwrites
from filigree.families.deb.policy import (
    DebPolicy,
    never_left_over,
    read_policy,
    read_settings,
)
from filigree.families.deb.rules import DebRules
from filigree.families.deb.stanza import capabilities_told, needs_told
from filigree.families.deb.status import read_packages
from filigree.families.protocol import Judging, Report
from filigree.families.shared.damaged import report_damages
from filigree.families.shared.defaults import DatabaseDefaults
from filigree.families.shared.expressions import Expressions
from filigree.families.shared.links import read_managed_links
from filigree.families.shared.looking import names_in, read_or_report
from filigree.families.shared.policy import DeclaredPolicy
from filigree.formats.damage import text_of
from filigree.formats.digest_list import DigestList, read_digest_list
from filigree.formats.long_lines import without_long_lines
from filigree.model.answer import Gap, moment_of
from filigree.model.errors import AccessError
from filigree.model.files import (
    Aspect,
    FileRecord,
    Kind,
    LocalPolicy,
    Role,
    Sort,
)
from filigree.model.needs import Capability, Need, Relation, terms_of
from filigree.model.package import Package, Script, State

if TYPE_CHECKING:
    from filigree.families.deb.history import DebHistory
    from filigree.families.deb.repositories import DebRepositories

_SCRIPTS = ("preinst", "postinst", "prerm", "postrm", "config", "triggers")
_BYTES_A_PATH = 60
_HEX = frozenset("0123456789abcdef")
NO_DIGESTS = DigestList({}, {}, ())
_NO_LONGER = "the package no longer ships it"


_REST = tuple(FileRecord("", "")[4:])


class DebDatabase(DatabaseDefaults):
    """Every record of the root's database; what cannot be read is reported, and costs itself."""

    aspects = frozenset({Aspect.PRESENCE, Aspect.CONTENT, Aspect.KIND})

    def __init__(self, tree: Tree, report: Report) -> None:
        self.tree = tree
        self.report = report
        self._list_sizes: dict[tuple[str, str], int] = {}
        self._packages = read_packages(tree, report, self._list_time)

    # -- packages --------------------------------------------------------------------------

    def packages(self) -> Sequence[Package]:
        return self._packages

    @cached_property
    def architecture(self) -> str | None:
        """The first line of the architectures file, else what most packages are built for."""
        lines = text_of(read_or_report(self.tree, places.ARCHITECTURES, self.report)).split()
        if lines:
            return lines[0]
        counts = Counter(p.architecture for p in self._packages if p.architecture != "all")
        return counts.most_common(1)[0][0] if counts else None

    # -- files -----------------------------------------------------------------------------

    @cached_property
    def _info(self) -> frozenset[str]:
        return frozenset(names_in(self.tree, places.INFO, self.report))

    @cached_property
    def _policy(self) -> DebPolicy:
        return read_policy(self.tree, self.report)

    def _info_path(self, name: str, architecture: str, ending: str) -> str | None:
        """The file beside the database that belongs to a package, in either naming."""
        for stem in (name, f"{name}:{architecture}"):
            if f"{stem}.{ending}" in self._info:
                return f"{places.INFO}/{stem}.{ending}"
        return None

    def _list_time(self, name: str, architecture: str) -> datetime | None:
        """When a package's list was written: the nearest that is on record to its installation."""
        path = self._info_path(name, architecture, "list")
        if path is None:
            return None
        try:
            seen = self.tree.observe(path)
            self._list_sizes[name, architecture] = seen.size
            return moment_of(seen.modified // 10**9)
        except AccessError:
            return None

    def listing(self, package: Package) -> DebListing:
        path = self._info_path(package.name, package.architecture, "list")
        if path is not None:
            try:
                data = self.tree.read(path)
                if not data and package.state.present:
                    self.report(Gap(f"the file list of {package.name} ({path})", "it is empty"))
                return DebListing(self._without_long(data, path))
            except AccessError as error:
                self.report(Gap(f"the file list of {package.name} ({path})", error.what))
                return DebListing(b"")
        digests = self._digests(package).digests
        # Minimal images keep the digests alone.
        if package.state.present and not (digests and self._in_parts):
            self.report(Gap(f"the files of {package.name}", "there is no file list of it"))
        return DebListing("".join(f"/{p}\n" for p in digests).encode("utf-8", "surrogateescape"))

    def _without_long(self, data: bytes, path: str) -> bytes:
        """A list, without what is longer than paths are, which is reported."""
        left, left_out = without_long_lines(data)
        if left_out is not None:
            self.report(Gap(path, left_out))
        return left

    @cached_property
    def _in_parts(self) -> bool:
        """Whether the records lie in a file each, as minimal images keep them."""
        return not self.tree.exists(places.STATUS)

    def listings(self) -> Iterator[tuple[Package, DebListing]]:
        for package in self._packages:
            if package.state is not State.NOT_INSTALLED:
                yield package, self.listing(package)
        self._report_unclaimed()

    def _report_unclaimed(self) -> None:
        there = [p for p in self._packages if p.state is not State.NOT_INSTALLED]
        known = {p.name for p in there} | {f"{p.name}:{p.architecture}" for p in there}
        for name in sorted(self._info):
            if name.endswith(".list") and name[:-5] not in known:
                why = "a file list of no package that is here by the record"
                self.report(Gap(f"{places.INFO}/{name}", why))

    def path_count(self, package: Package) -> int:
        return self._list_sizes.get((package.name, package.architecture), 0) // _BYTES_A_PATH + 1

    def files(self, package: Package) -> list[FileRecord]:
        told = self._digests(package)
        digests, twice = dict(told.digests), told.others
        settings = self._settled(package, digests, twice)
        paths = list(self.listing(package))
        directories = {path.rpartition("/")[0] or "/" for path in paths}
        declared = self._policy.declared
        always = bool(self._policy.rules)
        file, directory = Kind.FILE, Kind.DIRECTORY
        # Of these there are a hundred thousand: their defaults are filled in once for all.
        new, rest = tuple.__new__, _REST
        found: list[FileRecord] = []
        for path in paths:
            digest = digests.pop(path[1:], None)
            if path in settings:
                found.append(settings.pop(path))
                continue
            kind = file if digest else directory if path in directories else None
            record = new(FileRecord, (path, path, kind, digest, *rest))
            if twice and path[1:] in twice:
                record = record._replace(also=twice[path[1:]])
            if always or path in declared:
                record = self._policy.applied(record, package.name)
            found.append(record)
        if any(not record.path.startswith("/") for record in found):
            self.report(Gap(f"the file list of {package.name}", "a line that is no path"))
            found = [record for record in found if record.path.startswith("/")]
        found += settings.values()
        if digests and paths:
            self._report_unlisted(package, list(digests))
        for name, digest in digests.items():
            record = FileRecord(f"/{name}", f"/{name}", Kind.FILE, digest, also=twice.get(name, ()))
            found.append(self._policy.applied(record, package.name))
        return found

    def _settled(
        self, package: Package, digests: dict[str, str], twice: Mapping[str, tuple[str, ...]]
    ) -> dict[str, FileRecord]:
        """The configuration, by its path. Where the list of digests tells another digest of a path, that
        path is held against both, as a plain file: of two places that contradict each other the worse
        counts."""
        found = {}
        for record in self.configuration(package):
            told = digests.pop(record.path[1:], None)
            if told is not None and record.digest is not None and told != record.digest:
                self._contradicts(package, record.path, told, record.digest)
                record = record._replace(config=False, also=(told, *twice.get(record.path[1:], ())))
            elif told is not None and record.digest is None:
                record = record._replace(digest=told, also=twice.get(record.path[1:], ()))
            found[record.path] = record
        return found

    def _contradicts(self, package: Package, path: str, one: str, other: str) -> None:
        why = f"two places of the record contradict each other: {one} and {other}"
        self.report(Gap(f"what is on record of {path} of {package.name}", why))

    def _report_unlisted(self, package: Package, left: Sequence[str]) -> None:
        """Report what has a digest on record, and stands on no list of the package."""
        more = f" and {len(left) - 1:,} more" if len(left) > 1 else ""
        why = "it has a digest on record, and is not on the package's list"
        self.report(Gap(f"/{left[0]}{more} of {package.name}", why))

    def configuration(self, package: Package) -> list[FileRecord]:
        found = []
        for line in (package.fields.get("Conffiles") or "").split("\n"):
            parts = line.split()
            if len(parts) < 2 or not parts[0].startswith("/"):
                continue
            path, digest, *flags = parts
            known = len(digest) == 32 and _HEX.issuperset(digest)
            record = FileRecord(
                path,
                path,
                Kind.FILE,
                f"md5:{digest}" if known else None,
                config=True,
                mark=Role.CONFIG,
            )
            if flags:
                gone = LocalPolicy(Sort.CONFIGURATION, places.STATUS, _NO_LONGER)
                record = record._replace(excuse=_NO_LONGER, policies=(gone,), plain=record)
            found.append(self._policy.applied(record, package.name))
        return found

    def _digests(self, package: Package) -> DigestList:
        """Digests by path, without the first slash. Lines that are none are reported."""
        path = self._info_path(package.name, package.architecture, "md5sums")
        if path is None:
            beside = f"{places.STATUS_PARTS}/{package.name}.md5sums"
            path = beside if self.tree.exists(beside) else None
        if path is None:
            return NO_DIGESTS
        try:
            found = read_digest_list(self.tree.read(path))
        except AccessError as error:
            self.report(Gap(f"the digests of {package.name} ({path})", error.what))
            return NO_DIGESTS
        report_damages(self.report, path, found.damages)
        return found

    # -- needs -----------------------------------------------------------------------------

    def takes_place(self, one: Package, other: Package) -> bool:
        """Debian Policy, section 7.6.1: a package may overwrite files of one that it says it replaces."""
        return one.name != other.name and any(
            overwrites(term, other)
            for need in self.needs(one)
            if need.kind is Relation.REPLACES
            for term in terms_of(need.condition)
        )

    def needs(self, package: Package) -> tuple[Need, ...]:
        return needs_told(package, self.report)

    def capabilities(self, package: Package) -> tuple[Capability, ...]:
        return capabilities_told(package, self.report)

    @cached_property
    def rules(self) -> DebRules:
        return DebRules(
            self.architecture, self._machines(), lambda: self._settings[0], lambda: self._never_left
        )

    @cached_property
    def _settings(self) -> tuple[dict[str, str], dict[str, list[str]]]:
        return read_settings(self.tree, self.report)

    @cached_property
    def _never_left(self) -> Expressions:
        return never_left_over(self._settings[1], self.report)

    def _machines(self) -> Sequence[str]:
        told = text_of(read_or_report(self.tree, places.ARCHITECTURES, self.report)).split()
        own = told or ([self.architecture] if self.architecture else [])
        return [*own, "all"] if own else []

    @property
    def report_unclaimed(self) -> Callable[[], None]:  # type: ignore[override]
        return self._report_unclaimed

    # -- the rest --------------------------------------------------------------------------

    def scripts(self, package: Package) -> tuple[Script, ...]:
        found = []
        for name in _SCRIPTS:
            path = self._info_path(package.name, package.architecture, name)
            if path is not None:
                try:
                    found.append(Script(name, self.tree.observe(path).size))
                except AccessError:
                    found.append(Script(name, None))
        return tuple(found)

    def fields(self, package: Package) -> Mapping[str, str]:
        return package.fields

    @cached_property
    def policy(self) -> DeclaredPolicy:  # type: ignore[override]
        return DeclaredPolicy(
            lambda: read_managed_links(
                self.tree, places.LINK_GROUPS, places.CHOSEN_LINKS, self.report
            ),
            lambda: self._policy.relocations,
        )

    @cached_property
    def history(self) -> "DebHistory":  # type: ignore[override]
        from filigree.families.deb.history import DebHistory

        return DebHistory(self.tree, self.report)

    def repositories(self, judging: Judging) -> "DebRepositories":
        """What the system is configured to install from."""
        from filigree.families.deb.repositories import DebRepositories

        machines = [machine for machine in self.rules.machines if machine != "all"]
        return DebRepositories(self.tree, self.report, machines, judging)

    hook_places = places.HOOKS
    kept_endings = (".dpkg-old", ".dpkg-dist", ".dpkg-new", ".dpkg-bak", ".ucf-old", ".ucf-dist")

    def script_texts(self, package: Package) -> Iterator[str]:
        for name in _SCRIPTS:
            path = self._info_path(package.name, package.architecture, name)
            if path is not None:
                yield text_of(read_or_report(self.tree, path, self.report))

    def place_of(self, package: Package) -> str:
        return self._info_path(package.name, package.architecture, "md5sums") or places.STATUS

    def index_folders(self) -> Sequence[str]:
        return (places.LISTS,)

    def archive_folders(self) -> Sequence[str]:
        return (places.ARCHIVES,)

    def keeper_of(self, path: str) -> Package | None:
        directory, _, name = path.rpartition("/")
        if directory not in (places.INFO, places.STATUS_PARTS):
            return None
        stem = name.rpartition(".")[0] if directory == places.INFO else name
        for package in self._packages:
            if stem in (package.name, f"{package.name}:{package.architecture}"):
                return package
        return None
