"""Several signatures of one thing, those of the future, revocations that cannot be read, large files."""

import base64
import tempfile
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from pysequoia.packet import PacketPile

from filigree.demo.repository import STRANGER, clear_signed, detached, public_key
from filigree.formats import openpgp
from filigree.formats.openpgp import (
    IN_MEMORY,
    judge_clear_signed,
    judge_detached,
    judge_pieces,
    split_clear_signed,
)
from filigree.formats.openpgp_keys import read_keys
from filigree.model.errors import AccessError
from filigree.model.keys import Key
from filigree.model.signatures import Signatures, SignatureVerdict

NOW = datetime.now(UTC) + timedelta(seconds=60)
TEXT = b"High water at ten past six.\nLow water at noon. \n- and so on\n"
GOOD, BAD, UNKNOWN = SignatureVerdict.GOOD, SignatureVerdict.BAD, SignatureVerdict.UNKNOWN_KEY


def office() -> list[Key]:
    return read_keys(public_key(), "/office.asc")


def both() -> list[Key]:
    return [*office(), *read_keys(public_key(STRANGER), "/stranger.asc")]


def raw(data: bytes, key: str | None = None) -> bytes:
    return detached(data, armoured=False) if key is None else detached(data, key, armoured=False)


def broken(signature: bytes) -> bytes:
    """A signature whose last number is another, so that its two bytes of the digest still fit."""
    return signature[:-1] + bytes([signature[-1] ^ 1])


def verdicts(signature: Signatures) -> list[SignatureVerdict]:
    return [one.verdict for one in signature.signers]


CASES = {
    "other, then good": ([raw(b"other\n"), raw(TEXT)], [BAD, GOOD]),
    "good, then other": ([raw(TEXT), raw(b"other\n")], [GOOD, BAD]),
    "broken, then good": ([broken(raw(TEXT)), raw(TEXT)], [BAD, GOOD]),
    "good, then broken": ([raw(TEXT), broken(raw(TEXT))], [GOOD, BAD]),
    "good twice": ([raw(TEXT), raw(TEXT)], [GOOD, GOOD]),
    "two that do not fit": ([raw(b"other\n"), broken(raw(TEXT))], [BAD, BAD]),
    "another's, then good": ([raw(TEXT, STRANGER), raw(TEXT)], [GOOD, GOOD]),
    "another's broken, then good": ([broken(raw(TEXT, STRANGER)), raw(TEXT)], [BAD, GOOD]),
}


@pytest.mark.parametrize("case", CASES)
def test_each_signature_beside_a_file_is_judged_by_itself(case: str) -> None:
    signatures, wanted = CASES[case]
    signature = judge_detached(TEXT, b"".join(signatures), both(), NOW)
    assert verdicts(signature) == wanted
    assert signature.verdict is (BAD if BAD in wanted else GOOD)
    assert all(one.reason for one in signature.signers if one.verdict is BAD)


def armoured(packets: bytes) -> bytes:
    text = base64.encodebytes(packets)
    return b"-----BEGIN PGP SIGNATURE-----\n\n" + text + b"-----END PGP SIGNATURE-----\n"


def clear_packet(text: bytes) -> bytes:
    parts = split_clear_signed(clear_signed(text))
    assert parts is not None
    (packet,) = PacketPile.from_bytes(parts[1])
    body = bytes(packet.body)
    return b"\xc2\xff" + len(body).to_bytes(4, "big") + body


def clear(text: bytes, *packets: bytes) -> bytes:
    """Clear-signed text with other signatures than its own."""
    data = clear_signed(text)
    return data[: data.index(b"-----BEGIN PGP SIGNATURE")] + armoured(b"".join(packets))


@pytest.mark.parametrize(
    ("packets", "wanted"),
    [
        ((b"other\n", TEXT), [BAD, GOOD]), ((TEXT, b"other\n"), [GOOD, BAD]),
        ((TEXT, TEXT), [GOOD, GOOD]), ((b"other\n", b"more\n"), [BAD, BAD]),
    ],
)  # fmt: skip
def test_each_signature_of_clear_signed_text_is_judged_by_itself(
    packets: tuple[bytes, ...], wanted: list[SignatureVerdict]
) -> None:
    data = clear(TEXT, *map(clear_packet, packets))
    signature, text = judge_clear_signed(data, office(), NOW)
    assert verdicts(signature) == wanted
    assert b"Low water at noon." in text


