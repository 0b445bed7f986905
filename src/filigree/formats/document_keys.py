"""Keys of an auditor's that sign documents: Ed25519, ECDSA and RSA in PEM (RFC 8410, RFC 5915, RFC 8017).

Signatures are those that `openssl` verifies: Ed25519 over the data itself, ECDSA and RSA (PKCS #1 v1.5)
over its SHA-256.
"""

import hashlib
from collections.abc import Callable
from typing import NamedTuple

from filigree.model.errors import BadQuestion

_WANTED = "give a secret key in PEM without a passphrase: Ed25519, ECDSA or RSA"
_LEAST = 2048


class DocumentKey(NamedTuple):
    """A key that signs: its identity (the SHA-256 of its public part as DER), and how it signs."""

    identity: str
    sign: Callable[[bytes], bytes]


def read_document_key(data: bytes) -> DocumentKey:
    """A secret key out of a file in PEM. Raises BadQuestion where it is none, or too weak."""
    from cryptography.exceptions import UnsupportedAlgorithm
    from cryptography.hazmat.primitives import hashes, serialization
    from cryptography.hazmat.primitives.asymmetric import ec, ed25519, padding, rsa

    try:
        key = serialization.load_pem_private_key(data, None)
    except (ValueError, TypeError, UnsupportedAlgorithm) as error:
        raise BadQuestion(f"the key cannot sign: {error}", None, _WANTED) from error
    public = key.public_key().public_bytes(
        serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo
    )
    identity = f"SHA256:{hashlib.sha256(public).hexdigest()}"
    if isinstance(key, ed25519.Ed25519PrivateKey):
        return DocumentKey(identity, key.sign)
    if isinstance(key, ec.EllipticCurvePrivateKey):
        curve = key
        return DocumentKey(identity, lambda text: curve.sign(text, ec.ECDSA(hashes.SHA256())))
    if isinstance(key, rsa.RSAPrivateKey) and key.key_size >= _LEAST:
        large = key
        return DocumentKey(
            identity, lambda text: large.sign(text, padding.PKCS1v15(), hashes.SHA256())
        )
    raise BadQuestion("the key cannot sign: it is of a sort that is not trusted", None, _WANTED)
