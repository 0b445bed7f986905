"""Bare public keys and signatures by them; `openssl` makes them, and judges them beside us."""

import shutil
import subprocess
from pathlib import Path

import pytest

from filigree.demo.repository import public_key
from filigree.formats.key_files import read_key_file
from filigree.formats.public_keys import judge_by_name, read_public_keys
from filigree.model.keys import Key, KeyKind
from filigree.model.signatures import SignatureVerdict
from tests.conftest import Run

pytestmark = pytest.mark.skipif(shutil.which("openssl") is None, reason="openssl is not here")
TEXT = b"High water at ten past six.\n" * 40


def openssl(*words: str, given: bytes = b"") -> bytes:
    done = subprocess.run(
        ["openssl", *words], input=given, capture_output=True, check=False, timeout=60
    )
    assert done.returncode == 0, done.stderr.decode()
    return done.stdout


class Pair:
    """A key that signs, and the file that is handed out."""

    def __init__(self, folder: Path, name: str, bits: int = 2048) -> None:
        self.secret, self.file = folder / f"{name}.pem", folder / f"{name}.rsa.pub"
        openssl("genrsa", "-out", str(self.secret), str(bits))
        openssl("rsa", "-in", str(self.secret), "-pubout", "-out", str(self.file))

    def sign(self, data: bytes, digest: str = "sha256") -> bytes:
        return openssl("dgst", f"-{digest}", "-sign", str(self.secret), given=data)

    def keys(self) -> list[Key]:
        return read_key_file(self.file.read_bytes(), str(self.file))


@pytest.fixture(scope="module")
def coast(tmp_path_factory: pytest.TempPathFactory) -> Pair:
    return Pair(tmp_path_factory.mktemp("keys"), "coast")


@pytest.fixture(scope="module")
def stranger(tmp_path_factory: pytest.TempPathFactory) -> Pair:
    return Pair(tmp_path_factory.mktemp("strange"), "coast")


def test_what_openssl_signed_is_good(coast: Pair) -> None:
    (key,) = coast.keys()
    assert (key.kind, key.algorithm, key.identity) == (KeyKind.PUBLIC, "RSA 2048", "coast.rsa.pub")
    whole = openssl("rsa", "-pubin", "-in", str(coast.file), "-outform", "DER")
    told = openssl("dgst", "-sha256", "-r", given=whole)
    assert key.fingerprint == told.decode().split()[0], "the digest of the key as it is written"
    for digest in ("sha256", "sha512"):
        found = judge_by_name([TEXT], coast.sign(TEXT, digest), digest, "coast.rsa.pub", [key])
        assert found.verdict is SignatureVerdict.GOOD
        assert [one.key_file for one in found.signers] == [str(coast.file)]


def test_what_was_changed_or_signed_by_another_is_bad(coast: Pair, stranger: Pair) -> None:
    signature = coast.sign(TEXT)
    name = "coast.rsa.pub"
    for data, signed, keys in (
        (TEXT + b".", signature, coast.keys()),
        (TEXT, signature[:-1] + bytes([signature[-1] ^ 1]), coast.keys()),
        (TEXT, b"", coast.keys()),
        (TEXT, signature, stranger.keys()),
        (TEXT, coast.sign(TEXT, "sha512"), coast.keys()),
    ):
        assert judge_by_name([data], signed, "sha256", name, keys).verdict is SignatureVerdict.BAD


def test_of_two_keys_of_one_name_the_right_one_counts(coast: Pair, stranger: Pair) -> None:
    keys = [*stranger.keys(), *coast.keys()]
    found = judge_by_name([TEXT], coast.sign(TEXT), "sha256", "coast.rsa.pub", keys)
    assert found.verdict is SignatureVerdict.GOOD
    assert found.signers[0].key_file == str(coast.file)


@pytest.mark.parametrize("name", ["", "other.rsa.pub", "../coast.rsa.pub"])
def test_a_name_that_no_key_has_is_an_unknown_key(coast: Pair, name: str) -> None:
    found = judge_by_name([TEXT], coast.sign(TEXT), "sha256", name, coast.keys())
    assert found.verdict is SignatureVerdict.UNKNOWN_KEY


def test_a_key_of_another_kind_never_counts_here(coast: Pair) -> None:
    keys = [
        one._replace(names=("coast.rsa.pub",)) for one in read_key_file(public_key(), "office.asc")
    ]
    assert [one.kind for one in keys] == [KeyKind.OPENPGP]
    found = judge_by_name([TEXT], coast.sign(TEXT), "sha256", "coast.rsa.pub", keys)
    assert found.verdict is SignatureVerdict.UNKNOWN_KEY


def test_what_is_no_longer_trusted_is_weak(coast: Pair, tmp_path: Path) -> None:
    old = judge_by_name([TEXT], coast.sign(TEXT, "sha1"), "sha1", "coast.rsa.pub", coast.keys())
    assert (old.verdict, old.reason) == (
        SignatureVerdict.WEAK, "it is made with SHA1, which is no longer trusted",
    )  # fmt: skip
    short = Pair(tmp_path, "short", 1024)
    found = judge_by_name([TEXT], short.sign(TEXT), "sha256", "short.rsa.pub", short.keys())
    assert found.verdict is SignatureVerdict.WEAK
    assert "1024 bits" in (found.reason or "")


def test_files_that_hold_none(coast: Pair) -> None:
    text = coast.file.read_bytes()
    for data in (b"", b"no key", text[:60], text.replace(b"M", b"*", 3), text[:-40]):
        with pytest.raises(ValueError, match=r"."):
            read_public_keys(data, "x")
    with pytest.raises(ValueError, match="more than 64"):
        read_public_keys(text * 65, "x")
    other = openssl("genpkey", "-algorithm", "ed25519")
    (key,) = read_public_keys(openssl("pkey", "-pubout", given=other), "ed.pub")
    found = judge_by_name([TEXT], coast.sign(TEXT), "sha256", "ed.pub", [key])
    assert found.verdict is SignatureVerdict.UNKNOWN_KEY, "it makes no such signatures"


def test_a_keyring_of_the_auditors_own_takes_each_kind(
    coast: Pair, heron: Path, tmp_path: Path, call: Run
) -> None:
    ring = tmp_path / "ring"
    ring.mkdir()
    shutil.copy(coast.file, ring)
    (ring / "office.asc").write_bytes(public_key())
    (bare,) = coast.keys()
    done = call("keys", "--keyring", str(ring), "--root", str(heron), "--format", "lines")
    assert done.returncode == 0
    told = [line for line in done.stdout.splitlines() if bare.fingerprint in line]
    assert len(told) == 1
    assert "coast.rsa.pub" in told[0]
    assert "RSA 2048" in told[0]
    # It stands beside the others, and changes nothing of what they judge.
    both, alone = (
        call("repos", "--keyring", str(one), "--root", str(heron), "--format", "jsonl").stdout
        for one in (ring, ring / "office.asc")
    )
    assert both.replace(str(ring), "") == alone.replace(str(ring), "")
    broken = tmp_path / "broken.pub"
    broken.write_bytes(coast.file.read_bytes().replace(b"M", b"*", 3))
    done = call("keys", "--keyring", str(broken), "--root", str(heron))
    assert done.returncode == 2
    assert "no keys can be read" in done.stderr
