"""The installed packages of an `arch` system, read afresh from the root: a folder for each."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property, lru_cache
from typing import TYPE_CHECKING, Any

from filigree.access.trees.protocol import Tree
from filigree.families.arch import described, places
from filigree.families.arch.needs import ANY
from filigree.families.arch.offers import read_offers
from filigree.families.arch.rules import ArchRules
from filigree.families.arch.settings import option_words, read_settings, told_words
from filigree.families.protocol import Judging, Report
from filigree.families.shared.damaged import sound_needs
from filigree.families.shared.defaults import DatabaseDefaults
from filigree.families.shared.expressions import Expressions
from filigree.families.shared.indexes import unpacked_pieces
from filigree.families.shared.listing import PathListing
from filigree.families.shared.looking import names_in, read_or_report
from filigree.families.shared.not_a_package import NotAPackage
from filigree.formats.arch.field_blocks import read_blocks
from filigree.formats.arch.mtree import ListedFile, read_listing
from filigree.formats.damage import Damage, text_of
from filigree.formats.members import PayloadError
from filigree.formats.patterns import glob
from filigree.formats.random_access import MemoryBytes
from filigree.formats.unpacking import Unpacked, UnpackError
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, DatabaseError, words_of
from filigree.model.files import FileRecord, LocalPolicy, Sort
from filigree.model.limits import PATH_LIMIT
from filigree.model.needs import Capability, Need
from filigree.model.package import Package, Script

if TYPE_CHECKING:
    from filigree.families.arch.repositories import ArchRepositories
    from filigree.families.shared.logs import LoggedHistory

LISTING_LIMIT = 256 << 20
_FIELDS_LIMIT = 16 << 20
_BYTES_A_PATH = 45
_NO_PATHS = PathListing()


class ArchDatabase(DatabaseDefaults):
    """Every record of the root's database; what cannot be read is reported, and costs itself."""

    aspects = described.ASPECTS

    def __init__(self, tree: Tree, report: Report) -> None:
        self.tree = tree
        self.report = report
        self._folders: dict[Package, str] = {}
        self._globs: dict[str, Expressions] = {}
        self._settings = read_settings(tree, report) if tree.exists(places.SETTINGS) else []
        self._packages = self._read_packages()
        self._paths = lru_cache(maxsize=4)(self._read_paths)

    # -- packages --------------------------------------------------------------------------

    def packages(self) -> Sequence[Package]:
        return self._packages

    @cached_property
    def architecture(self) -> str | None:
        """What most packages are built for, unless the configuration names it."""
        told = [word for word in option_words(self._settings, "Architecture") if word != "auto"]
        if told:
            return told[0]
        counts = Counter(p.architecture for p in self._packages if p.architecture != ANY)
        return counts.most_common(1)[0][0] if counts else None

    def _read_packages(self) -> list[Package]:
        try:
            names = self.tree.names(places.LOCAL)
        except AccessError as error:
            raise DatabaseError(
                f"the package database cannot be read: {error.what}", places.LOCAL,
                "run as a user who may read it, or check that the disk is mounted whole",
            ) from error  # fmt: skip
        found = []
        for name in names:
            folder = f"{places.LOCAL}/{name}"
            if not self.tree.is_directory(folder):
                continue  # the version of the database itself
            fields = read_blocks(
                read_or_report(self.tree, f"{folder}/desc", self.report, _FIELDS_LIMIT)
            )
            try:
                package = described.package_of(fields, more=self._more(fields))
            except NotAPackage as error:
                self.report(Gap(f"{folder}/desc", str(error)))
                continue
            if name != f"{package.name}-{package.version}":
                called = f"{package.name}-{package.version}"
                self.report(
                    Gap(f"{folder}/desc", f"it is of {called}: its folder is called otherwise")
                )
            self._folders[package] = folder
            found.append(package)
        if not found:
            self.report(Gap(places.LOCAL, "the package database is empty"))
        return self._held_by_index(found)

    def _held_by_index(self, packages: list[Package]) -> list[Package]:
        """The packages, those held too that only an index puts in a group that is left alone."""
        if not told_words(self._settings, "IgnoreGroup") or not self.tree.exists(places.SYNC):
            return packages
        groups, names = self._named("IgnoreGroup"), set[str]()
        for called in names_in(self.tree, places.SYNC, self.report):
            if not called.endswith(".db"):
                continue
            path = f"{places.SYNC}/{called}"
            try:
                for offer in read_offers(unpacked_pieces(self.tree, path), path, self.report):
                    if any(how == "group" and groups.any(name) for how, name in offer.named):
                        names.add(offer.name)
            except (AccessError, UnpackError, PayloadError) as error:
                why = f"which packages its groups hold was not read to its end: {words_of(error)}"
                self.report(Gap(path, why))
        held = []
        for package in packages:
            one = replace(package, held=True) if package.name in names else package
            self._folders[one] = self._folders[package]
            held.append(one)
        return held

    def _more(self, fields: described.Fields) -> Mapping[str, Any]:
        name = described.first(fields, "NAME") or ""
        held = self._named("IgnorePkg").any(name) or any(
            map(self._named("IgnoreGroup").any, fields.get("GROUPS", ()))
        )
        return {"held": held, "protected": self._named("HoldPkg").any(name)}

    def _named(self, setting: str) -> Expressions:
        """The globs of a setting, made sense of once."""
        if setting not in self._globs:
            told = told_words(self._settings, setting)
            self._globs[setting] = Expressions(told, glob, f"what {setting} names", self.report)
        return self._globs[setting]

    @staticmethod
    def _fields(package: Package) -> dict[str, list[str]]:
        """The fields of a package's description."""
        return {name: text.split("\n") for name, text in package.fields.items()}

    def _read_paths(self, package: Package) -> dict[str, list[str]]:
        """The paths of a package, and which of them are configuration."""
        path = f"{self._folders[package]}/files"
        found = read_blocks(read_or_report(self.tree, path, self.report, LISTING_LIMIT))
        paths = found.get("FILES", [])
        if any(len(one) > PATH_LIMIT for one in paths):
            self.report(Gap(path, "lines that are longer than paths are"))
            found["FILES"] = [one for one in paths if len(one) <= PATH_LIMIT]
        return found

    # -- files -----------------------------------------------------------------------------

    def listing(self, package: Package) -> PathListing:
        paths = self._paths(package).get("FILES")
        return PathListing([f"/{path.strip('/')}" for path in paths]) if paths else _NO_PATHS

    def listings(self) -> Iterator[tuple[Package, PathListing]]:
        for package in self._packages:
            yield package, self.listing(package)

    def path_count(self, package: Package) -> int:
        try:
            size = self.tree.observe(f"{self._folders[package]}/files").size
        except AccessError:
            return 1
        return size // _BYTES_A_PATH + 1

    def files(self, package: Package) -> list[FileRecord]:
        told = self._paths(package)
        listed = self._listed(package)
        paths = told.get("FILES", ())
        # Of two lists that do not tell the same the worse counts: what either has is looked at.
        left = self._unlisted(package, paths, listed)
        found = described.records_of([*paths, *left], listed, described.settings_of(told))
        return [self._with_policy(record) for record in found] if self._left_out else list(found)

    def _unlisted(
        self, package: Package, paths: Sequence[str], listed: dict[str, ListedFile]
    ) -> list[str]:
        """What the listing tells of, and the list of paths does not; it is reported."""
        written = {f"/{path.strip('/')}" for path in paths}
        left = [path for path in listed if path != "/" and path not in written]
        if not paths and listed:
            self.report(Gap(f"the files of {package.name}", "there is no list of its paths"))
        elif left:
            more = f" and {len(left) - 1:,} more" if len(left) > 1 else ""
            why = "the listing has it, and the list of paths has not"
            self.report(Gap(f"{left[0]}{more} of {package.name}", why))
        return left

    def _with_policy(self, record: FileRecord) -> FileRecord:
        """A record, with what the system's own settings leave out."""
        # The last pattern that fits counts; one with an exclamation mark takes back.
        last = self._left_out.last(record.path[1:])
        if last is None or last.text.startswith("!"):
            return record
        words = f"left out by the system's own settings: {last.text}"
        policy = LocalPolicy(Sort.EXCLUSION, last.place, words)
        return record._replace(excuse=words, policies=(policy,), plain=record)

    @cached_property
    def _left_out(self) -> Expressions:
        return Expressions(
            told_words(self._settings, "NoExtract"),
            lambda text: glob(text.removeprefix("!").lstrip("/")),
            "which paths are left out", self.report,
        )  # fmt: skip

    def _listed(self, package: Package) -> dict[str, ListedFile]:
        """What the listing that came with a package says, by path."""
        path = f"{self._folders[package]}/mtree"
        data = read_or_report(self.tree, path, self.report, LISTING_LIMIT)
        if not data:
            if not self.tree.exists(path):
                self.report(
                    Gap(
                        f"the files of {package.name}", "there is no listing of what they are to be"
                    )
                )
            return {}
        return read_packed_listing(data, path, self.report)

    def configuration(self, package: Package) -> list[FileRecord]:
        return [record for record in self.files(package) if record.config]

    # -- needs -----------------------------------------------------------------------------

    def needs(self, package: Package) -> tuple[Need, ...]:
        return needs_told(self._fields(package), package, self.report)

    def capabilities(self, package: Package) -> tuple[Capability, ...]:
        return described.capabilities_of(self._fields(package), package)

    @cached_property
    def rules(self) -> ArchRules:
        return ArchRules(self.architecture)

    # -- the rest --------------------------------------------------------------------------

    def scripts(self, package: Package) -> tuple[Script, ...]:
        return tuple(
            Script("install", len(text.encode("utf-8", "surrogateescape")))
            for text in self.script_texts(package)
        )

    hook_places = places.HOOKS
    kept_endings = (".pacnew", ".pacsave", ".pacorig")

    def script_texts(self, package: Package) -> Iterator[str]:
        data = read_or_report(
            self.tree, f"{self._folders[package]}/install", self.report, _FIELDS_LIMIT
        )
        if data:
            yield text_of(data)

    @cached_property
    def history(self) -> "LoggedHistory":  # type: ignore[override]
        from filigree.families.shared.logs import LoggedHistory
        from filigree.formats.change_logs import read_arch_log, read_arch_runs

        return LoggedHistory(self.tree, places.LOG, read_arch_log, self.report, read_arch_runs)

    def fields(self, package: Package) -> Mapping[str, str]:
        return package.fields

    def repositories(self, judging: Judging) -> "ArchRepositories":
        """What the system is configured to install from."""
        from filigree.families.arch.repositories import ArchRepositories

        return ArchRepositories(self.tree, self.report, self._settings, self.architecture, judging)

    def place_of(self, package: Package) -> str:
        return f"{self._folders[package]}/desc"

    def index_folders(self) -> Sequence[str]:
        return (places.SYNC,)

    def archive_folders(self) -> Sequence[str]:
        return tuple(option_words(self._settings, "CacheDir")) or (places.ARCHIVES,)

    def keeper_of(self, path: str) -> Package | None:
        folder = path.rpartition("/")[0]
        return next((p for p in self._packages if self._folders[p] == folder), None)


def read_packed_listing(data: bytes, path: str, report: Report) -> dict[str, ListedFile]:
    """A listing, whatever its compression, by path; what makes no sense is reported."""
    source = MemoryBytes(data)
    stream = Unpacked(source, 0, source.size)
    pieces = []
    try:
        while (piece := stream.read(1 << 20)) and stream.position <= LISTING_LIMIT:
            pieces.append(piece)
    except UnpackError as error:
        report(Gap(path, str(error)))
    found = {}
    for one in read_listing(b"".join(pieces)):
        if isinstance(one, Damage):
            report(Gap(f"{path}, line {one.line}", one.why))
        elif not one.path.startswith("/.") or "/" in one.path[1:]:
            found[one.path] = one  # what starts with a dot at the top describes the package itself
    return found


def needs_told(fields: described.Fields, package: Package, report: Report) -> tuple[Need, ...]:
    """The needs of a package; what does not parse is reported."""
    return tuple(sound_needs(described.needs_of(fields), package, report))
