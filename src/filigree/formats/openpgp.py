"""Seals: signatures judged with exactly the keys that are given (RFC 9580), by the library for it.

Rules, before the code that keeps them:

- Every signature is judged by itself; the best of them is the seal's verdict, but a bad one is told.
- A signature whose key is not given is by an unknown key: that is no alarm, and the key is named. But
  one whose two bytes of the digest do not fit is bad, whoever made it.
- Where the algorithm of the signature or of its key is no longer trusted the signature is weak, not
  bad, as long as the two bytes fit that it tells of its digest: more cannot be said of it.
- A key must have been valid when it signed. What was good then, by a key that has expired since, is
  expired; a key that was revoked is worth nothing, unless the library holds what it signed before.
- Of clear-signed text only what the signatures cover is given back.
"""

import contextlib
import hashlib
import re
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from typing import Any

from filigree.formats.keys import Key, short
from filigree.model.seals import Seal, SealVerdict, Signer

_CLEAR = b"-----BEGIN PGP SIGNED MESSAGE-----"
_SIGNATURE = b"-----BEGIN PGP SIGNATURE-----"
_WEAK = ("MD5", "SHA1", "RIPEMD", "RIPE")
_NAMES = {
    "MD5": "md5", "SHA1": "sha1", "SHA224": "sha224", "SHA256": "sha256", "SHA384": "sha384",
    "SHA512": "sha512", "SHA3256": "sha3_256", "SHA3512": "sha3_512",
}  # fmt: skip
_DASH = re.compile(rb"^- ", re.MULTILINE)
_ORDER = [
    SealVerdict.GOOD, SealVerdict.EXPIRED, SealVerdict.WEAK, SealVerdict.UNKNOWN_KEY, SealVerdict.BAD,
]  # fmt: skip
_MOST = 64
"""Signatures of one thing that are judged."""
IN_MEMORY = 8 << 20

Pieces = Callable[[], Iterator[bytes]]
"""Gives what is signed, in pieces, as often as it is asked for."""


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
    return _seal(parts[1], held, keys, now, None), text


def judge_detached(data: bytes, signature: bytes, keys: Sequence[Key], now: datetime) -> Seal:
    """The seal of data by signatures that lie beside it."""
    return judge_pieces(lambda: iter((data,)), len(data), signature, keys, now)


def judge_pieces(
    pieces: Pieces, size: int, signature: bytes, keys: Sequence[Key], now: datetime
) -> Seal:
    """The seal of what comes in pieces, `size` bytes in all, by signatures that lie beside it.

    What is too large for the memory takes the way over a file without a name.
    """
    fitting = [key for key in keys if any(key.made(one) for one in issuers(signature))]
    held: set[str] = set()
    if fitting and size <= IN_MEMORY:
        held = _holding(fitting, signature, bytes=b"".join(pieces()))
    elif fitting:
        with tempfile.TemporaryFile() as file:
            for piece in pieces():
                file.write(piece)
            file.flush()
            held = _holding(fitting, signature, file=f"/proc/self/fd/{file.fileno()}")
    return _seal(signature, held, keys, now, pieces)


def _holding(keys: Sequence[Key], signature: bytes, **signed: Any) -> set[str]:
    """The keys whose signatures hold: all that the library says of the others is that they do not."""
    from pysequoia import Sig, verify

    try:
        sig = Sig.from_bytes(signature)
        found = verify(**signed, store=lambda _: [one.certificate for one in keys], signature=sig)
        return {one.signing_key for one in found.valid_sigs}
    except Exception:  # the library has one kind of error for everything
        return set()


def combined(seals: Iterable[Seal]) -> Seal:
    """What several signatures of one thing, each kept by itself, say together."""
    found = [seal for seal in seals if seal.verdict is not SealVerdict.NONE]
    signers = tuple(signer for seal in found for signer in seal.signers)
    unread = [seal for seal in found if not seal.signers]
    if not found:
        return Seal(SealVerdict.NONE, reason="it is not signed")
    return unread[0] if unread else _of(signers)


def issuers(signature: bytes) -> list[str]:
    """The keys that signatures name, as fingerprints or key IDs; none where they cannot be read."""
    try:
        packets = _packets(signature)[:_MOST]
    except Exception:
        return []
    found = []
    for packet in packets:
        with contextlib.suppress(Exception):
            found.append(_issuer(packet))
    return [one for one in found if one]


def _packets(signatures: bytes) -> list[Any]:
    from pysequoia.packet import PacketPile, Tag

    return [p for p in PacketPile.from_bytes(signatures) if p.tag is Tag.Signature]


def _issuer(packet: Any) -> str:
    return (packet.issuer_fingerprint or packet.issuer_key_id or "").lower()


def _seal(
    signatures: bytes, held: set[str], keys: Sequence[Key], now: datetime, pieces: Pieces | None
) -> Seal:
    try:
        packets = _packets(signatures)[:_MOST]
    except Exception as error:
        return Seal(SealVerdict.BAD, reason=f"its signature cannot be read: {short(error)}")
    if not packets:
        return Seal(SealVerdict.NONE, reason="it is not signed")
    return _of(tuple(_signed(packet, held, keys, now, pieces) for packet in packets))


