"""An `arch` archive: one payload, whose first members describe the package."""

import re
from collections.abc import Iterator, Mapping
from dataclasses import replace
from functools import cached_property

from filigree.families.arch import described
from filigree.families.arch.database import LISTING_LIMIT, needs_told, read_packed_listing
from filigree.families.protocol import Report
from filigree.families.shared.not_a_package import NotAPackage
from filigree.families.shared.payload import Broken, from_the_top, records
from filigree.families.shared.payload_archive import OnePayload
from filigree.formats.arch.field_blocks import read_pairs
from filigree.formats.arch.mtree import ListedFile
from filigree.formats.damage import text_of
from filigree.formats.members import Algorithm, Member, PayloadError
from filigree.formats.random_access import Bytes, MemoryBytes
from filigree.formats.tar_stream import read_tar, tar_members
from filigree.formats.unpacking import Unpacked, UnpackError, compression_of
from filigree.model.answer import Gap
from filigree.model.archives import ArchiveFacts, NameParts
from filigree.model.errors import AccessError, DatabaseError, NotAnArchive
from filigree.model.files import Aspect, FileRecord, Kind, Role
from filigree.model.needs import Capability, Need
from filigree.model.package import Package, Script, State

_INFO, _LISTING, _SCRIPT = ".PKGINFO", ".MTREE", ".INSTALL"
_OWN = (_INFO, _LISTING, _SCRIPT, ".BUILDINFO", ".CHANGELOG")
_SMALL = 16 << 20
_ANOTHERS = frozenset(
    {"datahash", "commit", "origin", "install_if", "provider_priority", "triggers"}
)
"""What another family's description says that has the same name, and this one's never."""
_NAME = re.compile(
    r"(?P<name>[^/]+)-(?P<version>[^-/]+-[^-/]+)-(?P<machine>[^-/]+)\.pkg\.tar(?:\.[a-z0-9]+)?"
)
_ENDING = re.compile(r"[^/]+\.pkg\.tar(?:\.[a-z0-9]+)?")
_FIELDS = {
    "pkgname": "NAME", "pkgver": "VERSION", "pkgbase": "BASE", "pkgdesc": "DESC", "url": "URL",
    "arch": "ARCH", "builddate": "BUILDDATE", "packager": "PACKAGER", "size": "SIZE", "group": "GROUPS",
    "license": "LICENSE", "depend": "DEPENDS", "optdepend": "OPTDEPENDS", "conflict": "CONFLICTS",
    "provides": "PROVIDES", "replaces": "REPLACES", "backup": "BACKUP", "makedepend": "MAKEDEPENDS",
    "checkdepend": "CHECKDEPENDS", "xdata": "XDATA",
}  # fmt: skip


