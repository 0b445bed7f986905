"""Signatures that another program made: gpg, in a home of its own, is the independent judge of ours."""

import io
import shutil
import subprocess
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path

import pytest

from filigree.demo import deb, rpm
from filigree.demo.goods import goods_of
from filigree.demo.rpm_bytes import header, signature_rows
from filigree.demo.rpm_wares import shipped
from filigree.demo.world import Ware
from filigree.families.deb.archive import DebArchive
from filigree.families.rpm.archive import RpmArchive
from filigree.families.rpm.signatures import record_signature
from filigree.formats.openpgp import IN_MEMORY, judge_detached, judge_pieces
from filigree.formats.openpgp_keys import read_keys
from filigree.formats.random_access import MemoryBytes
from filigree.formats.rpm.header import Type, read_header
from filigree.model.answer import Gap
from filigree.model.keys import Key
from filigree.model.signatures import Signatures, SignatureVerdict

pytestmark = pytest.mark.skipif(shutil.which("gpg") is None, reason="gpg is not here")
NOW = datetime.now(UTC)
TEXT = b"High water at ten past six.\n" * 40
SMALL = Ware(
    "siltcup", "1.0-1", "science", "Holds a little silt", programs=("siltcup",), any_machine=True
)


@dataclass
class Home:
    """A private home of gpg, with one key for each way in which a key can be."""

    folder: Path

    def gpg(self, *words: str, given: bytes = b"") -> bytes:
        done = subprocess.run(
            ["gpg", "--homedir", str(self.folder), "--batch", "--yes", "--quiet", "--no-tty",
             "--pinentry-mode", "loopback", "--passphrase", "", *words],
            input=given, capture_output=True, check=False, timeout=60,
        )  # fmt: skip
        assert done.returncode == 0, done.stderr.decode()
        return done.stdout

    def make(self, name: str, algorithm: str, life: str = "0", at: str = "", *more: str) -> None:
        when = ("--faked-system-time", at) if at else ()
        who = f"{name} <{name}@tides.example>"
        self.gpg(*when, *more, "--quick-generate-key", who, algorithm, "sign", life)

    def sign(self, name: str, data: bytes, *more: str) -> bytes:
        return self.gpg(*more, "-u", f"{name}@tides.example", "--detach-sign", given=data)

    def signer(self, name: str, *more: str) -> Callable[[bytes], bytes]:
        return lambda data: self.sign(name, data, *more)

    def keys(self, *names: str) -> list[Key]:
        data = self.gpg("--export", *(f"{name}@tides.example" for name in names))
        return read_keys(data, "/keys.gpg")

    def fingerprint(self, name: str) -> str:
        lines = (
            self.gpg("--list-keys", "--with-colons", f"{name}@tides.example").decode().split("\n")
        )
        return next(line.split(":")[9] for line in lines if line.startswith("fpr"))


@pytest.fixture(scope="module")
def home(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Home]:
    folder = tmp_path_factory.mktemp("gpg")
    folder.chmod(0o700)
    made = Home(folder)
    made.make("strong", "rsa2048")
    made.make("curved", "ed25519")
    made.make("stranger", "ed25519")
    made.make("lapsed", "rsa2048", "30d", "20240101T000000")
    made.make("late", "ed25519", "0", "20240101T000000")
    made.make("short", "rsa1024")
    made.make("oldfashioned", "rsa2048", "0", "", "--cert-digest-algo", "SHA1")
    made.make("revoked", "ed25519")
    yield made
    subprocess.run(["gpgconf", "--homedir", str(folder), "--kill", "all"], check=False)


KNOWN = ("strong", "curved", "lapsed", "late", "short", "oldfashioned", "revoked")


