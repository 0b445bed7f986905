"""Signatures: signatures judged with exactly the keys that are given (RFC 9580), by the library for it.

Rules, before the code that keeps them:

- Every signature is judged by itself, and only that of which the library says so by itself is good; the
  best of them is the signature's verdict, unless one is bad.
- One from the future is bad, and said to be from the future. One by a key of which it cannot be told
  whether it was revoked is no better than weak.
- A signature whose key is not given is by an unknown key: that is no alarm, and the key is named. But
  one whose two bytes of the digest do not fit is bad, whoever made it.
- Where the algorithm of the signature or of its key is no longer trusted the signature is weak, not
  bad, as long as the two bytes fit that it tells of its digest: more cannot be said of it.
- A key must have been valid when it signed. What was good then, by a key that has expired since, is
  expired; a key that was revoked is worth nothing, unless the library holds what it signed before.
- Of clear-signed text only what the signatures cover is given back.
"""

import base64
import contextlib
import hashlib
import re
import tempfile
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime, timedelta
from typing import Any

from filigree.formats.openpgp_keys import short
from filigree.model.errors import AccessError, Obstacle
from filigree.model.keys import Key, KeyKind, of_kind
from filigree.model.signatures import Signatures, SignatureVerdict, Signer

_CLEAR = b"-----BEGIN PGP SIGNED MESSAGE-----"
_SIGNATURE = b"-----BEGIN PGP SIGNATURE-----"
_WEAK = ("MD5", "SHA1", "RIPEMD", "RIPE")
_NAMES = {
    "MD5": "md5", "SHA1": "sha1", "SHA224": "sha224", "SHA256": "sha256", "SHA384": "sha384",
    "SHA512": "sha512", "SHA3256": "sha3_256", "SHA3512": "sha3_512",
}  # fmt: skip
_DASH = re.compile(rb"^- ", re.MULTILINE)
_ORDER = [
    SignatureVerdict.GOOD, SignatureVerdict.EXPIRED, SignatureVerdict.WEAK,
    SignatureVerdict.UNKNOWN_KEY, SignatureVerdict.BAD,
]  # fmt: skip
_SKEW = timedelta(minutes=30)
"""So far two clocks may be apart before one of them is in the other's future."""
_MOST = 16
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


def judge_clear_signed(data: bytes, keys: list[Key], now: datetime) -> tuple[Signatures, bytes]:
    """The signature of clear-signed data, and its text: what is covered, where a signature holds."""
    parts = split_clear_signed(data)
    if parts is None:
        return Signatures(SignatureVerdict.NONE, reason="it is not signed"), data
    text, signatures = parts
    front = data[: len(data) - len(signatures)]
    covered: list[bytes] = []

    def holds(packet: Any, fitting: Sequence[Key]) -> bool:
        found = _verified(fitting, bytes=front + _armoured(packet))
        covered.extend([found.bytes or b""] if found is not None else [])
        return found is not None

    signature = _signature(signatures, holds, keys, now, lambda: iter((_as_text(text),)))
    return signature, covered[0] if covered else text


def judge_detached(data: bytes, signature: bytes, keys: Sequence[Key], now: datetime) -> Signatures:
    """The signature of data by signatures that lie beside it."""
    return judge_pieces(lambda: iter((data,)), len(data), signature, keys, now)


def judge_pieces(
    pieces: Pieces, size: int, signature: bytes, keys: Sequence[Key], now: datetime
) -> Signatures:
    """The signature of what comes in pieces, `size` bytes in all, by signatures that lie beside it.

    What is too large for the memory takes the way over a file of our own. Raises AccessError where there
    is no room for that: then nothing is said of the signature.
    """
    if size > IN_MEMORY and _is_at_hand(signature, keys):
        return _judge_large(pieces, signature, keys, now)
    whole: list[bytes] = []

    def holds(packet: Any, fitting: Sequence[Key]) -> bool:
        if not whole:
            whole.append(b"".join(pieces()))
        return _verified(fitting, packet, bytes=whole[0]) is not None

    return _signature(signature, holds, keys, now, pieces)


