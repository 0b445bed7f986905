"""What the index of a `deb` repository offers."""

from collections.abc import Iterator, Mapping

from filigree.access.jail import Jail
from filigree.families.deb.stanza import source_of
from filigree.families.indexes import unpacked_pieces
from filigree.families.protocol import Report
from filigree.formats.damage import Damage
from filigree.formats.deb_index import read_index
from filigree.formats.numbers import whole_number
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, words_of
from filigree.model.repositories import Offer

DAMAGES_LIMIT = 20


def read_offers(jail: Jail, path: str, report: Report) -> Iterator[Offer]:
    """Every package of an index; what is none is reported."""
    damages = 0
    try:
        for fields in read_index(unpacked_pieces(jail, path)):
            if isinstance(fields, Damage):
                damages += 1
                if damages <= DAMAGES_LIMIT:
                    report(Gap(f"{path}, stanza {fields.line}", fields.why))
            elif "Package" in fields and "Version" in fields:
                yield _offer(fields)
    except (AccessError, UnpackError) as error:
        report(Gap(path, words_of(error)))


def _offer(fields: Mapping[str, str]) -> Offer:
    get = fields.get
    name = fields["Package"]
    source = get("Source")
    size = whole_number(get("Installed-Size"))
    digest = get("SHA256")
    return Offer(
        name,
        fields["Version"],
        get("Architecture") or "",
        get("Section"),
        name if source is None else source_of(source, name, ""),
        (get("Description") or "").partition("\0")[0] or None,
        get("Homepage"),
        None,
        get("Maintainer"),
        None,
        None if size is None else size * 1024,
        whole_number(get("Size")),
        None,
        get("Filename"),
        f"sha256:{digest}" if digest else None,
    )
