"""An `rpm` archive: a lead, a header of signatures, the header, and the payload."""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from functools import cached_property, partial

from filigree.families.protocol import Report
from filigree.families.rpm import described, file_records
from filigree.families.rpm.database import capabilities_told, needs_told, scripts_told
from filigree.families.rpm.signatures import (
    covered_part,
    header_checks,
    judged_header,
    judged_whole,
)
from filigree.families.shared.listing import PathListing, SplitListing
from filigree.families.shared.payload import Broken, records, shown_path
from filigree.families.shared.signatures import beside_signature, digest_of_part, part_of, weighed
from filigree.formats.cpio import Numbered, read_cpio
from filigree.formats.members import Algorithm, Member
from filigree.formats.random_access import Bytes
from filigree.formats.rpm import tags
from filigree.formats.rpm.header import MAGIC as HEADER_MAGIC
from filigree.formats.rpm.header import Header, HeaderError, header_size, read_header
from filigree.formats.unpacking import Unpacked
from filigree.formats.version_parts import split_version
from filigree.model.answer import Gap
from filigree.model.archives import ArchiveFacts, NameParts
from filigree.model.errors import DatabaseError
from filigree.model.files import FileRecord, Kind
from filigree.model.keys import Key
from filigree.model.needs import Capability, Need
from filigree.model.package import Package, Script, State
from filigree.model.signatures import Check, Signatures, SignatureVerdict

MAGIC = b"\xed\xab\xee\xdb"
LEAD_SIZE = 96
HEADER_LIMIT = 256 << 20
_SOURCE_LEAD = 1
_NAME = re.compile(r"(?P<name>[^/]+)-(?P<version>[^-/]+-[^-/]+)\.(?P<machine>[^-./]+)\.rpm")
_ENDING = re.compile(r"[^/]+\.rpm")