def _is_at_hand(signature: bytes, keys: Iterable[Key]) -> bool:
    named = issuers(signature)
    return any(key.made(one) for key in of_kind(keys, KeyKind.OPENPGP) for one in named)


def _judge_large(
    pieces: Pieces, signature: bytes, keys: Sequence[Key], now: datetime
) -> Signatures:
    try:
        # By a name in a folder: the kernel's own name of what is open is not there everywhere.
        with tempfile.NamedTemporaryFile(prefix="filigree-") as file:
            for piece in pieces():
                file.write(piece)
            file.flush()
            with open(file.name, "rb"):
                """It can be opened by that name: else the library would call everything bad."""

            def holds(packet: Any, fitting: Sequence[Key]) -> bool:
                return _verified(fitting, packet, file=file.name) is not None

            return _signature(signature, holds, keys, now, pieces)
    except OSError as error:
        why = f"there is no room to check its signature: {error.strerror}"
        raise AccessError(Obstacle.FAILED, tempfile.gettempdir(), why) from error


Holds = Callable[[Any, Sequence[Key]], bool]
"""Whether one signature holds, by one of these keys."""


def _verified(keys: Sequence[Key], packet: Any = None, **signed: Any) -> Any:
    """What the library says of one signature that holds; None where it does not.

    Each is asked of by itself: of several it says only that one of them holds, by which key.
    """
    from pysequoia import Sig, verify

    try:
        if packet is not None:
            signed["signature"] = Sig.from_bytes(_packed(packet))
        found = verify(**signed, store=lambda _: [one.material for one in keys])
    except Exception:  # the library has one kind of error for everything
        return None
    return found if found.valid_sigs else None


def _packed(packet: Any) -> bytes:
    """One signature packet, with its head (RFC 9580, section 4.2.1)."""
    body = bytes(packet.body)
    return b"\xc2\xff" + len(body).to_bytes(4, "big") + body


def _armoured(packet: Any) -> bytes:
    """One signature in ASCII armour, without the checksum that is not asked for (section 6.2)."""
    text = base64.encodebytes(_packed(packet))
    return b"-----BEGIN PGP SIGNATURE-----\n\n" + text + b"-----END PGP SIGNATURE-----\n"


def _as_text(text: bytes) -> bytes:
    """Text as a signature of clear-signed text covers it (section 7.2): lines without the blanks at their
    ends, divided by carriage return and line feed."""
    return b"\r\n".join(line.rstrip(b" \t\r") for line in text.split(b"\n"))


def combined(signatures: Iterable[Signatures]) -> Signatures:
    """What several signatures of one thing, each kept by itself, say together."""
    found = [
        signature for signature in signatures if signature.verdict is not SignatureVerdict.NONE
    ]
    signers = tuple(signer for signature in found for signer in signature.signers)
    unread = [signature for signature in found if not signature.signers]
    if not found:
        return Signatures(SignatureVerdict.NONE, reason="it is not signed")
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


def _signature(
    signatures: bytes, holds: Holds, keys: Sequence[Key], now: datetime, pieces: Pieces
) -> Signatures:
    try:
        packets = _packets(signatures)[:_MOST]
    except Exception as error:
        return Signatures(
            SignatureVerdict.BAD, reason=f"its signature cannot be read: {short(error)}"
        )
    if not packets:
        return Signatures(SignatureVerdict.NONE, reason="it is not signed")
    return _of(tuple(_signed(packet, holds, keys, now, pieces) for packet in packets))


def _of(signers: tuple[Signer, ...]) -> Signatures:
    worst = next((one for one in signers if one.verdict is SignatureVerdict.BAD), None)
    if worst is not None:
        return Signatures(SignatureVerdict.BAD, signers, worst.reason)
    best = min(signers, key=lambda signer: _ORDER.index(signer.verdict))
    if best.verdict is SignatureVerdict.UNKNOWN_KEY:
        names = ", ".join(dict.fromkeys(signer.fingerprint or "no key" for signer in signers))
        return Signatures(best.verdict, signers, f"no key that may sign it is at hand for {names}")
    return Signatures(best.verdict, signers, best.reason)


