"""An `apk` archive, in either of its forms: members of gzip, and blocks of values."""

import hashlib
import re
import struct
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from functools import cached_property
from typing import Any

from filigree.families.apk import described
from filigree.families.apk.database import needs_told
from filigree.families.apk.signing import judged_binary, judged_members
from filigree.families.protocol import Report
from filigree.families.shared.not_a_package import NotAPackage
from filigree.families.shared.payload import Broken, escape_of, from_the_top, records
from filigree.families.shared.payload_archive import PayloadArchive
from filigree.families.shared.signatures import part_of, weighed
from filigree.formats.apk.binary import BinaryError, BinaryFile, BinaryPackage, is_binary
from filigree.formats.apk.members import SignedMembers
from filigree.formats.damage import text_of
from filigree.formats.members import Algorithm, Member, PayloadError
from filigree.formats.random_access import Bytes, MemoryBytes
from filigree.formats.tar_stream import read_tar, tar_members
from filigree.formats.unpacking import Unpacked, UnpackError
from filigree.model.answer import Gap
from filigree.model.archives import ArchiveFacts, NameParts
from filigree.model.errors import AccessError, DatabaseError
from filigree.model.files import Aspect, FileRecord, Kind
from filigree.model.keys import Key
from filigree.model.needs import Capability, Need
from filigree.model.package import Package, Script, State
from filigree.model.signatures import Check, Signatures

_INFO = ".PKGINFO"
_CHECKSUM = "APK-TOOLS.checksum.SHA1"
_MEMBERS = 3
_KEYS = {
    "pkgname": "P", "pkgver": "V", "pkgdesc": "T", "url": "U", "builddate": "t", "packager": "packager",
    "size": "I", "arch": "A", "origin": "o", "commit": "c", "maintainer": "m", "license": "L",
    "depend": "D", "provides": "p", "install_if": "i", "replaces": "r", "replaces_priority": "q",
    "provider_priority": "k", "datahash": "data digest", "triggers": "triggers",
}  # fmt: skip
_OWN = frozenset(
    {"datahash", "install_if", "replaces_priority", "provider_priority", "triggers", "origin"}
)
"""What no other family's description says that has the same name."""
_NAME = re.compile(r"(?P<name>[^/]+)-(?P<version>[0-9][^-/]*(?:-r[0-9]+)?)(?:\.[0-9a-f]{8})?\.apk")
_TOP = re.compile(r"\.(?:pre|post)-(?:install|upgrade|deinstall)|\.trigger")
_ADVICE = "check that it was fetched whole"


class _ApkArchive(PayloadArchive):
    """What both forms have in common."""

    aspects = frozenset(Aspect) - {Aspect.RECORD, Aspect.CAPABILITIES}
    _fields: Mapping[str, str]
    package: Package

    def _describe(self, fields: Mapping[str, str]) -> None:
        try:
            package = described.package_of(fields, State.ARCHIVE)
        except NotAPackage as error:
            raise DatabaseError(str(error), self._path, _ADVICE) from error
        self._fields = fields
        self.package = replace(package, archive_size=self._source.size)

    def _identifying(self) -> bytes:
        """The part of it that its identity is the digest of."""
        raise NotImplementedError

    def digest(self, algorithm: str) -> str:
        """That of the whole; or its identity, as indexes tell it."""
        if not algorithm.startswith(described.IDENTITY):
            return super().digest(algorithm)
        name = algorithm.removeprefix(described.IDENTITY)
        digest = hashlib.new(name, self._identifying(), usedforsecurity=False)
        return f"{algorithm}:{digest.hexdigest()}"

    def expected(self) -> list[FileRecord]:
        return self._files

    def needs(self) -> tuple[Need, ...]:
        return needs_told(self.package, self._report)

    def capabilities(self) -> tuple[Capability, ...]:
        return described.capabilities_of(self._fields, self.package)

    def fields(self) -> Mapping[str, str]:
        return self.package.fields