class ArchArchive(OnePayload):
    """One archive. What describes the package is read at once, the payload when it is asked for."""

    aspects = frozenset(Aspect) - {Aspect.CAPABILITIES, Aspect.RECORD}

    def __init__(self, source: Bytes, path: str, report: Report) -> None:
        super().__init__(source, path, report)
        self._own = self._read_own()
        told = read_pairs(self._own.get(_INFO, b""))
        if told.keys() & _ANOTHERS:
            raise NotAnArchive(
                "what describes it is of another family",
                path,
                "that family's archives are not read",
            )
        self._fields = {_FIELDS.get(name, name): values for name, values in told.items()}
        try:
            package = described.package_of(self._fields, State.ARCHIVE)
        except NotAPackage as error:
            raise DatabaseError(str(error), path, "check that it was fetched whole") from error
        self.package = replace(package, archive_size=source.size)

    def _read_own(self) -> dict[str, bytes]:
        """The members that describe the package. Most writers put them first; they may stand anywhere."""
        found: dict[str, bytes] = {}
        try:
            for info, file in tar_members(self._unpacked()):
                name = info.name.removeprefix("./")
                if name not in _OWN:
                    if _INFO in found and _LISTING in found:
                        break
                    continue
                if name in found:
                    continue
                limit = LISTING_LIMIT if name == _LISTING else _SMALL
                if not info.isreg() or info.size > limit:
                    raise PayloadError(f"{name} is unreasonably large", file.position)
                found[name] = file.content(info.size)
        except (PayloadError, UnpackError) as error:
            if _INFO not in found:
                raise DatabaseError(
                    f"it cannot be read: {error}", self._path, "check that it was fetched whole"
                ) from error
            self._report(Gap(self._path, str(error)))
        if _INFO not in found:
            raise DatabaseError(
                "it does not say of which package it is",
                self._path,
                "check that it was fetched whole",
            )
        return found

    @property
    def facts(self) -> ArchiveFacts:
        form = "arch, format 2" if _LISTING in self._own else "arch"
        return ArchiveFacts(self._path, self._source.size, form, self._unpacked().compression)

    # -- files -----------------------------------------------------------------------------

    @cached_property
    def _listed(self) -> dict[str, ListedFile]:
        data = self._own.get(_LISTING)
        return (
            read_packed_listing(data, f"{_LISTING} in {self._path}", self._report) if data else {}
        )

    @cached_property
    def _paths(self) -> list[FileRecord]:
        """The records without digests, which take no reading of every file."""
        return list(self._payload(lambda _: None))

    @cached_property
    def _files(self) -> list[FileRecord]:
        """What the payload holds, held against the listing that the archive carries of it."""
        found = list(self._payload(lambda _: "sha256"))
        listed = dict(self._listed)
        for record in found:
            one = listed.pop(record.path, None)
            told = next((d for d in one.digests if d.startswith("sha256:")), None) if one else None
            if told is not None and record.kind is Kind.FILE and told != record.digest:
                why = "its content is not what the archive's own listing says"
                self._report(Gap(f"{record.path} in {self._path}", why))
        left = [
            path for path, one in listed.items() if path != "/" and one.kind is not Kind.DIRECTORY
        ]
        if left and found:
            self._report(Gap(self._path, f"{len(left)} files that are listed are not in it"))
        return found

    def _payload(self, algorithm: Algorithm) -> Iterator[FileRecord]:
        settings = described.settings_of(self._fields)

        def read(inner: Algorithm) -> Iterator[Member]:
            members = read_tar(self._unpacked(), inner)
            return (from_the_top(one) for one in members if one.path.removeprefix("./") not in _OWN)

        for record in records(read, algorithm):
            if isinstance(record, Broken):
                self._report(Gap(f"the files of {self._path}", record.why))
                continue
            if record.path in settings:
                record = record._replace(config=True, mark=Role.CONFIG)
            yield record

    # -- the rest --------------------------------------------------------------------------

    def needs(self) -> tuple[Need, ...]:
        return needs_told(self._fields, self.package, self._report)

    def capabilities(self) -> tuple[Capability, ...]:
        return described.capabilities_of(self._fields, self.package)

    def scripts(self) -> tuple[Script, ...]:
        data = self._own.get(_SCRIPT)
        return (Script("install", len(text_of(data))),) if data else ()

    def fields(self) -> Mapping[str, str]:
        return self.package.fields


class ArchArchives:
    """How the family's archives are told and read."""

    def recognises(self, head: bytes) -> bool:
        """By what its first members say: that takes unpacking the start of it.

        What begins as any other payload may describe itself at its end; `recognises_whole` looks there.
        """
        if compression_of(head) == "none" and head[257:262] != b"ustar":
            return False
        source = MemoryBytes(head)
        told: dict[str, bytes] = {}
        try:
            for info, file in tar_members(Unpacked(source, 0, source.size)):
                name = info.name.removeprefix("./")
                if name not in _OWN:
                    break
                told[name] = file.content(min(info.size, _SMALL)) if name == _INFO else b""
        except (UnpackError, PayloadError, AccessError):
            pass  # the start of an archive ends in the midst of something
        return bool(told) and not read_pairs(told.get(_INFO, b"")).keys() & _ANOTHERS

    def recognises_whole(self, source: Bytes) -> bool:
        """By a description that stands anywhere in it: that takes reading all of it."""
        if compression_of(source.at(0, 8)) == "none" and source.at(257, 5) != b"ustar":
            return False
        try:
            for info, file in tar_members(Unpacked(source, 0, source.size)):
                if info.name.removeprefix("./") == _INFO and info.isreg() and info.size <= _SMALL:
                    told = read_pairs(file.content(info.size)).keys()
                    return {"pkgname", "pkgver"} <= told and not told & _ANOTHERS
        except (UnpackError, PayloadError, AccessError):
            return False
        return False

    def parts_of_name(self, name: str) -> NameParts | None:
        """`name-version-release-architecture.pkg.tar.ending`; another with that ending names no part."""
        match = _NAME.fullmatch(name)
        if match:
            return NameParts(match["name"], match["version"], match["machine"])
        return NameParts("", "", "") if _ENDING.fullmatch(name) else None

    def name_of(self, package: Package) -> str:
        return f"{package.name}-{package.version}-{package.architecture}.pkg.tar.zst"

    def open(self, source: Bytes, path: str, report: Report) -> ArchArchive:
        return ArchArchive(source, path, report)
