"""Signatures of `apk` archives and indexes, by bare keys that are named by their files."""

import hashlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import Any

from filigree.formats.apk.binary import BinarySignature
from filigree.formats.apk.members import MemberSignature
from filigree.formats.public_keys import judge_by_name
from filigree.model.keys import Key, KeyKind, of_kind
from filigree.model.signatures import Signatures, SignatureVerdict


def judged_members(
    signatures: Sequence[MemberSignature],
    signed: Callable[[], Iterable[bytes]],
    keys: Sequence[Key],
) -> Iterator[Signatures]:
    """What each signature of a file of members says; `signed` gives what they are over."""
    for one in signatures:
        yield judge_by_name(signed(), one.signature, one.algorithm, one.key, keys)


def judged_binary(
    signatures: Sequence[BinarySignature], keys: Sequence[Key]
) -> Iterator[Signatures]:
    """What each signature of a file of blocks says."""
    by_number = {key_number(key.material): key for key in of_kind(keys, KeyKind.PUBLIC)}
    for one in signatures:
        key = by_number.get(one.key)
        name = key.names[0] if key is not None and key.names else one.key
        mine = [key] if key is not None else []
        yield judge_by_name([one.signed], one.signature, "sha512", name, mine)


def key_number(public: Any) -> str:
    """By which number the form of blocks calls a key: the first 16 bytes of its digest, in hex."""
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    if isinstance(public, RSAPublicKey):
        data = public.public_bytes(Encoding.DER, PublicFormat.PKCS1)
    else:
        data = public.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return hashlib.sha512(data).digest()[:16].hex()


def best(signatures: Iterable[Signatures]) -> Signatures:
    """What is to be said of an index that bears several signatures: the best of them."""
    found = list(signatures)
    order = list(SignatureVerdict)
    return max(
        found,
        key=lambda one: order.index(one.verdict),
        default=Signatures(SignatureVerdict.NONE, reason="it is not signed"),
    )
