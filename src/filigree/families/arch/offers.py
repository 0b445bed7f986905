"""What the indexes of an `arch` repository tell: a folder for each package, in one payload."""

import base64
import binascii
from collections.abc import Iterable, Iterator, Mapping, Sequence

from filigree.families.arch import described
from filigree.families.protocol import Report
from filigree.families.shared.not_a_package import NotAPackage
from filigree.formats.arch.field_blocks import read_blocks
from filigree.formats.arch.relations import parse_relation
from filigree.formats.members import PayloadError
from filigree.formats.numbers import whole_number
from filigree.formats.piece_stream import PieceStream
from filigree.formats.relation_error import RelationError
from filigree.formats.tar_stream import tar_members
from filigree.model.answer import Gap
from filigree.model.package import Package, State
from filigree.model.repositories import ListedPath, Offer, Place

_RECORD_LIMIT = 1 << 20
_PATHS_LIMIT = 64 << 20
_DIGESTS = (("SHA256SUM", "sha256"), ("MD5SUM", "md5"))


def read_offers(pieces: Iterable[bytes], path: str, report: Report) -> Iterator[Offer]:
    """Every package of an index. Raises PayloadError where it breaks off."""
    for folder, data in _records(pieces, ("desc", "depends"), _RECORD_LIMIT):
        fields = read_blocks(data)
        name, version = described.first(fields, "NAME"), described.first(fields, "VERSION")
        if not name or not version:
            report(Gap(f"{folder} in {path}", "a package without a name, or without a version"))
            continue
        named = [("provides", one) for one in _names(fields.get("PROVIDES", ()))]
        named += (("obsoletes", one) for one in _names(fields.get("REPLACES", ())))
        named += (("group", one) for one in fields.get("GROUPS", ()))
        yield Offer(
            name, version, described.first(fields, "ARCH") or "any", described.first(fields, "DESC"),
            None, data.decode("utf-8", "surrogateescape"), tuple(dict.fromkeys(named)),
        )  # fmt: skip


def read_paths(pieces: Iterable[bytes]) -> Iterator[ListedPath]:
    """Every path of an index of paths; the holder is the folder of its package."""
    for folder, data in _records(pieces, ("files",), _PATHS_LIMIT):
        for path in read_blocks(data).get("FILES", ()):
            kind = "directory" if path.endswith("/") else None
            yield ListedPath(f"/{path.strip('/')}", folder, kind)


def _records(
    pieces: Iterable[bytes], wanted: Sequence[str], limit: int
) -> Iterator[tuple[str, bytes]]:
    """Each folder with what its wanted files hold, one behind the other."""
    last, parts = "", b""
    for info, file in tar_members(PieceStream(pieces)):
        folder, _, name = info.name.removeprefix("./").partition("/")
        if not info.isreg() or name not in wanted:
            continue
        if info.size > limit:
            raise PayloadError(f"{info.name[:80]} is unreasonably large", file.position)
        if folder != last and parts:
            yield last, parts
            parts = b""
        last = folder
        parts += file.content(info.size) + b"\n"
    if parts:
        yield last, parts


def _names(relations: Iterable[str]) -> Iterator[str]:
    for text in relations:
        try:
            yield parse_relation(text).name
        except RelationError:
            continue


def fields_in(record: str) -> dict[str, list[str]]:
    """The fields of a record."""
    return read_blocks(record.encode("utf-8", "surrogateescape"))


def package_offered(record: str, repository: str) -> Package | None:
    """The package of a record; None where it names none."""
    fields = fields_in(record)
    more = {
        "repository": repository,
        "archive_size": whole_number(described.first(fields, "CSIZE")),
    }
    told = {**fields, "SIZE": fields.get("ISIZE", [])}
    try:
        return described.package_of(told, State.AVAILABLE, more)
    except NotAPackage:
        return None


def place_of(record: str, addresses: Sequence[str]) -> Place:
    """Where the archive of a record is, what it is promised to be, and its signature."""
    fields = fields_in(record)
    name = described.first(fields, "FILENAME")
    known = ((algorithm, described.first(fields, field)) for field, algorithm in _DIGESTS)
    digest = next((f"{algorithm}:{value.lower()}" for algorithm, value in known if value), None)
    address = (
        f"{addresses[0].rstrip('/')}/{name}" if addresses and name and "/" not in name else None
    )
    return Place(
        address, whole_number(described.first(fields, "CSIZE")), digest, _signature(fields)
    )


def _signature(fields: Mapping[str, Sequence[str]]) -> bytes | None:
    text = described.first(fields, "PGPSIG")
    if not text:
        return None
    try:
        return base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError):
        return text.encode("utf-8", "surrogateescape")  # judged as what cannot be read
