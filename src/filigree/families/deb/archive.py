"""A `deb` archive: an `ar` file of a version, a control part and a data part."""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from functools import cached_property
from urllib.parse import unquote

from filigree.families.deb.stanza import capabilities_told, needs_told, package_of
from filigree.families.protocol import Report
from filigree.families.shared.not_a_package import NotAPackage
from filigree.families.shared.payload import Broken, records
from filigree.families.shared.payload_archive import PayloadArchive
from filigree.families.shared.signatures import beside_signature, part_of, weighed
from filigree.formats.ar import MAGIC, ArMember, read_members
from filigree.formats.damage import Damage
from filigree.formats.digest_list import read_digest_list
from filigree.formats.members import Algorithm, Member, PayloadError
from filigree.formats.openpgp import judge_pieces
from filigree.formats.random_access import Bytes, ContainerError
from filigree.formats.stanzas import parse_stanza
from filigree.formats.tar_stream import read_small_tar, read_tar
from filigree.formats.unpacking import Unpacked, UnpackError
from filigree.formats.version_parts import split_version
from filigree.model.answer import Gap
from filigree.model.archives import ArchiveFacts, NameParts
from filigree.model.errors import DatabaseError
from filigree.model.files import Aspect, FileRecord, Role
from filigree.model.keys import Key
from filigree.model.needs import Capability, Need
from filigree.model.package import Package, Script, State
from filigree.model.signatures import Signatures

_SCRIPTS = ("preinst", "postinst", "prerm", "postrm", "config", "triggers")
_NAME = re.compile(r"(?P<name>[^_/]+)_(?P<version>[^_/]+)_(?P<machine>[^_/]+)\.u?deb")
_ENDING = re.compile(r"[^/]+\.u?deb")
_CONTROL, _DATA = "control.tar", "data.tar"
_SIGNATURE = "_gpg"
_SIGNATURE_LIMIT = 1 << 20