def test_clear_signed_text_that_was_changed_is_bad_whoever_signed_it() -> None:
    data = clear_signed(TEXT).replace(b"ten past", b"six past")
    assert judge_clear_signed(data, office(), NOW)[0].verdict is BAD
    assert judge_clear_signed(data, [], NOW)[0].verdict is BAD
    # Nobody's key is at hand for what fits.
    assert judge_clear_signed(clear_signed(TEXT), [], NOW)[0].verdict is UNKNOWN


@pytest.mark.parametrize("days", [1, 30, 9000])
def test_one_from_the_future_says_so(days: int) -> None:
    """To somebody whose clock is behind, that is: the signature itself is sound."""
    then = NOW - timedelta(days=days)
    signature = raw(TEXT)
    (packet,) = PacketPile.from_bytes(signature)
    key = office()[0]
    # The library asks the machine's clock; so what does not hold is judged by ours.
    verdict, reason = openpgp._judged(packet, key, False, then)
    assert verdict is BAD
    assert (reason or "").startswith("it is from the future: it says that it was made on ")


# -- revocations ----------------------------------------------------------------------------

_TAGS = {"PublicKey": 6, "UserID": 13, "Signature": 2, "PublicSubkey": 14}


def packed(tag: int, body: bytes) -> bytes:
    return bytes([0xC0 | tag, 0xFF]) + len(body).to_bytes(4, "big") + body


def with_revocation(change: dict[int, int], at_end: bool = False, key: str | None = None) -> bytes:
    """The office's certificate with a revocation that its own key did not make so."""
    (made,) = PacketPile.from_bytes(raw(b"x", key))
    body = bytearray(bytes(made.body))
    for place, value in {1: 0x20, **change}.items():
        body[place] = value
    extra = packed(2, bytes(body))
    pile = list(PacketPile.from_bytes(public_key()))
    packets = [packed(_TAGS[str(p.tag).rpartition(".")[2]], bytes(p.body)) for p in pile]
    packets.insert(len(packets) if at_end else 1, extra)
    return b"".join(packets)


REVOCATIONS = {
    "that does not hold": with_revocation({}),
    "behind its subkeys": with_revocation({}, at_end=True),
    "by somebody else": with_revocation({}, key=STRANGER),
    "of a version nobody knows": with_revocation({0: 9}),
    "by an algorithm nobody knows": with_revocation({2: 99}),
    "by a digest nobody knows": with_revocation({3: 99}),
}


@pytest.mark.parametrize("how", REVOCATIONS)
def test_a_revocation_that_cannot_be_read_is_no_not_revoked(how: str) -> None:
    (key,) = read_keys(REVOCATIONS[how], "/office.gpg")
    assert not key.revoked
    assert key.doubt
    signature = judge_detached(TEXT, raw(TEXT), [key], NOW)
    assert signature.verdict is SignatureVerdict.WEAK
    assert "whether its key was revoked is not known" in (signature.reason or "")


def test_of_a_key_that_nobody_took_back_there_is_no_doubt() -> None:
    assert [key.doubt for key in both()] == [None, None]


# -- large files ----------------------------------------------------------------------------


def large() -> tuple[bytes, bytes]:
    data = TEXT * (IN_MEMORY // len(TEXT) + 2)
    return data, raw(data)


def test_a_large_file_is_judged_as_a_small_one_is() -> None:
    data, signature = large()
    assert judge_detached(data, signature, office(), NOW).verdict is GOOD
    assert judge_detached(data + b"\n", signature, office(), NOW).verdict is BAD
    two = judge_detached(data, raw(b"other\n") + signature, office(), NOW)
    assert verdicts(two) == [BAD, GOOD]


@pytest.mark.parametrize("place", ["nowhere", "a file"])
def test_where_a_large_file_cannot_be_put_it_is_not_called_bad(
    place: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    data, signature = large()
    folder = tmp_path / "scratch"
    if place == "a file":
        folder.write_text("")
    monkeypatch.setattr(tempfile, "tempdir", str(folder))
    with pytest.raises(AccessError, match="no room to check its signature"):
        judge_pieces(lambda: iter((data,)), len(data), signature, office(), NOW)
