"""A `slackware` archive: one payload, with what describes the package in a folder of its own.

Which version it is of is told by nothing but its name.
"""

import re
from collections.abc import Iterator, Mapping
from functools import cached_property

from filigree.families.protocol import Report
from filigree.families.shared.not_a_package import NotAPackage
from filigree.families.shared.payload import Broken, records
from filigree.families.shared.payload_archive import OnePayload
from filigree.families.slackware import described
from filigree.families.slackware.database import needs_told
from filigree.formats.damage import text_of
from filigree.formats.members import Algorithm, PayloadError
from filigree.formats.random_access import Bytes, MemoryBytes
from filigree.formats.slackware.names import label_of_archive
from filigree.formats.slackware.needs import split_file
from filigree.formats.slackware.records import Described, read_fields
from filigree.formats.slackware.scripts import read_links, read_settings
from filigree.formats.tar_stream import read_tar, tar_members
from filigree.formats.unpacking import Unpacked, UnpackError, compression_of
from filigree.model.answer import Gap
from filigree.model.archives import ArchiveFacts, NameParts
from filigree.model.errors import AccessError, DatabaseError
from filigree.model.files import Aspect, FileRecord
from filigree.model.needs import Capability, Need, Relation
from filigree.model.package import Package, Script, State

_FOLDER = "install/"
_WORDS, _SCRIPT = "slack-desc", "doinst.sh"
_NEEDS = (
    ("slack-required", Relation.REQUIRES), ("slack-suggests", Relation.SUGGESTS),
    ("slack-conflicts", Relation.CONFLICTS),
)  # fmt: skip
_SMALL = 16 << 20
_MOST = 32
_KEPT = re.compile(r"[0-9a-f]{64}\.")
"""What stands before the name of an archive that we fetched and kept."""


class SlackwareArchive(OnePayload):
    """One archive. What describes the package is read at once, the payload when it is asked for."""

    aspects = frozenset(Aspect) - {Aspect.CAPABILITIES, Aspect.RECORD}

    def __init__(self, source: Bytes, path: str, report: Report) -> None:
        super().__init__(source, path, report)
        self._own = self._read_own()
        told = read_fields(f"PACKAGE DESCRIPTION:\n{self._text(_WORDS)}")
        called = _KEPT.sub("", path.rpartition("/")[2].partition("?")[0])
        try:
            label = described.label_of(called)
        except NotAPackage as error:
            raise DatabaseError(
                f"of which package it is nothing but its name would tell: {error}", path,
                "give it back the name under which it was offered",
            ) from error  # fmt: skip
        named = next(
            (line.partition(":")[0] for line in self._text(_WORDS).split("\n")
             if line.partition(":")[1] and line[:1] not in ("#", " ", "|", "")), label.name,
        )  # fmt: skip
        if named != label.name:
            report(Gap(path, f"it describes {named[:80]}, and is called otherwise"))
        more = {"archive_size": source.size}
        self.package = described.package_of(
            label, Described(told.fields, told.description), State.ARCHIVE, more
        )

    def _read_own(self) -> dict[str, bytes]:
        """The members that describe the package: they stand together, but anywhere."""
        found: dict[str, bytes] = {}
        try:
            for info, file in tar_members(self._unpacked()):
                name = info.name.removeprefix("./")
                if not name.startswith(_FOLDER):
                    if found:
                        break
                    continue
                if not info.isreg() or len(found) >= _MOST:
                    continue
                if info.size > _SMALL:
                    raise PayloadError(f"{name[:80]} is unreasonably large", file.position)
                found[name.removeprefix(_FOLDER)] = file.content(info.size)
        except (PayloadError, UnpackError) as error:
            self._report(Gap(self._path, str(error)))
        if not found:
            self._report(Gap(self._path, "it does not describe itself"))
        return found

    def _text(self, name: str) -> str:
        return text_of(self._own.get(name, b""))

    @property
    def facts(self) -> ArchiveFacts:
        return ArchiveFacts(
            self._path, self._source.size, "slackware", self._unpacked().compression
        )

    # -- files -----------------------------------------------------------------------------

    @cached_property
    def _paths(self) -> list[FileRecord]:
        """The records without digests, which take no reading of every file."""
        return list(self._payload(lambda _: None))

    @cached_property
    def _files(self) -> list[FileRecord]:
        return list(self._payload(lambda _: "sha256"))

    def _payload(self, algorithm: Algorithm) -> Iterator[FileRecord]:
        script = self._text(_SCRIPT)
        shipped = self._shipped(algorithm)
        yield from described.records_of(shipped, read_links(script), read_settings(script))

    def _shipped(self, algorithm: Algorithm) -> Iterator[FileRecord]:
        for record in records(lambda inner: read_tar(self._unpacked(), inner), algorithm):
            if isinstance(record, Broken):
                self._report(Gap(f"the files of {self._path}", record.why))
                continue
            path = record.path if record.path.startswith("/") else f"/{record.path}"
            if path not in ("/", "/install") and not path.startswith(f"/{_FOLDER}"):
                yield record._replace(path=path, location=path)

    # -- the rest --------------------------------------------------------------------------

    def needs(self) -> tuple[Need, ...]:
        texts = [(kind, text) for name, kind in _NEEDS for text in split_file(self._text(name))]
        if not any(name in self._own for name, _ in _NEEDS):
            self._report(Gap(f"what {self.package.name} needs", "its archive does not tell it"))
        return needs_told(texts, self.package, self._report)

    def capabilities(self) -> tuple[Capability, ...]:
        return described.capabilities_of(self.package)

    def scripts(self) -> tuple[Script, ...]:
        data = self._own.get(_SCRIPT)
        return (Script(_SCRIPT, len(data)),) if data else ()

    def fields(self) -> Mapping[str, str]:
        return self.package.fields


class SlackwareArchives:
    """How the family's archives are told and read."""

    recognises_whole = None

    def recognises(self, head: bytes) -> bool:
        """By the first member, the directory that all others are in: that takes unpacking the start."""
        if compression_of(head) == "none":
            return False
        source = MemoryBytes(head)
        try:
            first = Unpacked(source, 0, source.size).read(512)
        except (UnpackError, AccessError):
            return False
        return first[:100].rstrip(b"\0") in (b"./", b".") and first[257:262] == b"ustar"

    def parts_of_name(self, name: str) -> NameParts | None:
        """`name-version-architecture-build.txz`; the endings alone are many another archive's, too."""
        label = label_of_archive(_KEPT.sub("", name))
        if label is None:
            return None
        return NameParts(label.name, label.full_version, label.architecture)

    def name_of(self, package: Package) -> str:
        return f"{described.called(package)}.txz"

    def open(self, source: Bytes, path: str, report: Report) -> SlackwareArchive:
        return SlackwareArchive(source, path, report)
