"""The installed packages of an `apk` system, read afresh from the root: all in one file."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from typing import TYPE_CHECKING

from filigree.access.trees.protocol import Tree
from filigree.families.apk import described, places
from filigree.families.apk.caches import cache_folders
from filigree.families.apk.rules import ApkRules, term_is_met
from filigree.families.protocol import Judging, Report
from filigree.families.shared.damaged import report_damages, sound_needs
from filigree.families.shared.defaults import DatabaseDefaults
from filigree.families.shared.listing import PathListing
from filigree.families.shared.looking import names_in, read_or_report
from filigree.families.shared.not_a_package import NotAPackage
from filigree.formats.apk.binary import is_binary, read_binary_records
from filigree.formats.apk.protection import (
    USUAL,
    ProtectedPath,
    is_below,
    protection_of,
    read_protected,
)
from filigree.formats.apk.records import LetteredRecord, RecordedPath, read_records
from filigree.formats.apk.relations import PackageRelation, relations_in
from filigree.formats.damage import Damage, text_of
from filigree.formats.members import PayloadError
from filigree.formats.random_access import MemoryBytes
from filigree.formats.tar_stream import read_small_tar
from filigree.formats.unpacking import Unpacked, UnpackError
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, DatabaseError, words_of
from filigree.model.files import FileRecord, Kind, LocalPolicy, Sort
from filigree.model.limits import PATH_LIMIT
from filigree.model.needs import Capability, Comparison, Need
from filigree.model.package import Package, Reason, Script

if TYPE_CHECKING:
    from filigree.families.apk.repositories import ApkRepositories
    from filigree.families.shared.logs import LoggedHistory

INSTALLED_LIMIT = 1 << 30
_SMALL = 4 << 20
_DAMAGES = 20
"""So many damages of one file are told one by one."""


class ApkDatabase(DatabaseDefaults):
    """Every record of the root's database; what cannot be read is reported, and costs itself."""

    aspects = described.ASPECTS
    hook_places = places.HOOKS
    kept_endings = (places.KEPT_ENDING,)

    def __init__(self, tree: Tree, report: Report) -> None:
        self.tree = tree
        self.report = report
        self.folder = folder_of(tree)
        self._paths: dict[Package, list[RecordedPath]] = {}
        self.world = self._read_world()
        self._triggers = self._read_triggers()
        self._packages = [self._with_reason(one) for one in self._read_packages()]

    # -- packages --------------------------------------------------------------------------

    @property
    def _installed(self) -> str:
        return f"{self.folder}/{places.INSTALLED}"

    def packages(self) -> Sequence[Package]:
        return self._packages

    def _read_packages(self) -> Iterator[Package]:
        damages: list[Damage] = []
        found = False
        try:
            data = self.tree.read(self._installed, INSTALLED_LIMIT)
        except AccessError as error:
            raise DatabaseError(
                f"the package database cannot be read: {error.what}", self._installed,
                "run as a user who may read it, or check that the disk is mounted whole",
            ) from error  # fmt: skip
        for one in read_binary_records(data) if is_binary(data) else read_records([data]):
            if isinstance(one, Damage):
                damages.append(one)
                continue
            damages += one.damages
            try:
                package = described.package_of(one.fields)
            except NotAPackage as error:
                damages.append(Damage(one.line, str(error)))
                continue
            self._paths[package] = self._sound_paths(one, package)
            found = True
            yield package
        report_damages(self.report, self._installed, damages[:_DAMAGES])
        if len(damages) > _DAMAGES:
            why = f"{len(damages) - _DAMAGES:,} more lines make no sense"
            self.report(Gap(self._installed, why))
        if not found:
            self.report(Gap(self._installed, "the package database is empty"))

    def _sound_paths(self, record: LetteredRecord, package: Package) -> list[RecordedPath]:
        if all(len(one.path) <= PATH_LIMIT for one in record.paths):
            return record.paths
        self.report(Gap(f"the files of {package.name}", "paths that are longer than paths are"))
        return [one for one in record.paths if len(one.path) <= PATH_LIMIT]

    @cached_property
    def architecture(self) -> str | None:
        """What the system is set to be; or else what most packages are built for."""
        told = text_of(read_or_report(self.tree, places.MACHINE, self.report, _SMALL)).split()
        if told:
            return told[0]
        counts = Counter(p.architecture for p in self._packages if p.architecture != described.ANY)
        return counts.most_common(1)[0][0] if counts else None

    # -- what a person asked for -----------------------------------------------------------

    def _read_world(self) -> list[PackageRelation] | None:
        """What was chosen; None where nothing tells."""
        if not self.tree.exists(places.WORLD):
            self.report(Gap(places.WORLD, "there is no such file: nothing tells what was chosen"))
            return None
        data = read_or_report(self.tree, places.WORLD, self.report, _SMALL)
        found = []
        for one in relations_in(text_of(data)):
            if isinstance(one, PackageRelation):
                found.append(one)
            else:
                self.report(Gap(places.WORLD, str(one)))
        return found

    def _with_reason(self, package: Package) -> Package:
        """A package with why it is there, and whether it is to stay at its version."""
        if self.world is None:
            return package
        names = described.capabilities_of(described.fields_of(package), package)
        mine = [
            one for one in self.world
            if not one.away and any(term_is_met(one.term, name) for name in names)
        ]  # fmt: skip
        reason = Reason.CHOSEN if mine else Reason.DEPENDENCY
        held = any(
            one.identity is not None or one.term.comparison is Comparison.EQUAL
            for one in mine
            if one.term.name == package.name
        )
        found = replace(package, reason=reason, held=held)
        self._paths[found] = self._paths.pop(package)
        return found

    # -- files -----------------------------------------------------------------------------

    def listing(self, package: Package) -> PathListing:
        return PathListing([f"/{one.path}" for one in self._paths[package]])

    def listings(self) -> Iterator[tuple[Package, PathListing]]:
        return ((package, self.listing(package)) for package in self._packages)

    def path_count(self, package: Package) -> int:
        return len(self._paths[package])

    def files(self, package: Package) -> list[FileRecord]:
        return [self._with_protection(one) for one in described.records_of(self._paths[package])]

    def _with_protection(self, record: FileRecord) -> FileRecord:
        """A record, with what an administrator may change: as usual, or as the system's own lists say."""
        if record.kind is Kind.DIRECTORY:
            return record
        path = record.path[1:]
        usual = described.is_kept(protection_of(path, USUAL))
        plain = described.as_configuration(record) if usual else record
        last = next((one for one in reversed(self._protected) if is_below(path, one.path)), None)
        if last is None or described.is_kept(last.protection) is usual:
            return plain
        place, protection = last.place, last.protection
        words = f"the system's own lists say so of it: {protection.value}{last.path}"
        policy = LocalPolicy(Sort.CONFIGURATION, place, words)
        found = record if usual else described.as_configuration(record)
        return found._replace(policies=(policy,), plain=plain)

    @cached_property
    def _protected(self) -> list[ProtectedPath]:
        found = []
        for name in names_in(self.tree, places.PROTECTED, self.report):
            if not name.endswith(".list"):
                continue
            path = f"{places.PROTECTED}/{name}"
            for one in read_protected(read_or_report(self.tree, path, self.report, _SMALL)):
                if isinstance(one, Damage):
                    self.report(Gap(f"{path}, line {one.line}", one.why))
                else:
                    found.append(one._replace(place=path))
        return found

    def configuration(self, package: Package) -> list[FileRecord]:
        return [record for record in self.files(package) if record.config]

    def takes_place(self, package: Package, other: Package) -> bool:
        """Whether the files of one take the place of another's: where it says so, or, where both do, the
        one of the higher priority."""
        mine, theirs = described.fields_of(package), described.fields_of(other)
        if not _replaces(mine, other):
            return False
        if not _replaces(theirs, package):
            return True
        return _priority(mine) > _priority(theirs)

    # -- needs -----------------------------------------------------------------------------

    def needs(self, package: Package) -> tuple[Need, ...]:
        return needs_told(package, self.report)

    def capabilities(self, package: Package) -> tuple[Capability, ...]:
        return described.capabilities_of(described.fields_of(package), package)

    @cached_property
    def rules(self) -> ApkRules:
        return ApkRules(self.architecture)

    # -- the rest --------------------------------------------------------------------------

    @cached_property
    def _scripts(self) -> dict[str, bytes]:
        """The scripts of all packages, by the names of their members."""
        for name in places.SCRIPTS:
            path = f"{self.folder}/{name}"
            data = read_or_report(self.tree, path, self.report, INSTALLED_LIMIT)
            if not data:
                continue
            source = MemoryBytes(data)
            try:
                return read_small_tar(Unpacked(source, 0, source.size), _SMALL)
            except (PayloadError, UnpackError) as error:
                self.report(Gap(path, words_of(error)))
        return {}

    def _scripts_of(self, package: Package) -> Iterator[tuple[str, bytes]]:
        lead = f"{package.name}-{package.version}."
        for member, text in self._scripts.items():
            if member.startswith(lead):
                # Between them stands the identity of the package.
                yield member[len(lead) :].partition(".")[2], text

    def scripts(self, package: Package) -> tuple[Script, ...]:
        return tuple(Script(name, len(text)) for name, text in self._scripts_of(package))

    def script_texts(self, package: Package) -> Iterator[str]:
        return (text_of(text) for _, text in self._scripts_of(package))

    @cached_property
    def history(self) -> "LoggedHistory | None":  # type: ignore[override]
        from filigree.families.shared.logs import LoggedHistory
        from filigree.formats.apk.log import read_log, read_runs

        if not self.tree.exists(places.LOG):
            return None
        return LoggedHistory(self.tree, places.LOG, read_log, self.report, read_runs)

    def fields(self, package: Package) -> Mapping[str, str]:
        paths = self._triggers.get(package.fields.get("identity", ""))
        return package.fields if paths is None else {**package.fields, "triggers": paths}

    def _read_triggers(self) -> dict[str, str]:
        """Below which paths a change sets off a package's trigger, by its identity."""
        path = f"{self.folder}/{places.TRIGGERS}"
        lines = text_of(read_or_report(self.tree, path, self.report, _SMALL)).split("\n")
        told = (line.partition(" ") for line in lines)
        return {identity: paths for identity, space, paths in told if space}

    def repositories(self, judging: Judging) -> "ApkRepositories":
        """What the system is configured to install from."""
        from filigree.families.apk.repositories import ApkRepositories

        return ApkRepositories(self.tree, self.report, self.architecture, judging)

    def place_of(self, package: Package) -> str:
        del package  # all are in one file
        return self._installed

    def index_folders(self) -> Sequence[str]:
        return cache_folders(self.tree, self.report)

    def archive_folders(self) -> Sequence[str]:
        return cache_folders(self.tree, self.report)

    def keeper_of(self, path: str) -> Package | None:
        del path  # what is beside the records belongs to all
        return None


def folder_of(tree: Tree) -> str:
    """Where the records of a root lie."""
    return next(
        (one for one in places.RECORDS if tree.exists(f"{one}/{places.INSTALLED}")),
        places.RECORDS[0],
    )


def needs_told(package: Package, report: Report) -> tuple[Need, ...]:
    """The needs of a package; what does not parse is reported."""
    return tuple(sound_needs(described.needs_of(described.fields_of(package)), package, report))


def _replaces(fields: described.Fields, other: Package) -> bool:
    own = Capability(other.name, other.version)
    return any(term_is_met(term, own) for term in described.replaced_by(fields))


def _priority(fields: described.Fields) -> int:
    text = fields.get("q", "")
    return int(text) if text.isascii() and text.isdigit() and len(text) < 10 else 0