class RpmArchive:
    """One archive. The headers are read at once, the payload when it is asked for."""

    aspects = described.ASPECTS

    def __init__(self, source: Bytes, path: str, report: Report) -> None:
        self._source = source
        self._path = path
        self._report = report
        lead = source.at(0, LEAD_SIZE)
        try:
            if len(lead) < LEAD_SIZE:
                raise HeaderError("the lead is cut off", len(lead))
            self._signatures, end = self._header(LEAD_SIZE)
            self._start = end + -end % 8
            self._main, self._payload = self._header(self._start)
            package = described.package_of(self._main, State.ARCHIVE)
        except HeaderError as error:
            raise DatabaseError(
                f"it cannot be read: {error}", path, "check that it was fetched whole"
            ) from error
        self._form = f"rpm {lead[4]}.{lead[5]}"
        self._is_source = int.from_bytes(lead[6:8], "big") == _SOURCE_LEAD
        self.package = self._completed(package)

    def _header(self, start: int) -> tuple[Header, int]:
        """The header at a place of the file, and where it ends."""
        head = self._source.at(start, 16)
        if head[:3] != HEADER_MAGIC[:3] or len(head) < 16:
            raise HeaderError("no header starts here, or the file is cut off", start)
        size = 8 + header_size(head[8:])
        if size > HEADER_LIMIT or start + size > self._source.size:
            raise HeaderError(f"a header of {size:,} bytes is cut off", start)
        return read_header(self._source.at(start, size), magic=True), start + size

    def _completed(self, package: Package) -> Package:
        return replace(
            package,
            archive_size=self._source.size,
            architecture="src" if self._is_source else package.architecture,
        )

    @property
    def facts(self) -> ArchiveFacts:
        kind = "rpm source" if self._is_source else "rpm"
        form = self._form.replace("rpm", kind)
        size = self._source.size
        return ArchiveFacts(self._path, size, form, self._unpacked().compression)

    def _unpacked(self) -> Unpacked:
        return Unpacked(self._source, self._payload, max(0, self._source.size - self._payload))

    # -- signatures -----------------------------------------------------------------------------

    def digest(self, algorithm: str) -> str:
        return digest_of_part(self._source, 0, algorithm)

    def expected(self) -> list[FileRecord]:
        return self._recorded

    def signature(
        self, keys: Sequence[Key], now: datetime, beside: bytes | None = None
    ) -> Signatures:
        try:
            covered = covered_part(self._main)
        except HeaderError as error:
            return Signatures(
                SignatureVerdict.NONE, reason=f"no signature of it can be judged: {error}"
            )
        size = self._source.size - self._start
        try:
            signatures = list(judged_header(covered, self._signatures, keys, now))
            signatures += judged_whole(
                lambda: part_of(self._source, self._start), size, self._signatures, keys, now
            )
        except HeaderError as error:
            return Signatures(
                SignatureVerdict.BAD, reason=f"its signatures cannot be read: {error}"
            )
        if beside is not None:
            signatures.append(beside_signature(self._source, beside, keys, now))
        return weighed(signatures, self.checks())

    def checks(self) -> list[Check]:
        return self._checks

    @cached_property
    def _checks(self) -> list[Check]:
        """The digests of header and payload that the archive carries itself."""
        try:
            return list(self._read_checks())
        except HeaderError as error:
            return [Check("the header, by its own account", "readable", str(error))]

    def _read_checks(self) -> Iterator[Check]:
        covered = covered_part(self._main)
        yield from header_checks(covered, self._signatures)
        if len(covered) != self._payload - self._start:
            yield Check("the part of the header that is signed", "all of it", "a part of it")
        size = self._signatures.number(tags.LONG_SIG_SIZE) or self._signatures.number(tags.OLD_SIZE)
        if size is not None:
            there = self._source.size - self._start
            yield Check(
                "header and payload, by the size kept with the signatures",
                f"{size} bytes",
                f"{there} bytes",
            )
        told = self._signatures.value(tags.WHOLE_MD5)
        if isinstance(told, bytes) and told:
            found = digest_of_part(self._source, self._start, "md5")
            yield Check(
                "header and payload, by the digest kept with the signatures",
                f"md5:{told.hex()}",
                found,
            )
        digests = self._main.texts(tags.PAYLOAD_DIGESTS)
        algorithm, length = file_records.DIGESTS.get(
            self._main.number(tags.PAYLOAD_DIGEST_ALGORITHM) or 8, ("", 0)
        )
        if digests and len(digests[0]) == length:
            found = digest_of_part(self._source, self._payload, algorithm)
            yield Check("the payload, by the header", f"{algorithm}:{digests[0].lower()}", found)

    # -- files -----------------------------------------------------------------------------

    def listing(self) -> PathListing | SplitListing:
        try:
            return file_records.listing_of(self._main)
        except HeaderError as error:
            self._report(Gap(f"the files of {self._path}", str(error)))
            return PathListing()

    def configuration(self) -> list[FileRecord]:
        return [record for record in self._recorded if record.config]

    def files(self) -> list[FileRecord]:
        return self._files

    @cached_property
    def _recorded(self) -> list[FileRecord]:
        try:
            return file_records.files_of(self._main)
        except HeaderError as error:
            self._report(Gap(f"the files of {self._path}", str(error)))
            return []

    @cached_property
    def _files(self) -> list[FileRecord]:
        """What the header says, held against what the payload holds."""
        said = {_key(record.path): record for record in self._recorded}
        held: dict[str, FileRecord] = {}
        whole = True
        for record in records(self._read, lambda path: _algorithm(said.get(_key(path)))):
            if isinstance(record, Broken):
                self._report(Gap(f"the payload of {self._path}", record.why))
                whole = False
            else:
                held[_key(record.path)] = record
        found = [self._held(record, held.pop(key, None), whole) for key, record in said.items()]
        for record in held.values():
            told = "it is in the payload, but the header says nothing of it"
            found.append(record._replace(remarks=(*record.remarks, told)))
            self._report(Gap(f"{record.path} in {self._path}", told))
        return found

    def _held(self, said: FileRecord, held: FileRecord | None, whole: bool) -> FileRecord:
        """One record of the header, with what the payload showed of it."""
        if held is None:
            if said.excuse is not None:
                return said
            if whole:
                self._report(Gap(f"{said.path} in {self._path}", "it is not in the payload"))
            told = "not in the payload" if whole else "not reached in the payload"
            return said._replace(remarks=(*said.remarks, told))
        if said.digest is not None and held.digest is not None and said.digest != held.digest:
            told = "what the payload holds is not what the header says"
            self._report(Gap(f"{said.path} in {self._path}", told))
        return said._replace(digest=said.digest or held.digest, escape=held.escape)

    def _read(self, algorithm: Algorithm) -> Iterator[Member]:
        return read_cpio(self._unpacked(), algorithm, self._numbered())

    def _numbered(self) -> list[Numbered]:
        """What a payload that gives nothing but numbers counts on."""
        try:
            modes, sizes = self._main.numbers(tags.FILE_MODES), self._main.sizes
        except HeaderError:
            return []  # told already, with the records that are missing for the same reason
        return [
            Numbered(record.path, mode, size, record.modified or 0)
            for record, mode, size in zip(self._recorded, modes, sizes, strict=False)
        ]

    # -- the rest --------------------------------------------------------------------------

    def needs(self) -> tuple[Need, ...]:
        return needs_told(partial(described.relations, self._main), self.package, self._report)

    def capabilities(self) -> tuple[Capability, ...]:
        return capabilities_told(
            partial(described.relations, self._main), self.package, self._report
        )

    def scripts(self) -> tuple[Script, ...]:
        return scripts_told(self._main, self.package, self._report)

    def fields(self) -> Mapping[str, str]:
        signatures = described.fields_of(self._signatures, signing=True)
        front = {f"before the header: {name}": value for name, value in signatures.items()}
        return {**front, **described.fields_of(self._main)}


def _key(path: str) -> str:
    """What a header and a payload both call a path; a source package's have no slash in front."""
    return shown_path(path).lstrip("/")


def _algorithm(record: FileRecord | None) -> str | None:
    """By which algorithm to read a file: the header's, or one of ours where that says nothing."""
    if record is None or record.kind not in (None, Kind.FILE):
        return "sha256"
    return (record.digest or "sha256:").partition(":")[0]


class RpmArchives:
    """How the family's archives are told and read."""

    recognises_whole = None

    def recognises(self, head: bytes) -> bool:
        return head.startswith(MAGIC)

    def parts_of_name(self, name: str) -> NameParts | None:
        """`name-version-release.architecture.rpm`; anything else with that ending names no part."""
        match = _NAME.fullmatch(name)
        if match:
            return NameParts(match["name"], match["version"], match["machine"])
        return NameParts("", "", "") if _ENDING.fullmatch(name) else None

    def name_of(self, package: Package) -> str:
        _epoch, version, release = split_version(package.version)
        return f"{package.name}-{version}-{release}.{package.architecture}.rpm"

    def open(self, source: Bytes, path: str, report: Report) -> RpmArchive:
        return RpmArchive(source, path, report)
