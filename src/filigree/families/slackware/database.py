"""The installed packages of a `slackware` system, read afresh from the root: a text for each.

On record are names, sizes, words and paths. What a package needs is told by lists of what is offered, of
the same build alone; what its files are to be by a listing of the archives, where one is at hand.
"""

from collections import Counter
from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property, lru_cache
from typing import TYPE_CHECKING
from zlib import compress, decompress

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Judging, Report
from filigree.families.shared.damaged import sound_needs
from filigree.families.shared.defaults import DatabaseDefaults
from filigree.families.shared.listing import PathListing
from filigree.families.shared.looking import read_or_report
from filigree.families.shared.not_a_package import NotAPackage
from filigree.families.slackware import described, places
from filigree.families.slackware.history import RemovedRecords
from filigree.families.slackware.lists import Lists, label_told
from filigree.families.slackware.rules import SlackwareRules
from filigree.families.slackware.scripts import script_needs
from filigree.families.slackware.settings import left_out
from filigree.formats.damage import text_of
from filigree.formats.slackware.long_listing import Block, ListedEntry
from filigree.formats.slackware.records import Record, paths_of, read_record
from filigree.formats.slackware.scripts import MadeLink, read_links, read_settings
from filigree.model.answer import Gap, moment_of
from filigree.model.errors import AccessError, DatabaseError
from filigree.model.files import Aspect, FileRecord, Kind
from filigree.model.limits import PATH_LIMIT
from filigree.model.needs import Capability, Need, Relation
from filigree.model.package import Package, Script, State

if TYPE_CHECKING:
    from filigree.families.slackware.repositories import SlackwareRepositories

RECORD_LIMIT = 64 << 20
_HEAD, _HEAD_LIMIT = 8 << 10, 1 << 20
_SCRIPT_LIMIT = 16 << 20
_BYTES_A_PATH = 40
ALWAYS = frozenset({Aspect.PRESENCE, Aspect.KIND, Aspect.LINK_TARGET})
LISTED = frozenset({Aspect.SIZE, Aspect.MODE, Aspect.OWNER, Aspect.GROUP, Aspect.MODIFIED})