def _of(signers: tuple[Signer, ...]) -> Seal:
    worst = next((one for one in signers if one.verdict is SealVerdict.BAD), None)
    if worst is not None:
        return Seal(SealVerdict.BAD, signers, worst.reason)
    best = min(signers, key=lambda signer: _ORDER.index(signer.verdict))
    if best.verdict is SealVerdict.UNKNOWN_KEY:
        names = ", ".join(dict.fromkeys(signer.fingerprint or "no key" for signer in signers))
        return Seal(best.verdict, signers, f"no key that may sign it is at hand for {names}")
    return Seal(best.verdict, signers, best.reason)


def _signed(
    packet: Any, held: set[str], keys: Sequence[Key], now: datetime, pieces: Pieces | None
) -> Signer:
    try:
        return _signer(packet, held, keys, now, pieces)
    except RuntimeError as error:  # a damaged packet tells so only when it is asked for its parts
        why = f"it cannot be read: {short(error)}"
        return Signer("", None, None, SealVerdict.BAD, None, why)


def _signer(
    packet: Any, held: set[str], keys: Sequence[Key], now: datetime, pieces: Pieces | None
) -> Signer:
    issuer, made = _issuer(packet), packet.signature_created
    key = next((one for one in keys if one.made(issuer)), None)
    holds = any(one.endswith(issuer) for one in held) if issuer else False
    if not holds and pieces is not None and digest_fits(packet, pieces) is False:
        # That takes no key to see.
        whose = (key.identity, key.file) if key else (None, None)
        why = "it does not fit what it is under: that was changed, or the signature was"
        return Signer(issuer, whose[0], made, SealVerdict.BAD, whose[1], why)
    if not holds and made is None:
        return Signer(issuer, None, None, SealVerdict.BAD, None, "it cannot be read")
    if key is None:
        says = packet.signers_user_id
        reason = f"it says that it is by {says}" if says else None
        return Signer(issuer, None, made, SealVerdict.UNKNOWN_KEY, None, reason)
    verdict, reason = _judged(packet, key, holds, now)
    return Signer(issuer, key.identity, made, verdict, key.file, reason)


def _judged(packet: Any, key: Key, holds: bool, now: datetime) -> tuple[SealVerdict, str | None]:
    """One signature by a key that is at hand: its verdict, and why it is not good, if it is not."""
    made = packet.signature_created
    if holds:
        if key.revoked:
            return SealVerdict.EXPIRED, f"its key was revoked since{_on(key.revoked_at)}"
        if key.expires_at is not None and key.expires_at < now:
            return SealVerdict.EXPIRED, f"its key has expired since, on {key.expires_at:%Y-%m-%d}"
        return SealVerdict.GOOD, None
    hashed = str(packet.hash_algorithm).rpartition(".")[2].upper()
    if key.revoked:
        return SealVerdict.BAD, f"its key was revoked{_on(key.revoked_at)}"
    if made is not None and key.expires_at is not None and key.expires_at < made:
        when = f"{key.expires_at:%Y-%m-%d}"
        return SealVerdict.EXPIRED, f"its key had expired on {when}, before it signed"
    if any(word in hashed.replace("-", "") for word in _WEAK):
        return SealVerdict.WEAK, f"it is made with {hashed}, which is no longer trusted"
    if key.weakness is not None:
        return SealVerdict.WEAK, f"its key is no longer trusted: {key.weakness}"
    if packet.signature_version == 3:
        return SealVerdict.WEAK, "it is of a form of long ago (version 3), which is not judged"
    return SealVerdict.BAD, "it does not fit what it is under"


def _on(moment: datetime | None) -> str:
    return f" on {moment:%Y-%m-%d}" if moment else ""


def digest_fits(packet: Any, pieces: Pieces) -> bool | None:
    """Whether the two bytes fit that a signature tells of its digest; None where that is not known.

    RFC 9580, sections 5.2.2 to 5.2.4, for binary documents: no proof, but what does not fit is wrong.
    """
    body = bytes(packet.body)
    name = _NAMES.get(str(packet.hash_algorithm).rpartition(".")[2].upper().replace("_", ""))
    if name is None or len(body) < 10 or str(packet.signature_type).rpartition(".")[2] != "Binary":
        return None
    if body[0] == 4:
        hashed = 6 + int.from_bytes(body[4:6], "big")
        unhashed = hashed + 2 + int.from_bytes(body[hashed : hashed + 2], "big")
        tail = body[:hashed] + b"\x04\xff" + hashed.to_bytes(4, "big")
        told = body[unhashed : unhashed + 2]
    elif body[0] == 3 and len(body) >= 19:
        tail, told = body[2:7], body[17:19]
    else:
        return None
    digest = hashlib.new(name, usedforsecurity=False)
    for piece in pieces():
        digest.update(piece)
    digest.update(tail)
    return digest.digest()[:2] == told if len(told) == 2 else None
