"""Bare public keys (RFC 7468: PEM; RFC 5280, section 4.1.2.7: what stands in it), and signatures by them.

Rules, before the code that keeps them:

- A signature by such a key says nothing of itself: by which key it is, and over what, is told beside it.
- A key has no time and no owner but the name of its file, by which signatures call it.
- What is signed with a digest that is no longer trusted is weak, and a key that is too short, too.
"""

import hashlib
import re
from collections.abc import Iterable, Sequence
from typing import Any

from filigree.model.keys import Key, KeyKind, of_kind
from filigree.model.signatures import Signatures, SignatureVerdict, Signer

_BLOCK = re.compile(rb"-----BEGIN ((?:RSA )?PUBLIC KEY)-----.{1,20000}?-----END \1-----", re.DOTALL)
_SHORTEST = 2048
_WEAK = ("md5", "sha1")
_MOST = 64


def holds_public_keys(data: bytes) -> bool:
    """Whether a key file is one of bare public keys."""
    return _BLOCK.search(data) is not None


def read_public_keys(data: bytes, file: str) -> list[Key]:
    """The keys of a file of PEM blocks. Raises ValueError where one cannot be read, or there is none."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives.serialization import load_pem_public_key

    keys = []
    for number, block in enumerate(_BLOCK.finditer(data)):
        if number >= _MOST:
            raise ValueError(f"it holds more than {_MOST} keys")
        try:
            keys.append(_key(load_pem_public_key(block[0]), file))
        except (ValueError, UnsupportedAlgorithm) as error:
            why = str(error).partition("\n")[0][:200]
            raise ValueError(f"a key of it cannot be read: {why}") from error
    if not keys:
        raise ValueError("it holds no public key")
    return keys


def _key(public: Any, file: str) -> Key:
    from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

    whole = public.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    bits = getattr(public, "key_size", None)
    kind = type(public).__name__.strip("_").removesuffix("PublicKey")
    short = kind == "RSA" and bits is not None and bits < _SHORTEST
    name = file.rpartition("/")[2]
    return Key(
        fingerprints=(hashlib.sha256(whole).hexdigest(),), identity=name, made_at=None,
        expires_at=None, revoked=False, file=file, material=public,
        algorithm=f"{kind} {bits}" if bits else kind,
        weakness=f"it has {bits} bits alone" if short else None, kind=KeyKind.PUBLIC, names=(name,),
    )  # fmt: skip


def judge_by_name(
    pieces: Iterable[bytes], signature: bytes, algorithm: str, name: str, keys: Sequence[Key]
) -> Signatures:
    """A signature by RSA (RFC 8017, section 8.2) over the digest of what comes in pieces.

    `name` is what the key is called by whoever put the signature there. Of keys of that name each is
    tried; where none has it, the key is unknown.
    """
    fitting = [one for one in of_kind(keys, KeyKind.PUBLIC) if one.made(name) and _signs_so(one)]
    if not fitting:
        signer = Signer(name, None, None, SignatureVerdict.UNKNOWN_KEY, None)
        why = f"no key that may sign it is at hand for {name}"
        return Signatures(SignatureVerdict.UNKNOWN_KEY, (signer,), why)
    digest = hashlib.new(algorithm, usedforsecurity=False)
    for piece in pieces:
        digest.update(piece)
    told = [_judged(one, signature, digest.digest(), algorithm, name) for one in fitting]
    best = next((one for one in told if one.verdict is not SignatureVerdict.BAD), told[0])
    return Signatures(best.verdict, (best,), best.reason)


def _judged(key: Key, signature: bytes, digest: bytes, algorithm: str, name: str) -> Signer:
    verdict, why = SignatureVerdict.GOOD, None
    if not _holds(key, signature, digest, algorithm):
        verdict = SignatureVerdict.BAD
        why = "it does not fit what it is under: that was changed, or the signature was"
    elif algorithm in _WEAK:
        verdict, why = (
            SignatureVerdict.WEAK,
            f"it is made with {algorithm.upper()}, which is no longer trusted",
        )
    elif key.weakness is not None:
        verdict, why = SignatureVerdict.WEAK, f"its key is no longer trusted: {key.weakness}"
    return Signer(name, key.identity, None, verdict, key.file, why)


def _signs_so(key: Key) -> bool:
    from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey

    return isinstance(key.material, RSAPublicKey)


def _holds(key: Key, signature: bytes, digest: bytes, algorithm: str) -> bool:
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives import hashes
    from cryptography.hazmat.primitives.asymmetric.padding import PKCS1v15
    from cryptography.hazmat.primitives.asymmetric.utils import Prehashed

    form: hashes.HashAlgorithm = getattr(hashes, algorithm.upper())()
    try:
        key.material.verify(signature, digest, PKCS1v15(), Prehashed(form))
    except (InvalidSignature, ValueError):
        return False
    return True
