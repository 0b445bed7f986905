"""What the indexes of an `apk` repository tell: records, in a list that is packed or in blocks."""

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from filigree.families.apk import described
from filigree.families.apk.signing import best, judged_binary, judged_members
from filigree.families.protocol import Report
from filigree.families.shared.not_a_package import NotAPackage
from filigree.families.shared.signatures import part_of
from filigree.formats.apk.binary import BinaryError, BinaryFile, is_binary
from filigree.formats.apk.members import SignedMembers
from filigree.formats.apk.records import LetteredRecord, read_record, read_records
from filigree.formats.apk.relations import PackageRelation, relations_in
from filigree.formats.damage import Damage
from filigree.formats.gzip_members import GzipMember
from filigree.formats.members import PayloadError
from filigree.formats.random_access import Bytes
from filigree.formats.tar_stream import tar_members
from filigree.formats.unpacking import Unpacked
from filigree.model.answer import Gap
from filigree.model.keys import Key
from filigree.model.package import Package, State
from filigree.model.repositories import Offer, Place
from filigree.model.signatures import Signatures

LIST, ABOUT = "APKINDEX", "DESCRIPTION"
LIST_LIMIT = 1 << 30
INDEX_LIMIT = 256 << 20
"""Bytes of an index as it lies."""
_MEMBERS = 8
_PIECE = 1 << 18
_DAMAGES = 20
_MORE = ("identity", "archive size")


class OpenIndex(NamedTuple):
    """An index, opened: its list of packages, and what is to be said of its signatures."""

    source: Bytes
    members: SignedMembers | None
    binary: BinaryFile | None

    def signature(self, keys: Sequence[Key]) -> Signatures:
        """What its signatures say, judged with these keys."""
        if self.binary is not None:
            return best(judged_binary(self.binary.signatures, keys))
        assert self.members is not None
        start = self.members.members[0].start if self.members.members else self.source.size
        return best(
            judged_members(self.members.signatures, lambda: part_of(self.source, start), keys)
        )

    def records(self) -> Iterator[LetteredRecord | Damage]:
        """The record of each package. Raises PayloadError, UnpackError or BinaryError."""
        if self.binary is not None:
            for one in self.binary.packages():
                yield one if isinstance(one, Damage) else one.record
            return
        assert self.members is not None
        found = False
        for member in self.members.members:
            for name, pieces in self._files(member):
                # Of two lists whoever reads the first believes another one than who reads the last.
                if name == LIST and not found:
                    found = True
                    yield from read_records(pieces, with_paths=False)
                elif name == LIST:
                    raise PayloadError("it holds more than one list", 0)
        if not found:
            raise PayloadError("it holds no list", 0)

    def _files(self, member: GzipMember) -> Iterator[tuple[str, Iterator[bytes]]]:
        stream = Unpacked(self.source, member.start, member.size, single=True)
        for info, file in tar_members(stream, open_end=True):
            if not info.isreg():
                continue
            left = info.size
            if left > LIST_LIMIT:
                raise PayloadError(f"{info.name[:80]} is unreasonably large", stream.position)

            def pieces(left: int = left, file: "object" = file) -> Iterator[bytes]:
                while left and (data := file.content(min(left, _PIECE))):  # type: ignore[attr-defined]
                    left -= len(data)
                    yield data
                if left:
                    raise PayloadError("the list is cut off", stream.position)

            yield info.name.removeprefix("./"), pieces()


def open_index(source: Bytes) -> OpenIndex:
    """An index in either of its forms. Raises UnpackError, PayloadError or BinaryError."""
    if is_binary(source.at(0, 4)):
        binary = BinaryFile(source)
        if binary.schema != "index":
            raise BinaryError("it is no index, but a package or records")
        return OpenIndex(source, None, binary)
    return OpenIndex(source, SignedMembers(source, _MEMBERS), None)


def read_offers(index: OpenIndex, path: str, report: Report) -> Iterator[Offer]:
    """Every package of an index; what makes no sense is reported."""
    damages = 0
    for one in index.records():
        told = one.damages if isinstance(one, LetteredRecord) else (one,)
        for damage in told:
            damages += 1
            if damages <= _DAMAGES:
                report(Gap(f"{path}, line {damage.line}", damage.why))
        if isinstance(one, Damage):
            continue
        name, version = one.fields.get("P"), one.fields.get("V")
        if not name or not version:
            report(
                Gap(f"{path}, line {one.line}", "a package without a name, or without a version")
            )
            continue
        named = [("provides", other) for other in _names(one.fields.get("p", ""))]
        yield Offer(
            name, version, one.fields.get("A") or described.ANY, one.fields.get("T"), None,
            text_of_record(one), tuple(dict.fromkeys(named)),
        )  # fmt: skip
    if damages > _DAMAGES:
        report(Gap(path, f"{damages - _DAMAGES:,} more lines make no sense"))


def built_seconds(record: LetteredRecord) -> int | None:
    """When the package of a record was built, in seconds since 1970: None if it does not tell.

    A number of twelve digits or more is no time that a calendar has.
    """
    told = record.fields.get("t", "")
    return int(told) if told.isdecimal() and len(told) < 12 else None


def text_of_record(record: LetteredRecord) -> str:
    """A record as the text that it is read from again."""
    return "\n".join(
        f"{letter}:{line}" for letter, value in record.fields.items() for line in value.split("\n")
    )


def _names(text: str) -> Iterator[str]:
    return (one.term.name for one in relations_in(text) if isinstance(one, PackageRelation))


def fields_in(record: str) -> dict[str, str]:
    """The fields of a record, by their letters."""
    return read_record(record, with_paths=False).fields


def package_offered(record: str, repository: str) -> Package | None:
    """The package of a record; None where it names none."""
    try:
        return described.package_of(fields_in(record), State.AVAILABLE, {"repository": repository})
    except NotAPackage:
        return None


def place_of(package: Package, base: str | None) -> Place:
    """Where the archive of a package is; an index tells its identity, and no digest of the whole."""
    name = f"{package.name}-{package.version}.apk"
    address = f"{base}/{package.architecture}/{name}" if base and "/" not in name else None
    identity = described.identity_of(described.fields_of(package))
    return Place(address, package.archive_size, None, identity=identity)