class MembersArchive(_ApkArchive):
    """One archive of members. What describes the package is read at once."""

    def __init__(self, source: Bytes, path: str, report: Report) -> None:
        super().__init__(source, path, report)
        try:
            self._told = SignedMembers(source, _MEMBERS)
            if not 1 <= len(self._told.members) <= 2:
                raise UnpackError(f"it has {len(self._told.members)} members beside its signature")
            self._control = dict(self._told.files(self._told.members[0]))
        except (UnpackError, PayloadError) as error:
            raise DatabaseError(f"it cannot be read: {error}", path, _ADVICE) from error
        if _INFO not in self._control:
            raise DatabaseError("it does not say of which package it is", path, _ADVICE)
        self._describe(fields_in(self._control[_INFO]))
        more = [name for name in self._control if not name.startswith(".")]
        if more:
            why = "it stands beside what describes the package, and is none of its files"
            report(Gap(f"{', '.join(more[:3])} in {path}", why))
        if self._told.strangers:
            names = ", ".join(self._told.strangers[:3])
            why = "beside its signatures stands what nobody signed: it is not read"
            report(Gap(f"{names} in {path}", why))

    @property
    def facts(self) -> ArchiveFacts:
        return ArchiveFacts(self._path, self._source.size, "apk, members", "gzip")

    def signature(
        self, keys: Sequence[Key], now: datetime, beside: bytes | None = None
    ) -> Signatures:
        """By those that it carries; bare keys have no time."""
        del now, beside
        first = self._told.members[0]
        signed = judged_members(
            self._told.signatures, lambda: part_of(self._source, first.start, first.size), keys
        )
        return weighed(signed, self.checks())

    def checks(self) -> list[Check]:
        """The digest of its data, which the signed member tells, held against what is there."""
        what = "the digest of its data, by the member that describes it"
        told = self._fields.get("data digest")
        if len(self._told.members) < 2:
            # Whoever takes its files away leaves what was signed as it was.
            return [] if told is None else [Check(what, f"sha256:{told.lower()}", None)]
        if told is None:
            # Who signed what describes it said nothing of its files.
            return [Check(what, "one", None)]
        digest = hashlib.sha256()
        for piece in part_of(self._source, self._told.members[1].start):
            digest.update(piece)
        return [Check(what, f"sha256:{told.lower()}", f"sha256:{digest.hexdigest()}")]

    def _identifying(self) -> bytes:
        first = self._told.members[0]
        return b"".join(part_of(self._source, first.start, first.size))

    # -- files -----------------------------------------------------------------------------

    @cached_property
    def _paths(self) -> list[FileRecord]:
        return list(self._payload(lambda _: None))

    @cached_property
    def _files(self) -> list[FileRecord]:
        found = list(self._payload(lambda _: "sha256"))
        older = self._older_digests() if found else {}
        return [
            one._replace(also=(older[one.path],)) if one.digest and one.path in older else one
            for one in found
        ]

    def _payload(self, algorithm: Algorithm) -> Iterator[FileRecord]:
        if len(self._told.members) < 2:
            return
        data = self._told.members[1]

        def read(inner: Algorithm) -> Iterator[Member]:
            stream = Unpacked(self._source, data.start, data.size, single=True)
            return (from_the_top(one) for one in read_tar(stream, inner))

        for record in records(read, algorithm):
            if isinstance(record, Broken):
                self._report(Gap(f"the files of {self._path}", record.why))
            else:
                yield from described.with_usual_protection([record])

    def _older_digests(self) -> dict[str, str]:
        """What files hold by SHA-1, as records have it; that its own head says otherwise is told."""
        found = {}
        data = self._told.members[1]
        stream = Unpacked(self._source, data.start, data.size, single=True)
        try:
            for info, file in tar_members(stream):
                if not (info.isreg() or info.issym()):
                    continue
                digest = hashlib.sha1(usedforsecurity=False)
                nothing = digest.hexdigest()
                if info.issym():
                    digest.update(info.linkname.encode("utf-8", "surrogateescape"))
                left = info.size if info.isreg() else 0
                while left and (piece := file.content(min(left, 1 << 17))):
                    digest.update(piece)
                    left -= len(piece)
                path = f"/{info.name.removeprefix('./')}"
                found[path] = f"sha1:{digest.hexdigest()}"
                told = info.pax_headers.get(_CHECKSUM, digest.hexdigest())
                # Some writers tell of a link that it holds nothing.
                if told.lower() != digest.hexdigest() and not (info.issym() and told == nothing):
                    why = f"its own head says that it holds {told[:80]}, and it holds {found[path]}"
                    self._report(Gap(f"{path} in {self._path}", why))
        except (PayloadError, UnpackError):
            pass  # that was told where the payload was read
        return found

    def scripts(self) -> tuple[Script, ...]:
        return tuple(
            Script(name[1:], len(text))
            for name, text in self._control.items()
            if _TOP.fullmatch(name)
        )


