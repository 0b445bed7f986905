"""OpenPGP certificates (RFC 9580, section 10.1): whose they are, how strong, until when, since when not.

Rules, before the code that keeps them:

- A certificate that cannot be used costs itself, and not the others of its file.
- One that the library finds too weak is kept, with the reason: a signature by it is weak, not bad.
- Secret parts are never looked at.
"""

import re
from datetime import datetime, timedelta
from typing import Any

from filigree.model.keys import Key

_EC_CURVES = {
    "2a8648ce3d030107": "NIST P-256", "2b81040022": "NIST P-384", "2b81040023": "NIST P-521",
    "2b2403030208010107": "brainpoolP256r1", "2b240303020801010b": "brainpoolP384r1",
    "2b240303020801010d": "brainpoolP512r1", "2b06010401da470f01": "Ed25519",
}  # fmt: skip
_FIXED = {"Ed25519": "Ed25519", "Ed448": "Ed448", "X25519": "X25519", "X448": "X448"}
_BITS = {"RSAEncryptSign": "RSA", "RSASign": "RSA", "RSAEncrypt": "RSA", "DSA": "DSA"}
_SELF = ("GenericCertification", "PersonaCertification", "CasualCertification",
         "PositiveCertification", "DirectKey")  # fmt: skip


def read_keys(data: bytes, file: str) -> list[Key]:
    """The certificates of a key file, armoured or not. Raises ValueError where it holds none."""
    from pysequoia import Cert

    try:
        found = list(Cert.split_bytes(data))
    except Exception as error:  # the library has one kind of error for everything
        raise ValueError(f"no keys: {short(error)}") from error
    keys = []
    told = _taken_back(data)
    for certificate in found:
        try:
            own = told if len(found) == 1 or told else _taken_back(bytes(certificate))
            keys.append(_key(certificate, file, own))
        except Exception as error:
            keys.append(_unread(certificate, file, short(error)))
    return keys


def _unread(certificate: Any, file: str, why: str) -> Key:
    prints = (str(certificate.fingerprint),)
    return Key(prints, None, None, None, False, file, certificate, weakness=why, doubt=why)


def _taken_back(data: bytes) -> dict[str, str]:
    """By fingerprint, why a key may have been revoked: what stands behind it in a file, as it is written.

    The library leaves out what it cannot make sense of, and keeps apart what does not hold.
    """
    from pysequoia.packet import PacketPile, Tag

    found: dict[str, str] = {}
    try:
        packets = list(PacketPile.from_bytes(data))
    except Exception:  # what is read of it was read otherwise: each certificate by itself
        return found
    now = ""
    for packet in packets:
        if packet.tag in (Tag.PublicKey, Tag.SecretKey):
            now = packet.fingerprint or ""
        elif packet.tag is Tag.Signature:
            try:
                kind = str(packet.signature_type).rpartition(".")[2]
            except Exception:
                kind = "None"
            if kind == "KeyRevocation":
                found[now] = "it carries a revocation that does not hold, or cannot be judged"
            elif kind == "None":
                found.setdefault(now, "it carries a signature that cannot be read")
    return found


def _key(certificate: Any, file: str, told: dict[str, str]) -> Key:
    from pysequoia.packet import PacketPile, Tag

    prints: list[str] = []
    identity = made = revoked_at = algorithm = None
    lives: list[tuple[datetime, timedelta | None]] = []
    for packet in PacketPile.from_bytes(bytes(certificate)):
        if packet.tag in (Tag.PublicKey, Tag.PublicSubkey, Tag.SecretKey, Tag.SecretSubkey):
            prints.append(packet.fingerprint)
            if algorithm is None:
                made, algorithm = packet.key_created, _algorithm(packet)
        elif packet.tag is Tag.UserID and identity is None:
            identity = packet.user_id
        elif packet.tag is Tag.Signature and len(prints) == 1:
            kind = str(packet.signature_type).rpartition(".")[2]
            if kind == "KeyRevocation":
                revoked_at = packet.signature_created
            elif kind in _SELF and _is_by(packet, prints[0]):
                lives.append((packet.signature_created, packet.key_validity_period))
    own = str(certificate.fingerprint)
    expires, weakness = _expiry(certificate, made, lives)
    revoked, doubt = _revoked(certificate)
    if not revoked:
        doubt = doubt or told.get(prints[0])
    return Key(
        fingerprints=(own, *(one for one in prints if one != own)), identity=identity, made_at=made,
        expires_at=expires, revoked=revoked,
        file=file, material=certificate, algorithm=algorithm or "unknown", weakness=weakness,
        revoked_at=revoked_at, doubt=doubt,
    )  # fmt: skip


def _is_by(packet: Any, fingerprint: str) -> bool:
    issuer = (packet.issuer_fingerprint or packet.issuer_key_id or "").lower()
    return bool(issuer) and fingerprint.endswith(issuer)


def _expiry(
    certificate: Any, made: datetime | None, lives: list[tuple[datetime, timedelta | None]]
) -> tuple[datetime | None, str | None]:
    """Until when it may be used, and why the library does not like it, if it does not.

    Of a certificate that the library refuses the newest of its own signatures tells.
    """
    try:
        return certificate.expiration, None
    except Exception as error:
        weakness = cause(error)
    lasting = max(lives, default=(None, None), key=lambda life: life[0] or datetime.min)[1]
    return (made + lasting if made and lasting else None), weakness


def _revoked(certificate: Any) -> tuple[bool, str | None]:
    """Whether a certificate was revoked, and why that is not known, where it is not."""
    try:
        return bool(certificate.is_revoked), None
    except Exception as error:
        return False, cause(error)


def _algorithm(packet: Any) -> str:
    """Algorithm and size of a key packet: its first number's length (RFC 9580, section 5.5.2)."""
    name = str(packet.key_algorithm).rpartition(".")[2]
    if name in _FIXED:
        return _FIXED[name]
    body = bytes(packet.body)
    if not body:
        return name
    start = {4: 6, 6: 10}.get(body[0], 8)
    if name in _BITS and len(body) >= start + 2:
        return f"{_BITS[name]} {int.from_bytes(body[start : start + 2], 'big')}"
    if name in ("ECDSA", "EdDSA", "ECDH") and len(body) > start:
        curve = body[start + 1 : start + 1 + body[start]].hex()
        return f"{name} {_EC_CURVES.get(curve, '')}".strip()
    return name


def short(error: Exception) -> str:
    """The first line of what the library says: the rest is about itself."""
    return str(error).partition("\n")[0][:200]


_DATED = re.compile(r"(\d{4}-\d\d-\d\d)T[0-9:]+Z")


def cause(error: Exception) -> str:
    """What the library says is behind an error, of several things the last."""
    text = str(error).partition("Stack backtrace")[0]
    lines = [re.sub(r"^\d+: ", "", line.strip()) for line in text.split("\n") if line.strip()]
    told = [line for line in lines if line not in ("Caused by:",)]
    return _DATED.sub(r"\1", told[-1])[:200] if told else "it is not usable"
