"""Signatures of package headers: of an archive's, and of the record that is kept of it.

Follows the signatures chapter of the format's manual. What is covered is the immutable part of the
header with its magic in front; some signatures and digests of archives cover the payload behind it
too. Entries behind the immutable part are nobody's word but the database's own.
"""

import base64
import binascii
import hashlib
from collections.abc import Iterator, Sequence
from datetime import datetime

from filigree.formats.openpgp import Pieces, combined, judge_detached, judge_pieces
from filigree.formats.rpm import tags
from filigree.formats.rpm.header import Header, HeaderError
from filigree.model.keys import Key
from filigree.model.signatures import Check, Signatures, SignatureVerdict

_OF_HEADER = (tags.SIGNATURE_DSA, tags.SIGNATURE_RSA)
_OF_ALL = (
    tags.OLD_SIGNATURE_RSA,
    tags.OLD_SIGNATURE_DSA,
    tags.KEPT_SIGNATURE_RSA,
    tags.KEPT_SIGNATURE_DSA,
)
_DIGESTS = (
    (tags.HEADER_SHA1, "sha1"),
    (tags.HEADER_SHA256, "sha256"),
    (tags.HEADER_SHA3, "sha3_256"),
)
_OF_FILES = frozenset({
    tags.OLD_FILE_NAMES, tags.FILE_SIZES, tags.FILE_MODES, tags.FILE_DEVICE_NUMBERS, tags.FILE_DIGESTS,
    tags.FILE_LINKS, tags.FILE_FLAGS, tags.FILE_OWNERS, tags.FILE_GROUPS, tags.FILE_VERIFY_FLAGS,
    tags.DIRECTORY_INDEXES, tags.BASE_NAMES, tags.DIRECTORY_NAMES, tags.LONG_FILE_SIZES,
    tags.FILE_CAPABILITIES, tags.FILE_DIGEST_ALGORITHM,
})  # fmt: skip
_MOST = 16
_ENOUGH = 1 << 16


def covered_part(header: Header) -> bytes:
    """What signatures and digests of a header cover. Raises HeaderError where that is not told."""
    covered = header.immutable()
    if covered is None:
        raise HeaderError("it has no part that a signature could cover", 0)
    return covered


def header_checks(covered: bytes, kept: Header) -> Iterator[Check]:
    """The digests of the header that are kept with its signatures."""
    for tag, algorithm in _DIGESTS:
        told = kept.text(tag)
        if told:
            found = hashlib.new(algorithm, covered, usedforsecurity=False).hexdigest()
            what = "the header, by the digest kept with it"
            yield Check(what, f"{algorithm}:{told.lower()}", f"{algorithm}:{found}")


def judged_header(
    covered: bytes, kept: Header, keys: Sequence[Key], now: datetime
) -> Iterator[Signatures]:
    """Every signature of the header alone, judged."""
    for signature in header_signatures(kept):
        yield judge_detached(covered, signature, keys, now)


def header_signatures(kept: Header) -> Iterator[bytes]:
    """The signatures of the header alone, in the old tags and the new one."""
    for tag in _OF_HEADER:
        value = kept.value(tag)
        if isinstance(value, bytes) and value:
            yield value
    for text in kept.texts(tags.SIGNATURES_BASE64)[:_MOST]:
        try:
            yield base64.b64decode(text, validate=True)
        except (binascii.Error, ValueError):
            yield text[:_ENOUGH].encode("utf-8", "surrogateescape")  # judged as what cannot be read


def judged_whole(
    pieces: Pieces, size: int, kept: Header, keys: Sequence[Key], now: datetime
) -> Iterator[Signatures]:
    """Every signature of header and payload together, judged."""
    for tag in _OF_ALL:
        value = kept.value(tag)
        if isinstance(value, bytes) and value:
            yield judge_pieces(pieces, size, value, keys, now)


def record_signature(record: Header, keys: Sequence[Key], now: datetime) -> Signatures:
    """What the signatures say of a record that a database keeps. A changed record's signature is bad."""
    try:
        covered = covered_part(record)
    except HeaderError as error:
        return Signatures(
            SignatureVerdict.NONE,
            reason=f"its record bears no signature that could be judged: {error}",
        )
    try:
        wrong = next((one for one in header_checks(covered, record) if not one.holds), None)
        signatures = list(judged_header(covered, record, keys, now))
    except HeaderError as error:
        return Signatures(
            SignatureVerdict.BAD, reason=f"the signatures of the record cannot be read: {error}"
        )
    if wrong is not None:
        algorithm = wrong.expected.partition(":")[0]
        why = f"the record is not what its digest ({algorithm}) says"
        return Signatures(SignatureVerdict.BAD, combined(signatures).signers, why)
    added = sorted(set(_outside(record, covered)) & _OF_FILES)
    if added:
        names = ", ".join(tags.tag_name(tag) for tag in added)
        return Signatures(
            SignatureVerdict.BAD,
            combined(signatures).signers,
            f"{names} stand outside of what is signed",
        )
    return combined(signatures)


def _outside(header: Header, covered: bytes) -> Iterator[int]:
    """The tags behind the immutable part."""
    count = int.from_bytes(covered[8:12], "big")
    return (entry.tag for entry in header.entries[count:])
