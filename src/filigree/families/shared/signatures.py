"""What the archives of all families do alike with their signatures: parts of a file, and what they
weigh.
"""

import hashlib
import os
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime

from filigree.formats.openpgp import combined, judge_pieces
from filigree.formats.random_access import Bytes
from filigree.model.keys import Key
from filigree.model.signatures import Check, Signatures, SignatureVerdict

ENDINGS = (".asc", ".sig", ".gpg")
"""How a signature is called that lies beside what it is of."""
_PIECE = 1 << 20


def part_of(source: Bytes, start: int, size: int | None = None) -> Iterator[bytes]:
    """A part of a file in pieces, to its end unless a size is given."""
    end = source.size if size is None else min(source.size, start + size)
    while start < end and (piece := source.at(start, min(_PIECE, end - start))):
        yield piece
        start += len(piece)


def digest_of_part(source: Bytes, start: int, algorithm: str) -> str:
    """The digest of a file from a place to its end."""
    digest = hashlib.new(algorithm, usedforsecurity=False)
    for piece in part_of(source, start):
        digest.update(piece)
    return f"{algorithm}:{digest.hexdigest()}"


def beside_signature(
    source: Bytes, signature: bytes, keys: Sequence[Key], now: datetime
) -> Signatures:
    """The signature of a whole file by a signature that lies beside it."""
    return judge_pieces(lambda: part_of(source, 0), source.size, signature, keys, now)


def weighed(signatures: Iterable[Signatures], checks: Sequence[Check]) -> Signatures:
    """All signatures of an archive together; bad where it is not what it says of itself."""
    signature = combined(signatures)
    wrong = next((check for check in checks if not check.holds), None)
    if wrong is None:
        return signature
    return Signatures(
        SignatureVerdict.BAD,
        signature.signers,
        f"{wrong.what}: {wrong.expected}, found {wrong.found}",
    )


def signature_of_file(path: str, signature: str, keys: Sequence[Key], now: datetime) -> Signatures:
    """The signature of a file of the auditor's own, by a signature in another."""
    with open(path, "rb") as file, open(signature, "rb") as beside:
        size = os.fstat(file.fileno()).st_size

        def pieces() -> Iterator[bytes]:
            file.seek(0)
            return iter(lambda: file.read(_PIECE), b"")

        return judge_pieces(pieces, size, beside.read(), keys, now)


def signed_at(signature: Signatures) -> datetime | None:
    """When something was signed, by a signature that holds."""
    return next(
        (one.made_at for one in signature.signers if one.verdict is SignatureVerdict.GOOD), None
    )


def why_refused(signature: Signatures, required: bool) -> str | None:
    """Why what came is not to be believed by its signature; `required` is whether it must bear one."""
    if signature.verdict is SignatureVerdict.BAD:
        return f"its signature is bad: {signature.reason or 'the signature does not fit'}"
    if signature.verdict is SignatureVerdict.NONE and required:
        return "it is not signed, and it must be"
    return None
