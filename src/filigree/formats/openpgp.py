"""Seals: signatures judged with exactly the keys that are given (RFC 9580), by the library for it.

Rules, before the code that keeps them:

- Every signature is judged by itself; the best of them is the seal's verdict, but a bad one is told.
- A signature whose key is not given is by an unknown key: that is no alarm, and the key is named.
- Where the algorithm is no longer trusted the signature is weak, not bad.
- Of clear-signed text only what the signatures cover is given back.

The library itself refuses weak algorithms and keys that were not valid when the signature was made.
"""

import re
from datetime import datetime
from typing import Any, NamedTuple

from filigree.model.seals import Seal, SealVerdict, Signer

_CLEAR = b"-----BEGIN PGP SIGNED MESSAGE-----"
_SIGNATURE = b"-----BEGIN PGP SIGNATURE-----"
_WEAK = ("MD5", "SHA1", "RIPEMD", "RIPE")
_DASH = re.compile(rb"^- ", re.MULTILINE)
_ORDER = [
    SealVerdict.GOOD, SealVerdict.EXPIRED, SealVerdict.WEAK, SealVerdict.UNKNOWN_KEY, SealVerdict.BAD,
]  # fmt: skip


class Key(NamedTuple):
    """One certificate: the fingerprints of all its keys, its own first, whose it is, where it lies."""

    fingerprints: tuple[str, ...]
    identity: str | None
    made_at: datetime | None
    expires_at: datetime | None
    revoked: bool
    file: str
    certificate: Any


def read_keys(data: bytes, file: str) -> list[Key]:
    """The certificates of a key file, armoured or not. Raises ValueError where it holds none."""
    from pysequoia import Cert

    try:
        return [_key(certificate, file) for certificate in Cert.split_bytes(data)]
    except Exception as error:  # the library has one kind of error for everything
        raise ValueError(f"no keys: {_short(error)}") from error


def _key(certificate: Any, file: str) -> Key:
    from pysequoia.packet import PacketPile, Tag

    prints, made = [], None
    for packet in PacketPile.from_bytes(bytes(certificate)):
        if packet.tag in (Tag.PublicKey, Tag.PublicSubkey, Tag.SecretKey, Tag.SecretSubkey):
            prints.append(packet.fingerprint)
            made = made or packet.key_created
    identity = next((str(user) for user in certificate.user_ids), None)
    own = certificate.fingerprint
    return Key(
        (own, *(one for one in prints if one != own)),
        identity,
        made,
        certificate.expiration,
        bool(certificate.is_revoked),
        file,
        certificate,
    )


def split_clear_signed(data: bytes) -> tuple[bytes, bytes] | None:
    """The text and the armoured signatures of clear-signed data, unjudged; None where it is none."""
    start = data.find(_CLEAR)
    end = data.find(b"\n" + _SIGNATURE, start)
    body = data.find(b"\n\n", start)
    if start != 0 or end < 0 or not 0 <= body < end:
        return None
    # The end of the line before the signatures belongs to them.
    return _DASH.sub(b"", data[body + 2 : end]), data[end + 1 :]


def judge_clear_signed(data: bytes, keys: list[Key], now: datetime) -> tuple[Seal, bytes]:
    """The seal of clear-signed data, and its text: what is covered, where a signature holds."""
    from pysequoia import verify

    parts = split_clear_signed(data)
    if parts is None:
        return Seal(SealVerdict.NONE, reason="it is not signed"), data
    try:
        found = verify(bytes=data, store=lambda _: [key.certificate for key in keys])
        held, text = {one.signing_key for one in found.valid_sigs}, found.bytes or b""
    except Exception:  # it says no more than that no signature holds
        held, text = set(), parts[0]
    return _seal(parts[1], held, keys, now), text


def judge_detached(data: bytes, signature: bytes, keys: list[Key], now: datetime) -> Seal:
    """The seal of data by signatures that lie beside it."""
    from pysequoia import Sig, verify

    try:
        found = verify(
            bytes=data,
            store=lambda _: [key.certificate for key in keys],
            signature=Sig.from_bytes(signature),
        )
        held = {one.signing_key for one in found.valid_sigs}
    except Exception:  # as above
        held = set()
    return _seal(signature, held, keys, now)


def _seal(signatures: bytes, held: set[str], keys: list[Key], now: datetime) -> Seal:
    from pysequoia.packet import PacketPile, Tag

    try:
        packets = [p for p in PacketPile.from_bytes(signatures) if p.tag is Tag.Signature]
    except Exception as error:
        return Seal(SealVerdict.BAD, reason=f"its signature cannot be read: {_short(error)}")
    signers = tuple(_signer(packet, held, keys, now) for packet in packets[:64])
    if not signers:
        return Seal(SealVerdict.NONE, reason="it is not signed")
    verdict = min((signer.verdict for signer in signers), key=_ORDER.index)
    if any(signer.verdict is SealVerdict.BAD for signer in signers):
        return Seal(SealVerdict.BAD, signers, "a signature does not fit what it is under")
    return Seal(verdict, signers, _reason(verdict, signers))


def _reason(verdict: SealVerdict, signers: tuple[Signer, ...]) -> str | None:
    if verdict is SealVerdict.UNKNOWN_KEY:
        names = ", ".join(signer.fingerprint for signer in signers)
        return f"no key that may sign it is at hand for {names}"
    if verdict is SealVerdict.WEAK:
        return "its algorithm is no longer trusted"
    return "its key has expired" if verdict is SealVerdict.EXPIRED else None


def _signer(packet: Any, held: set[str], keys: list[Key], now: datetime) -> Signer:
    issuer = (packet.issuer_fingerprint or packet.issuer_key_id or "").lower()
    made = packet.signature_created
    key = next((k for k in keys if any(one.endswith(issuer) for one in k.fingerprints)), None)
    if not issuer or key is None:
        return Signer(issuer, None, made, SealVerdict.UNKNOWN_KEY, None)
    if any(one.endswith(issuer) for one in held):
        over = key.expires_at is not None and key.expires_at < now
        verdict = SealVerdict.EXPIRED if over else SealVerdict.GOOD
    elif any(word in str(packet.hash_algorithm).upper().replace("-", "") for word in _WEAK):
        verdict = SealVerdict.WEAK
    elif made is not None and key.expires_at is not None and key.expires_at < made:
        verdict = SealVerdict.EXPIRED
    else:
        verdict = SealVerdict.BAD
    return Signer(issuer, key.identity, made, verdict, key.file)


def _short(error: Exception) -> str:
    """The first line of what the library says: the rest is about itself."""
    return str(error).partition("\n")[0][:200]