@pytest.fixture(scope="module")
def made(home: Home) -> dict[str, Signatures]:
    """Every way of signing the same text, judged with the keys as they are in the end."""
    signatures = {
        "rsa": home.sign("strong", TEXT),
        "eddsa": home.sign("curved", TEXT),
        "sha512": home.sign("strong", TEXT, "--digest-algo", "SHA512"),
        "armoured": home.sign("strong", TEXT, "--armor"),
        "two": home.gpg(
            "-u",
            "strong@tides.example",
            "-u",
            "stranger@tides.example",
            "--detach-sign",
            given=TEXT,
        ),
        "sha1": home.sign("strong", TEXT, "--digest-algo", "SHA1"),
        "md5-like": home.sign("strong", TEXT, "--digest-algo", "RIPEMD160"),
        "stranger": home.sign("stranger", TEXT),
        "lapsed": home.sign("lapsed", TEXT, "--faked-system-time", "20240110T000000!"),
        "short": home.sign("short", TEXT),
        "oldfashioned": home.sign("oldfashioned", TEXT),
        "revoked": home.sign("revoked", TEXT),
        "late": home.sign("late", TEXT, "--faked-system-time", "20240301T000000!"),
        "of the future": home.sign("curved", TEXT, "--faked-system-time", "20500301T000000!"),
    }
    # Its life is shortened afterwards: so it had signed when it was over.
    late = home.fingerprint("late")
    home.gpg("--faked-system-time", "20240115T000000", "--quick-set-expire", late, "2024-02-01")
    certificate = home.folder / "openpgp-revocs.d" / f"{home.fingerprint('revoked')}.rev"
    text = certificate.read_text().replace(":-----BEGIN", "-----BEGIN")
    home.gpg("--import", given=text[text.index("-----BEGIN") :].encode())
    keys = home.keys(*KNOWN)
    found = {name: judge_detached(TEXT, one, keys, NOW) for name, one in signatures.items()}
    found |= {
        f"{name}, text changed": judge_detached(TEXT + b"\n", one, keys, NOW)
        for name, one in signatures.items()
    }
    broken = bytearray(signatures["rsa"])
    broken[-20] ^= 1
    found["rsa, signature changed"] = judge_detached(TEXT, bytes(broken), keys, NOW)
    found["cut off"] = judge_detached(TEXT, signatures["rsa"][:-40], keys, NOW)
    found["empty"] = judge_detached(TEXT, b"", keys, NOW)
    found["no signature"] = judge_detached(TEXT, b"what is this?", keys, NOW)
    return found


GOOD, BAD, WEAK = SignatureVerdict.GOOD, SignatureVerdict.BAD, SignatureVerdict.WEAK


@pytest.mark.parametrize(
    ("how", "verdict", "says"),
    [
        ("rsa", GOOD, None),
        ("eddsa", GOOD, None),
        ("sha512", GOOD, None),
        ("armoured", GOOD, None),
        ("two", GOOD, None),
        ("sha1", WEAK, "it is made with SHA1"),
        ("md5-like", WEAK, "it is made with RIPEMD"),
        ("short", WEAK, "its key is no longer trusted: RSA1024"),
        ("oldfashioned", WEAK, "its key is no longer trusted: SHA1"),
        ("stranger", SignatureVerdict.UNKNOWN_KEY, "no key that may sign it is at hand for "),
        ("lapsed", SignatureVerdict.EXPIRED, "its key has expired since, on 2024-01-31"),
        ("late", SignatureVerdict.EXPIRED, "its key had expired on 2024-02-01, before it signed"),
        ("of the future", BAD, "it is from the future: it says that it was made on 2050-03-01"),
        ("revoked", BAD, "its key was revoked on "),
        ("rsa, text changed", BAD, "that was changed"),
        ("eddsa, text changed", BAD, "that was changed"),
        ("sha1, text changed", BAD, "that was changed"),
        ("short, text changed", BAD, "that was changed"),
        ("revoked, text changed", BAD, "that was changed"),
        ("lapsed, text changed", BAD, "that was changed"),
        ("two, text changed", BAD, "that was changed"),
        ("stranger, text changed", BAD, "that was changed"),
        ("rsa, signature changed", BAD, "it does not fit"),
        ("cut off", BAD, "it"),
        ("empty", SignatureVerdict.NONE, "it is not signed"),
        ("no signature", BAD, "cannot be read"),
    ],
)
def test_every_way_of_signing_is_told_apart(
    made: dict[str, Signatures], how: str, verdict: SignatureVerdict, says: str | None
) -> None:
    signature = made[how]
    assert signature.verdict is verdict, signature
    assert (says is None) == (signature.reason is None)
    assert says is None or says in (signature.reason or "")