class DebArchive(PayloadArchive):
    """One archive. The control part is read at once, the data part when it is asked for."""

    aspects = frozenset(Aspect) - {Aspect.CAPABILITIES, Aspect.RECORD}

    def __init__(self, source: Bytes, path: str, report: Report) -> None:
        super().__init__(source, path, report)
        self._order: list[ArMember] = []
        self._members = self._read_members()
        self._control = self._read_control()
        self.package = self._described()

    def _read_members(self) -> dict[str, ArMember]:
        found: dict[str, ArMember] = {}
        try:
            for member in read_members(self._source):
                found.setdefault(member.name, member)
                self._order.append(member)
        except ContainerError as error:
            self._report(Gap(self._path, str(error)))
        return found

    def _part(self, stem: str) -> ArMember | None:
        return next((m for name, m in self._members.items() if name.startswith(stem)), None)

    def _read_control(self) -> dict[str, bytes]:
        """The files of the control part. Raises DatabaseError where there is none."""
        part = self._part(_CONTROL)
        if part is None:
            raise DatabaseError(
                "it has no control part, or is cut off before it", self._path,
                "check that it was fetched whole",
            )  # fmt: skip
        try:
            files = read_small_tar(Unpacked(self._source, part.start, part.size), 16 << 20)
        except (PayloadError, UnpackError) as error:
            raise DatabaseError(
                f"its control part cannot be read: {error}", self._path,
                "check that it was fetched whole",
            ) from error  # fmt: skip
        return {name.removeprefix("./"): content for name, content in files.items()}

    def _described(self) -> Package:
        stanza = parse_stanza(self._control.get("control", b""))
        try:
            if isinstance(stanza, Damage):
                raise NotAPackage(f"line {stanza.line} of its control file is {stanza.why}")
            for damage in stanza.damages:
                self._report(Gap(f"{self._path}, control, line {damage.line}", damage.why))
            fields = stanza.fields
            package = package_of({**fields, "Status": "install ok installed"})
        except NotAPackage as error:
            raise DatabaseError(str(error), self._path, "it may have been tampered with") from error
        return replace(
            package,
            state=State.ARCHIVE,
            archive_size=self._source.size,
            fields=fields,
        )

    @property
    def facts(self) -> ArchiveFacts:
        version = self._members.get("debian-binary")
        form = self._source.at(version.start, min(version.size, 16)).split() if version else []
        data = self._part(_DATA)
        compression = None
        if data is not None:
            compression = Unpacked(self._source, data.start, data.size).compression
        number = form[0].decode("ascii", "replace") if form else "unknown"
        return ArchiveFacts(self._path, self._source.size, f"deb {number}", compression)

    # -- signatures -----------------------------------------------------------------------------

    def expected(self) -> list[FileRecord]:
        # Settings are on record by that algorithm, though the list leaves them out.
        return self._compared(frozenset(self._settings()))

    def signature(
        self, keys: Sequence[Key], now: datetime, beside: bytes | None = None
    ) -> Signatures:
        """By the members that are signatures of all others, in their order, and what lies beside it."""
        covered = [member for member in self._order if not member.name.startswith(_SIGNATURE)]
        size = sum(member.size for member in covered)
        signatures = [
            judge_pieces(
                lambda: (p for m in covered for p in part_of(self._source, m.start, m.size)),
                size, self._source.at(member.start, member.size), keys, now,
            )
            for member in self._order
            if member.name.startswith(_SIGNATURE) and member.size <= _SIGNATURE_LIMIT
        ]  # fmt: skip
        if beside is not None:
            signatures.append(beside_signature(self._source, beside, keys, now))
        return weighed(signatures, ())

    # -- files -----------------------------------------------------------------------------

    @cached_property
    def _paths(self) -> list[FileRecord]:
        """The records without digests, which take no reading of every file."""
        return list(self._read_data(lambda _: None))

    @cached_property
    def _files(self) -> list[FileRecord]:
        return self._compared(frozenset())

    def _compared(self, also: frozenset[str]) -> list[FileRecord]:
        """The files, held against the archive's own list of digests; `also` by the list's algorithm."""
        carried = self._digests
        found, left = [], set(carried)
        for record in self._read_data(
            lambda path: "md5" if path[1:] in carried or path in also else "sha256"
        ):
            digest = carried.get(record.path[1:])
            left.discard(record.path[1:])
            if digest is not None and record.digest is not None and digest != record.digest:
                told = "its content is not what the archive's own list of digests says"
                self._report(Gap(f"{record.path} in {self._path}", told))
            found.append(record)
        if left and found:
            self._report(Gap(self._path, f"{len(left)} files with a digest are not in it"))
        return found

    @property
    def _digests(self) -> dict[str, str]:
        found = read_digest_list(self._control.get("md5sums", b""))
        for damage in found.damages:
            self._report(Gap(f"{self._path}, md5sums, line {damage.line}", damage.why))
        return found.digests

    def _read_data(self, algorithm: Algorithm) -> Iterator[FileRecord]:
        part = self._part(_DATA)
        if part is None:
            self._report(Gap(self._path, "it has no data part, or is cut off before it"))
            return
        settings = set(self._settings())

        def read(inner: Algorithm) -> Iterator[Member]:
            return read_tar(Unpacked(self._source, part.start, part.size), inner)

        for record in records(read, algorithm):
            if isinstance(record, Broken):
                self._report(Gap(f"the files of {self._path}", record.why))
            elif record.path in settings:
                yield record._replace(config=True, mark=Role.CONFIG)
            else:
                yield record

    def _settings(self) -> Iterator[str]:
        text = self._control.get("conffiles", b"").decode("utf-8", "surrogateescape")
        for line in text.split("\n"):
            words = line.split()
            if words and words[-1].startswith("/"):
                yield words[-1]

    # -- the rest --------------------------------------------------------------------------

    def needs(self) -> tuple[Need, ...]:
        return needs_told(self.package, self._report)

    def capabilities(self) -> tuple[Capability, ...]:
        return capabilities_told(self.package, self._report)

    def scripts(self) -> tuple[Script, ...]:
        return tuple(
            Script(name, len(self._control[name])) for name in _SCRIPTS if name in self._control
        )

    def fields(self) -> Mapping[str, str]:
        return self.package.fields


class DebArchives:
    """How the family's archives are told and read."""

    recognises_whole = None

    def recognises(self, head: bytes) -> bool:
        return head.startswith(MAGIC) and head[8:].startswith((b"debian-binary", b"_gpg"))

    def parts_of_name(self, name: str) -> NameParts | None:
        """`name_version_architecture.deb`; anything else with that ending names no part."""
        match = _NAME.fullmatch(unquote(name))
        if match:
            return NameParts(match["name"], match["version"], match["machine"])
        return NameParts("", "", "") if _ENDING.fullmatch(name) else None

    def name_of(self, package: Package) -> str:
        _epoch, version, release = split_version(package.version)
        full = f"{version}-{release}" if release else version
        return f"{package.name}_{full}_{package.architecture}.deb"

    def open(self, source: Bytes, path: str, report: Report) -> DebArchive:
        return DebArchive(source, path, report)
