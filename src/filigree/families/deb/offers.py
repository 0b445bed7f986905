"""What the indexes of a `deb` repository tell."""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from filigree.families.deb.stanza import package_of
from filigree.families.protocol import Report
from filigree.families.shared.not_a_package import NotAPackage
from filigree.formats.damage import Damage
from filigree.formats.deb.contents import read_contents
from filigree.formats.deb.index import IndexEntry, fields_of, read_index
from filigree.formats.numbers import whole_number
from filigree.model.answer import Gap
from filigree.model.package import Package, State
from filigree.model.repositories import ListedPath, Offer, Place

DAMAGES_LIMIT = 20
_NOTHING: Mapping[str, str] = {}
_TRANSLATED = re.compile(r"Description-(?!md5)\S+")
_CONDITION = re.compile(r"[\s(:].*")


def read_offers(pieces: Iterable[bytes], path: str, report: Report) -> Iterator[Offer]:
    """Every package of an index; what is none is reported."""
    for fields, text in _entries(pieces, path, report):
        name, version = fields.get("Package"), fields.get("Version")
        if name and version:
            summary, _, rest = fields.get("Description", "").partition("\0")
            yield Offer(
                name, version, fields.get("Architecture", ""), summary or None,
                rest.replace("\0", "\n") or None, text, _named(fields),
            )  # fmt: skip


def _named(fields: Mapping[str, str]) -> tuple[tuple[str, str], ...]:
    """What is provided; and the groups that it is of, by the field that tells them."""
    found: tuple[tuple[str, str], ...] = ()
    if "Provides" in fields:
        parts = fields["Provides"].split(",")
        found = tuple(("provides", _CONDITION.sub("", part.strip())) for part in parts)
    if "Task" in fields:
        found += tuple(("group", part.strip()) for part in fields["Task"].split(","))
    return found


def _entries(pieces: Iterable[bytes], path: str, report: Report) -> Iterator[IndexEntry]:
    damages = 0
    for entry in read_index(pieces):
        if not isinstance(entry, Damage):
            yield entry
            continue
        damages += 1
        if damages <= DAMAGES_LIMIT:
            report(Gap(f"{path}, stanza {entry.line}", entry.why))
    if damages > DAMAGES_LIMIT:
        report(Gap(path, f"{damages - DAMAGES_LIMIT} more stanzas that are damaged"))


def read_descriptions(
    pieces: Iterable[bytes], path: str, report: Report
) -> Iterator[tuple[str, str]]:
    """The long descriptions of an index, by the digest under which packages name them."""
    for fields, _ in _entries(pieces, path, report):
        key = fields.get("Description-md5")
        others = (v for name, v in fields.items() if _TRANSLATED.fullmatch(name))
        text = next(others, None)
        if key and text:
            yield key, text.replace("\0", "\n")


def description_key(record: str) -> str | None:
    """The key under which a record's long description is kept apart."""
    _, found, rest = record.partition("\nDescription-md5: ")
    return rest.partition("\n")[0] if found else None


def read_paths(pieces: Iterable[bytes], path: str, report: Report) -> Iterator[ListedPath]:
    """Every path of an index, with each package that has it."""
    damages = 0
    for row in read_contents(pieces):
        if not isinstance(row, Damage):
            yield ListedPath(*row)
            continue
        damages += 1
        if damages <= DAMAGES_LIMIT:
            report(Gap(f"{path}, line {row.line}", row.why))


def package_offered(record: str, repository: str, brief: bool = False) -> Package | None:
    """The package of a record that `read_offers` made; None where it describes none after all.

    A `brief` one does without the record's own fields.
    """
    fields = fields_of(record)
    if isinstance(fields, Damage):
        return None
    try:
        return package_of(
            fields,
            state=State.AVAILABLE,
            repository=repository,
            archive_size=whole_number(fields.get("Size")),
            kept=_NOTHING if brief else fields,
        )
    except NotAPackage:
        return None


_DIGESTS = (("SHA512", "sha512"), ("SHA256", "sha256"), ("SHA1", "sha1"), ("MD5sum", "md5"))


def place_of(record: str, addresses: Sequence[str]) -> Place:
    """Where the archive of a record is, below the address of its repository."""
    told = fields_of(record)
    fields: Mapping[str, str] = {} if isinstance(told, Damage) else told
    name = fields.get("Filename")
    known = ((algorithm, fields.get(field)) for field, algorithm in _DIGESTS)
    digest = next((f"{algorithm}:{value.lower()}" for algorithm, value in known if value), None)
    address = (
        f"{addresses[0].rstrip('/')}/{name.removeprefix('./')}" if addresses and name else None
    )
    return Place(address, whole_number(fields.get("Size")), digest)