def test_what_is_large_is_judged_as_what_is_small(home: Home) -> None:
    data = TEXT * (IN_MEMORY // len(TEXT) + 2)
    keys = home.keys("strong")
    signature = home.sign("strong", data)
    pieces = [data[at : at + 1_000_003] for at in range(0, len(data), 1_000_003)]
    assert judge_pieces(lambda: iter(pieces), len(data), signature, keys, NOW).verdict is GOOD
    pieces[3] = pieces[3][:-1] + b"?"
    assert judge_pieces(lambda: iter(pieces), len(data), signature, keys, NOW).verdict is BAD


def test_keys_tell_what_they_are(home: Home) -> None:
    keys = {key.identity.split(" ")[0]: key for key in home.keys(*KNOWN) if key.identity}
    assert keys["strong"].algorithm == "RSA 2048"
    assert keys["curved"].algorithm == "EdDSA Ed25519"
    assert keys["short"].weakness == "RSA1024 is not considered secure since 2014-02-01"
    assert keys["strong"].weakness is None
    assert f"{keys['lapsed'].expires_at:%Y-%m-%d}" == "2024-01-31"
    assert keys["strong"].fingerprint.upper() == home.fingerprint("strong")


def test_one_weak_key_does_not_cost_the_others_of_its_file(home: Home) -> None:
    names = {key.identity for key in home.keys("short", "strong", "oldfashioned")}
    assert len(names) == 3


# -- archives -------------------------------------------------------------------------------


def rpm_signature(data: bytes, keys: list[Key], beside: bytes | None = None) -> Signatures:
    gaps: list[Gap] = []
    return RpmArchive(MemoryBytes(data), "/x.rpm", gaps.append).signature(keys, NOW, beside)


def changed(data: bytes, at: int) -> bytes:
    return data[:at] + bytes([data[at] ^ 1]) + data[at + 1 :]


def main_header_at(data: bytes) -> int:
    """Where the header starts: behind the lead and the header of signatures, at a place divided by 8."""
    count, size = int.from_bytes(data[104:108], "big"), int.from_bytes(data[108:112], "big")
    end = 96 + 16 + 16 * count + size
    return end + -end % 8


@pytest.mark.parametrize("who", ["strong", "curved"])
@pytest.mark.parametrize("tags", ["header", "all", "both"])
def test_archives_of_the_second_family(home: Home, who: str, tags: str) -> None:
    made: list[bytes] = []

    def signer(covered: bytes) -> bytes:
        made.append(home.signer(who)(covered))
        return made[-1]

    sign = signer if tags != "all" else None
    whole = signer if tags != "header" else None
    data = rpm.archive(shipped(SMALL), sign=sign, whole=whole)
    keys = home.keys(who)
    assert rpm_signature(data, keys).verdict is GOOD
    assert rpm_signature(data, home.keys("stranger")).verdict is SignatureVerdict.UNKNOWN_KEY
    name = data.index(b"Holds a little silt")
    for place in (name, len(data) - 30):
        assert rpm_signature(changed(data, place), keys).verdict is BAD
    # No two signatures are of the same length for certain: it is looked for as it was made.
    signature = next(data.index(one) for one in made if one in data)
    for place in (signature + 20, signature + 60):
        assert rpm_signature(changed(data, place), keys).verdict is BAD


def test_a_payload_is_covered_by_a_signature_of_the_header_alone(home: Home) -> None:
    data = rpm.archive(shipped(SMALL), sign=home.signer("curved"))
    signature = rpm_signature(changed(data, len(data) - 30), home.keys("curved"))
    assert signature.verdict is BAD
    assert "header and payload" in (signature.reason or "")
    assert [one.verdict for one in signature.signers] == [
        GOOD,
        GOOD,
    ]  # the header itself is as it was signed


def test_an_archive_without_a_signature_has_none(home: Home) -> None:
    assert (
        rpm_signature(rpm.archive(shipped(SMALL), sign=None), home.keys("strong")).verdict
        is SignatureVerdict.NONE
    )


def deb_data(sign: Callable[[bytes], bytes] | None) -> bytes:
    one = deb.Installed(SMALL, goods_of(SMALL), architecture="all")
    plain = deb.archive(one, "gzip")
    if sign is None:
        return plain
    parts: dict[str, bytes] = {}
    stream = io.BytesIO(plain[8:])
    while head := stream.read(60):
        size = int(head[48:58])
        parts[head[:16].decode().strip()] = stream.read(size)
        stream.read(size % 2)
    return deb.ar({**parts, "_gpgorigin": sign(b"".join(parts.values()))})


def deb_signature(data: bytes, keys: list[Key], beside: bytes | None = None) -> Signatures:
    return DebArchive(MemoryBytes(data), "/x.deb", lambda _: None).signature(keys, NOW, beside)


def test_archives_of_the_first_family_are_signed_inside(home: Home) -> None:
    data, keys = deb_data(home.signer("strong")), home.keys("strong")
    assert deb_signature(data, keys).verdict is GOOD
    assert deb_signature(data, home.keys("curved")).verdict is SignatureVerdict.UNKNOWN_KEY
    inner = data.index(b"data.tar.gz") + 60 + 200
    assert deb_signature(changed(data, inner), keys).verdict is BAD
    # The signature covers every member but signatures: one more does not go unnoticed.
    extra = deb.ar({"more": b"anything"})[8:]
    assert deb_signature(data + extra, keys).verdict is BAD
    assert deb_signature(deb_data(None), keys).verdict is SignatureVerdict.NONE


def test_signatures_beside_an_archive(home: Home) -> None:
    keys = home.keys("curved")
    for data, judge in (
        (deb_data(None), deb_signature),
        (rpm.archive(shipped(SMALL), sign=None), rpm_signature),
    ):
        beside = home.sign("curved", data, "--armor")
        assert judge(data, keys, beside).verdict is GOOD
        assert judge(data, home.keys("strong"), beside).verdict is SignatureVerdict.UNKNOWN_KEY
        assert judge(data, keys, beside[:100]).verdict is BAD
    other = home.sign("curved", b"something else")
    assert deb_signature(deb_data(None), keys, other).verdict is BAD


# -- records --------------------------------------------------------------------------------


def record(home: Home, who: str = "strong", **more: object) -> bytes:
    rows = rpm.rows_of(shipped(SMALL))
    covered = header(rows, magic=True)
    after = [(1008, Type.INT32, 1_700_000_000), *more.get("after", ())]  # type: ignore[misc]
    return header(rows, after=[*signature_rows(covered, home.signer(who)), *after])


def signature_of(blob: bytes, keys: list[Key]) -> Signatures:
    return record_signature(read_header(blob), keys, NOW)


def test_a_record_bears_the_signature_of_its_archive(home: Home) -> None:
    blob, keys = record(home), home.keys("strong")
    assert signature_of(blob, keys).verdict is GOOD
    assert signature_of(blob, []).verdict is SignatureVerdict.UNKNOWN_KEY
    # What installation added is nobody's word, and may say anything.
    at = blob.index((1_700_000_000).to_bytes(4, "big"))
    assert signature_of(changed(blob, at), keys).verdict is GOOD
    summary = blob.index(b"Holds a little silt")
    assert signature_of(changed(blob, summary), keys).verdict is BAD


def test_what_stands_outside_of_the_signature_cannot_speak_of_files(home: Home) -> None:
    blob = record(home, after=[(5010, Type.STRINGS, ["cap_setuid=ep"])])
    signature = signature_of(blob, home.keys("strong"))
    assert signature.verdict is BAD
    assert "stand outside of what is signed" in (signature.reason or "")


def test_a_record_without_an_immutable_part_bears_no_signature(home: Home) -> None:
    blob = header(rpm.rows_of(shipped(SMALL)), region=None)
    signature = signature_of(blob, home.keys("strong"))
    assert signature.verdict is SignatureVerdict.NONE
    assert signature.reason