class SlackwareDatabase(DatabaseDefaults):
    """Every record of the root's database; what cannot be read is reported, and costs itself."""

    def __init__(self, tree: Tree, report: Report) -> None:
        self.tree = tree
        self.report = report
        self._records: dict[Package, str] = {}
        self._listed: dict[str, bytes] = {}
        self._needs_reported = False
        self._packages = self._read_packages()
        self._texts = lru_cache(maxsize=4)(self._read_text)
        self._made = lru_cache(maxsize=64)(self._read_made)

    # -- packages --------------------------------------------------------------------------

    def packages(self) -> Sequence[Package]:
        return self._packages

    @cached_property
    def architecture(self) -> str | None:
        """What most packages are built for."""
        counts = Counter(
            p.architecture for p in self._packages if p.architecture not in described.ANYWHERE
        )
        return counts.most_common(1)[0][0] if counts else None

    def _read_packages(self) -> list[Package]:
        stays = left_out(self.tree, self.report)
        found: list[Package] = []
        told: set[str] = set()
        for folder in self._folders(places.RECORDS):
            try:
                names = self.tree.names(folder)
            except AccessError as error:
                raise DatabaseError(
                    f"the package database cannot be read: {error.what}", folder,
                    "run as a user who may read it, or check that the disk is mounted whole",
                ) from error  # fmt: skip
            for name in names:
                package = self._read_package(f"{folder}/{name}", name)
                if package is None:
                    continue
                if name in told:
                    self.report(Gap(f"{folder}/{name}", "it is on record in two places"))
                    continue
                told.add(name)
                if stays(package):
                    package = replace(package, held=True)
                self._records[package] = f"{folder}/{name}"
                found.append(package)
        if not found:
            self.report(Gap(places.RECORDS[0], "the package database is empty"))
        return found

    def _folders(self, known: Sequence[str]) -> list[str]:
        """The folders that are there; one that is reached in two ways once."""
        found: dict[str, str] = {}
        for folder in known:
            if self.tree.is_directory(folder):
                found.setdefault(self.tree.real_path(folder), folder)
        return list(found.values())

    def _read_package(self, path: str, name: str) -> Package | None:
        try:
            seen = self.tree.observe(path)
            if seen.kind is not Kind.FILE:
                if seen.kind is not Kind.DIRECTORY:
                    self.report(Gap(path, f"it is a {seen.kind.value}, and no record"))
                return None
            label = described.label_of(name)
            record = self._head(path)
        except (AccessError, NotAPackage) as error:
            self.report(Gap(path, error.what if isinstance(error, AccessError) else str(error)))
            return None
        own = record.told.fields.get("PACKAGE NAME")
        if own != str(label):
            what = f"it is of {own}: it is called otherwise" if own else "it names no package"
            self.report(Gap(path, what))
        more = {"installed_at": moment_of(seen.modified // 10**9)}
        return described.package_of(label, record.told, State.INSTALLED, more)

    def _head(self, path: str) -> Record:
        """What is told of a package: what stands before its paths."""
        source = self.tree.lend(path)
        try:
            size = _HEAD
            while True:
                record = read_record(text_of(source.at(0, size)))
                if record.paths_at is not None or size >= min(source.size, _HEAD_LIMIT):
                    return record
                size *= 8
        finally:
            source.close()

    def _read_text(self, package: Package) -> tuple[str, Record]:
        path = self._records[package]
        text = text_of(read_or_report(self.tree, path, self.report, RECORD_LIMIT))
        record = read_record(text)
        if record.paths_at is None:
            self.report(Gap(path, "it has no list of paths: it is cut off, or no record"))
        return text, record

    # -- files -----------------------------------------------------------------------------

    @property
    def aspects(self) -> frozenset[Aspect]:
        """With a listing of the archives more of each file is told."""
        return ALWAYS | LISTED if self._listed else ALWAYS

    def _written(self, package: Package) -> list[str]:
        found = paths_of(*self._texts(package))
        if any(len(one) > PATH_LIMIT for one in found):
            why = "lines that are longer than paths are"
            self.report(Gap(self._records[package], why))
            return [one for one in found if len(one) <= PATH_LIMIT]
        return found

    def _read_made(self, package: Package) -> tuple[list[MadeLink], list[str]]:
        """The links that a package's script makes, and the configuration that it puts in place."""
        text = "\n".join(self.script_texts(package))
        return read_links(text), read_settings(text)

    def listing(self, package: Package) -> PathListing:
        return PathListing(described.all_paths(self._written(package), *self._made(package)))

    def listings(self) -> Iterator[tuple[Package, PathListing]]:
        for package in self._packages:
            yield package, self.listing(package)

    @property
    def made_paths(self) -> Callable[[Package], Collection[str]]:  # type: ignore[override]
        return self._made_paths

    def _made_paths(self, package: Package) -> Collection[str]:
        """Links, and configuration where it is put."""
        listed = {path for path, _ in described.installed_paths(self._written(package))}
        return set(self.listing(package)) - listed

    def path_count(self, package: Package) -> int:
        try:
            return self.tree.observe(self._records[package]).size // _BYTES_A_PATH + 1
        except AccessError:
            return 1

    @property
    def prepare(self) -> Callable[[Sequence[Package]], None]:  # type: ignore[override]
        return self._prepare

    def _prepare(self, packages: Sequence[Package]) -> None:
        """Look up in the listings of archives what files of these very builds are to be."""
        labels = [described.called(package) for package in packages]
        found = Lists(self.tree, places.LISTS, self.report).listings(labels)
        # There may be a million lines: they are kept packed, and made sense of by whoever needs them.
        self._listed = {label: compress(b"\n".join(one.lines), 1) for label, one in found.items()}

    def files(self, package: Package) -> list[FileRecord]:
        shipped = (
            FileRecord(path, path, Kind.DIRECTORY if folder else Kind.FILE)
            for path, folder in described.installed_paths(self._written(package))
        )
        told = dict(self._entries(package))
        records = [_with_entry(one, told.pop(one.path, None)) for one in shipped]
        records += self._unlisted(package, told, bool(records))
        return list(described.records_of(records, *self._made(package)))

    def _unlisted(
        self, package: Package, told: Mapping[str, ListedEntry], recorded: bool
    ) -> Iterator[FileRecord]:
        """What the listing of its archive tells of, and the record of a package does not."""
        left = [path for path in told if path not in ("/", "/install") and path[:9] != "/install/"]
        if left and recorded:
            more = f" and {len(left) - 1:,} more" if len(left) > 1 else ""
            why = "the listing of its archive has it, and the record has not"
            self.report(Gap(f"{left[0]}{more} of {package.name}", why))
        for path in left:
            yield _with_entry(FileRecord(path, path), told[path])

    def _entries(self, package: Package) -> Iterator[tuple[str, ListedEntry]]:
        """What a listing of its archive says of each path of a package."""
        packed = self._listed.get(described.called(package))
        if packed is None:
            return
        lines = decompress(packed).split(b"\n")
        for number, one in enumerate(Block("", lines, 1).entries(), 1):
            if isinstance(one, ListedEntry):
                yield f"/{one.path.removeprefix('./').strip('/')}", one
            else:
                self.report(Gap(f"what is listed of {package.name}, line {number}", one.why))

    def configuration(self, package: Package) -> list[FileRecord]:
        return [record for record in self.files(package) if record.config]

    # -- needs -----------------------------------------------------------------------------

    @cached_property
    def _needs(self) -> Mapping[str, list[tuple[Relation, str]]]:
        """What lists below the root tell of the needs of installed builds, by label."""
        here = {described.called(package) for package in self._packages}
        found: dict[str, list[tuple[Relation, str]]] = {}
        for told in Lists(self.tree, places.LISTS, self.report).usable_stanzas():
            try:
                label = label_told(told)
            except NotAPackage:
                continue
            if label in here and described.tells_needs(told.fields):
                found[label] = list(described.needs_in(told.fields))
        return script_needs(self.tree, self.report, self._packages) | found

    def needs(self, package: Package) -> tuple[Need, ...]:
        texts = self._needs.get(described.called(package))
        if texts is None:
            self._report_needs()
            return ()
        return needs_told(texts, package, self.report)

    def _report_needs(self) -> None:
        if not self._needs_reported:
            self._needs_reported = True
            known, every = len(self._needs), len(self._packages)
            told = f"lists tell it of {known:,} of {every:,}, for the same build" if known else ""
            why = f"this family does not record it; {told or 'and no list here tells it'}"
            self.report(Gap("what installed packages need", why))

    def capabilities(self, package: Package) -> tuple[Capability, ...]:
        return described.capabilities_of(package)

    @cached_property
    def rules(self) -> SlackwareRules:
        return SlackwareRules(self.architecture)

    # -- the rest --------------------------------------------------------------------------

    kept_endings = (".new", ".orig")

    def scripts(self, package: Package) -> tuple[Script, ...]:
        return tuple(
            Script("doinst.sh", len(text.encode("utf-8", "surrogateescape")))
            for text in self.script_texts(package)
        )

    def script_texts(self, package: Package) -> Iterator[str]:
        name = self._records[package].rpartition("/")[2]
        for folder in self._script_folders:
            data = read_or_report(self.tree, f"{folder}/{name}", self.report, _SCRIPT_LIMIT)
            if data:
                yield text_of(data)
                return

    @cached_property
    def _script_folders(self) -> list[str]:
        return self._folders(places.SCRIPTS)

    def fields(self, package: Package) -> Mapping[str, str]:
        return package.fields

    @cached_property
    def history(self) -> RemovedRecords:  # type: ignore[override]
        return RemovedRecords(self.tree, self._folders(places.REMOVED), self.report)

    def repositories(self, judging: Judging) -> "SlackwareRepositories":
        """What the system is configured to install from."""
        from filigree.families.slackware.repositories import SlackwareRepositories

        return SlackwareRepositories(self.tree, self.report, self.architecture, judging)

    def place_of(self, package: Package) -> str:
        return self._records[package]

    def index_folders(self) -> Sequence[str]:
        return (places.LISTS,)

    def archive_folders(self) -> Sequence[str]:
        return (places.ARCHIVES,)

    def keeper_of(self, path: str) -> Package | None:
        name = path.rpartition("/")[2]
        return next(
            (p for p in self._packages if self._records[p].rpartition("/")[2] == name), None
        )


def _with_entry(record: FileRecord, entry: ListedEntry | None) -> FileRecord:
    """What is on record of a path, with what the listing of its archive says of it."""
    if entry is None:
        return record
    is_file = entry.kind is Kind.FILE
    return record._replace(
        kind=entry.kind, size=entry.size if is_file else None,
        mode=None if entry.kind is Kind.LINK else entry.mode, owner=entry.owner, group=entry.group,
        link_target=entry.target, device=entry.device,
        modified=entry.modified if is_file else None, time_resolution=entry.time_resolution,
    )  # fmt: skip


def needs_told(
    texts: Sequence[tuple[Relation, str]], package: Package, report: Report
) -> tuple[Need, ...]:
    """The needs of a package; what does not parse is reported."""
    return tuple(sound_needs(described.needs_of(texts), package, report))
