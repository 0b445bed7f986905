"""What the index of an `rpm` repository offers."""

from collections.abc import Iterator

from filigree.access.jail import Jail
from filigree.families.indexes import unpacked_pieces
from filigree.families.protocol import Report
from filigree.families.rpm.described import full_version, source_name
from filigree.formats.numbers import whole_number
from filigree.formats.repomd import XmlError
from filigree.formats.rpm_primary import Primary, read_primary
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, words_of
from filigree.model.repositories import Offer


def read_offers(jail: Jail, path: str, report: Report) -> Iterator[Offer]:
    """Every package of an index; where it breaks off is reported."""
    try:
        for one in read_primary(unpacked_pieces(jail, path)):
            if one.texts.get("name") and one.facts.get("version.ver"):
                yield _offer(one)
    except (AccessError, UnpackError, XmlError) as error:
        report(Gap(path, words_of(error)))


def _offer(one: Primary) -> Offer:
    texts, facts = one.texts, one.facts
    algorithm, digest = facts.get("checksum.type"), texts.get("checksum")
    epoch = whole_number(facts.get("version.epoch"))
    return Offer(
        texts["name"],
        full_version(epoch, facts["version.ver"], facts.get("version.rel")),
        texts.get("arch") or "",
        texts.get("group") or None,
        source_name(texts.get("sourcerpm")),
        texts.get("summary") or None,
        texts.get("url") or None,
        texts.get("license") or None,
        texts.get("packager") or None,
        texts.get("vendor") or None,
        whole_number(facts.get("size.installed")),
        whole_number(facts.get("size.package")),
        whole_number(facts.get("time.build")),
        facts.get("location.href"),
        f"{algorithm}:{digest}" if algorithm and digest else None,
    )