class BinaryArchive(_ApkArchive):
    """One archive of blocks. Its values are read at once, the contents of files when that is asked."""

    def __init__(self, source: Bytes, path: str, report: Report) -> None:
        super().__init__(source, path, report)
        try:
            self._file = BinaryFile(source)
            told = next(iter(self._file.packages())) if self._file.schema == "package" else None
        except (BinaryError, UnpackError, struct.error) as error:
            raise DatabaseError(f"it cannot be read: {error}", path, _ADVICE) from error
        if not isinstance(told, BinaryPackage):
            raise DatabaseError("it is no package, but an index or records", path, _ADVICE)
        self._told = told
        self._describe(told.record.fields)

    @property
    def facts(self) -> ArchiveFacts:
        return ArchiveFacts(self._path, self._source.size, "apk, blocks", self._file.compression)

    def signature(
        self, keys: Sequence[Key], now: datetime, beside: bytes | None = None
    ) -> Signatures:
        """By those that it carries; bare keys have no time."""
        del now, beside
        return weighed(judged_binary(self._file.signatures, keys), self.checks())

    def _identifying(self) -> bytes:
        return self._file.values

    def checks(self) -> list[Check]:
        """What files hold, against the digests that are signed: the first that does not hold."""
        return self._held[1]

    @cached_property
    def _paths(self) -> list[FileRecord]:
        found = []
        links: set[str] = set()
        told = described.records_of(self._told.record.paths)
        for record in described.with_usual_protection(told):
            if record.path == "/":
                continue
            escape = escape_of(f".{record.path}", None, links)
            if record.kind is Kind.LINK:
                links.add(record.path)
            found.append(record._replace(escape=escape))
        return found

    @cached_property
    def _files(self) -> list[FileRecord]:
        held, _ = self._held
        return [
            record._replace(digest=held.get(record.path, record.digest)) for record in self._paths
        ]

    @cached_property
    def _held(self) -> tuple[dict[str, str], list[Check]]:
        """What the contents come to, by path; and those that are not what the values say."""
        found: dict[str, str] = {}
        wrong: list[Check] = []
        paths = self._told.record.paths
        try:
            # Read from its start: what was gone through once is gone.
            for numbers, size, pieces in BinaryFile(self._source).contents():
                place = self._told.places.get(numbers)
                if place is None:
                    raise BinaryError("the content of a file that it does not list")
                one = paths[place]
                algorithm = (one.digest or "sha256:").partition(":")[0]
                digest = hashlib.new(algorithm, usedforsecurity=False)
                for piece in pieces:
                    digest.update(piece)
                told = f"{algorithm}:{digest.hexdigest()}"
                found[f"/{one.path}"] = told
                what = f"the content of /{one.path}, by the values that are signed"
                if told != one.digest or size != one.size:
                    expected = f"{one.digest}, {one.size} bytes"
                    wrong.append(Check(what, expected, f"{told}, {size} bytes"))
        except (BinaryError, UnpackError, struct.error) as error:
            self._report(Gap(f"the files of {self._path}", str(error)))
            wrong.append(Check("its files", "whole", str(error)))
        left = sum(
            bool(one.size) and f"/{one.path}" not in found
            for one in paths
            if one.digest is not None
        )
        if left:
            wrong.append(Check("its files", "all of them", f"{left:,} of them are not in it"))
        return found, wrong[:1]

    def scripts(self) -> tuple[Script, ...]:
        return tuple(Script(name, len(text)) for name, text in self._told.scripts.items())


def fields_in(data: bytes) -> dict[str, str]:
    """What describes a package in an archive, by the letters that records have."""
    found: dict[str, str] = {}
    for line in text_of(data).split("\n"):
        if line.startswith("#"):
            continue
        key, equal, value = line.partition("=")
        if not equal:
            continue
        letter, value = _KEYS.get(key.strip(), key.strip()), value.strip()
        several = letter in ("D", "p", "i", "r")
        if letter in found and several:
            found[letter] = f"{found[letter]} {value}"
        else:
            found.setdefault(letter, value)
    return found


class ApkArchives:
    """How the family's archives are told and read."""

    def recognises(self, head: bytes) -> bool:
        """By the form of blocks, or by the first file of its first member: a signature, or what says so
        itself."""
        if is_binary(head):
            return True
        if not head.startswith(b"\x1f\x8b"):
            return False
        source = MemoryBytes(head)
        told: dict[str, bytes] = {}
        try:
            for info, file in tar_members(
                Unpacked(source, 0, source.size, single=True), open_end=True
            ):
                name = info.name.removeprefix("./")
                if name.startswith(".SIGN.RSA"):
                    return True
                if name == _INFO:
                    told[name] = file.content(min(info.size, 1 << 20))
                    break
                if not name.startswith("."):
                    break
        except (UnpackError, PayloadError, AccessError):
            pass  # the start of an archive ends in the midst of something
        return bool(_keys_in(told.get(_INFO, b"")) & _OWN)

    recognises_whole: Any = None

    def parts_of_name(self, name: str) -> NameParts | None:
        """`name-version.apk`, perhaps with a part of its digest; another with that ending names none."""
        match = _NAME.fullmatch(name)
        if match:
            return NameParts(match["name"], match["version"], "")
        return NameParts("", "", "") if name.endswith(".apk") and len(name) > 4 else None

    def name_of(self, package: Package) -> str:
        return f"{package.name}-{package.version}.apk"

    def open(self, source: Bytes, path: str, report: Report) -> MembersArchive | BinaryArchive:
        if is_binary(source.at(0, 4)):
            return BinaryArchive(source, path, report)
        return MembersArchive(source, path, report)


def _keys_in(data: bytes) -> set[str]:
    return {line.partition("=")[0].strip() for line in text_of(data).split("\n")}