def _signed(
    packet: Any, holds: Holds, keys: Sequence[Key], now: datetime, pieces: Pieces
) -> Signer:
    try:
        return _signer(packet, holds, keys, now, pieces)
    except RuntimeError as error:  # a damaged packet tells so only when it is asked for its parts
        why = f"it cannot be read: {short(error)}"
        return Signer("", None, None, SignatureVerdict.BAD, None, why)


def _signer(
    packet: Any, holds_by: Holds, keys: Sequence[Key], now: datetime, pieces: Pieces
) -> Signer:
    issuer, made = _issuer(packet), packet.signature_created
    fitting = [one for one in of_kind(keys, KeyKind.OPENPGP) if one.made(issuer)]
    key = next(iter(fitting), None)
    holds = bool(fitting) and holds_by(packet, fitting)
    if not holds and digest_fits(packet, pieces) is False:
        # That takes no key to see.
        whose = (key.identity, key.file) if key else (None, None)
        why = "it does not fit what it is under: that was changed, or the signature was"
        return Signer(issuer, whose[0], made, SignatureVerdict.BAD, whose[1], why)
    if not holds and made is None:
        return Signer(issuer, None, None, SignatureVerdict.BAD, None, "it cannot be read")
    if key is None:
        says = packet.signers_user_id
        reason = f"it says that it is by {says}" if says else None
        return Signer(issuer, None, made, SignatureVerdict.UNKNOWN_KEY, None, reason)
    verdict, reason = _judged(packet, key, holds, now)
    return Signer(issuer, key.identity, made, verdict, key.file, reason)


def _judged(
    packet: Any, key: Key, holds: bool, now: datetime
) -> tuple[SignatureVerdict, str | None]:
    """One signature by a key that is at hand: its verdict, and why it is not good, if it is not."""
    made = packet.signature_created
    if holds:
        if key.revoked:
            return SignatureVerdict.EXPIRED, f"its key was revoked since{_on(key.revoked_at)}"
        if key.expires_at is not None and key.expires_at < now:
            return (
                SignatureVerdict.EXPIRED,
                f"its key has expired since, on {key.expires_at:%Y-%m-%d}",
            )
        if key.doubt is not None:
            return SignatureVerdict.WEAK, f"whether its key was revoked is not known: {key.doubt}"
        return SignatureVerdict.GOOD, None
    hashed = str(packet.hash_algorithm).rpartition(".")[2].upper()
    if made is not None and made > now + _SKEW:
        return (
            SignatureVerdict.BAD,
            f"it is from the future: it says that it was made on {made:%Y-%m-%d}",
        )
    if key.revoked:
        return SignatureVerdict.BAD, f"its key was revoked{_on(key.revoked_at)}"
    if made is not None and key.expires_at is not None and key.expires_at < made:
        when = f"{key.expires_at:%Y-%m-%d}"
        return SignatureVerdict.EXPIRED, f"its key had expired on {when}, before it signed"
    if any(word in hashed.replace("-", "") for word in _WEAK):
        return SignatureVerdict.WEAK, f"it is made with {hashed}, which is no longer trusted"
    if key.weakness is not None:
        return SignatureVerdict.WEAK, f"its key is no longer trusted: {key.weakness}"
    if packet.signature_version == 3:
        return SignatureVerdict.WEAK, "it is of a form of long ago (version 3), which is not judged"
    return SignatureVerdict.BAD, "it does not fit what it is under"


def _kind(packet: Any) -> str:
    return str(packet.signature_type).rpartition(".")[2]


def _on(moment: datetime | None) -> str:
    return f" on {moment:%Y-%m-%d}" if moment else ""


def digest_fits(packet: Any, pieces: Pieces) -> bool | None:
    """Whether the two bytes fit that a signature tells of its digest; None where that is not known.

    RFC 9580, sections 5.2.2 to 5.2.4, of documents and text: no proof, but what does not fit is wrong.
    """
    body = bytes(packet.body)
    name = _NAMES.get(str(packet.hash_algorithm).rpartition(".")[2].upper().replace("_", ""))
    if name is None or len(body) < 10 or _kind(packet) not in ("Binary", "Text"):
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
