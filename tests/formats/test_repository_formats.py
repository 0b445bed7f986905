"""How repositories are configured, listed and signed: read as written, and never trusted."""

import shutil
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.demo.repository import (
    clear_signed,
    detached,
    public_key,
    release_file,
    repomd_xml,
    secret_key,
)
from filigree.formats.damage import Damage
from filigree.formats.deb.preferences import Preference, read_preferences
from filigree.formats.deb.release import Release, read_release
from filigree.formats.deb.sources import Source, read_lines, read_source_stanzas
from filigree.formats.openpgp import judge_clear_signed, judge_detached, split_clear_signed
from filigree.formats.openpgp_keys import read_keys
from filigree.formats.rpm.repo_files import read_sections
from filigree.formats.rpm.repomd import XmlError, read_repomd
from filigree.model.keys import Key
from filigree.model.signatures import SignatureVerdict

NOW = datetime.now(UTC)
URI = "https://a.example/x/"


# -- configuration --------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "found"),
    [
        ("deb https://a.example/x s main", [Source(1, "deb", URI, "s", "main")]),
        ("deb-src https://a.example/x/ s a b # remark",
         [Source(1, "deb-src", URI, "s", "a"), Source(1, "deb-src", URI, "s", "b")]),
        ("deb [arch=amd64,arm64 signed-by=/k.gpg] https://a.example/x s main",
         [Source(1, "deb", URI, "s", "main", True, ("amd64", "arm64"), ("/k.gpg",))]),
        ("deb [trusted=yes] https://a.example/x ./", [Source(1, "deb", URI, "./", None, trusted=True)]),
        ("# deb https://a.example/x s main\n\n", []),
        ("deb https://a.example/x s", [Damage(1, "a repository without a component")]),
        ("rpm x y z", [Damage(1, "a line that is no repository")]),
        ("deb", [Damage(1, "a line that is no repository")]),
        ("[]", [Damage(1, "a line that is no repository")]),
        ("[] []", [Damage(1, "a line that is no repository")]),
        ("deb [arch=amd64 https://a.example/x s main", [Damage(1, "a line that is no repository")]),
        ("deb [trusted] https://a.example/x s main",
         [Damage(1, "a setting without a value: trusted"), Source(1, "deb", URI, "s", "main")]),
        ("deb [trusted=maybe] https://a.example/x s main",
         [Damage(1, "Trusted is neither yes nor no: maybe"), Source(1, "deb", URI, "s", "main")]),
    ],
)  # fmt: skip
def test_lines(text: str, found: list[Source | Damage]) -> None:
    assert list(read_lines(text.encode())) == found


def test_stanzas_with_remarks_inline_keys_and_their_lines() -> None:
    text = (
        "# The first.\nTypes: deb deb-src\nURIs: https://a.example/x\n# A remark within.\n"
        "Suites: s t\nComponents: main\nSigned-By: /k.gpg\n\n\n"
        "Types: deb\nURIs: https://a.example/x\nSuites: u\nComponents: c\nEnabled: no\n"
        "Signed-By:\n -----BEGIN PGP PUBLIC KEY BLOCK-----\n .\n abc\n"
        " -----END PGP PUBLIC KEY BLOCK-----\n"
        "\nTypes: deb\n"
    )
    *sources, damage = read_source_stanzas(text.encode())
    assert isinstance(damage, Damage)
    assert damage.line == 21
    told = [(s.line, s.type, s.suite, s.enabled) for s in sources if isinstance(s, Source)]
    assert told == [
        (2, "deb", "s", True), (2, "deb", "t", True), (2, "deb-src", "s", True),
        (2, "deb-src", "t", True), (10, "deb", "u", False),
    ]  # fmt: skip
    last = sources[-1]
    assert isinstance(last, Source)
    assert last.signed_by[0].startswith("-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nabc")


@pytest.mark.parametrize(
    ("changed", "why", "kept"),
    [
        (("Types: deb", "Types: deb rpm"), "a type of repository that is not known: rpm", 1),
        (("Components: main", "Components:"), "a repository without a component: s", 0),
        (("Suites: s", "Suites: s t/"), "components of a suite that ends in / and has none", 2),
        (
            ("Types: deb", "Types: deb\nEnabled: perhaps"),
            "Enabled is neither yes nor no: perhaps",
            1,
        ),
        (
            ("URIs: https://a.example/x", "URIs:"),
            "a repository without a type, an address or a suite",
            0,
        ),
    ],
)
def test_a_malformed_part_of_an_entry_costs_that_part(
    changed: tuple[str, str], why: str, kept: int
) -> None:
    text = "Types: deb\nURIs: https://a.example/x\nSuites: s\nComponents: main\n".replace(*changed)
    found = list(read_source_stanzas(text.encode()))
    assert [one.why for one in found if isinstance(one, Damage)] == [why]
    assert len([one for one in found if isinstance(one, Source)]) == kept


@pytest.mark.parametrize(
    ("pin", "fits"),
    [
        ("release a=stable", True),
        ("release n=saltmarsh, o=Office", True),
        ("release a=stable,l=Other", False),
        ("release v=12.*", True),
        ("release c=main", True),
        ("release c=other", False),
        ("release b=amd64", True),
        ("release b=arm64", False),
        ("release saltmarsh", True),
        ("release stable", True),
        ("release 12.5", True),
        ("release 13", False),
        ("release o=/^Off/", True),
        ("release o=/(/", False),
        ("release x=1", False),
        ('origin "a.example"', True),
        ("origin b.example", False),
        ("origin *.example", True),
        ("version 1.*", False),
    ],
)
def test_which_index_a_preference_speaks_of(pin: str, fits: bool) -> None:
    text = f"Explanation: x\nPackage: *\nPin: {pin}\nPin-Priority: -7\n"
    (found,) = read_preferences(text.encode())
    assert isinstance(found, Preference)
    assert (found.general, found.priority) == (True, -7)
    facts = {
        "suite": "stable", "codename": "saltmarsh", "origin": "Office", "label": "Coast",
        "version": "12.5", "component": "main", "architecture": "amd64", "host": "a.example",
    }  # fmt: skip
    assert found.fits(facts) is fits


@pytest.mark.parametrize(
    "text", ["Package: a\n", "Pin: release a=x\nPin-Priority: 1\n",
             "Package: a\nPin: x y\nPin-Priority: 1\n",
             "Package: a\nPin: release a=x\nPin-Priority: many\n"],
)  # fmt: skip
def test_what_is_no_preference(text: str) -> None:
    (found,) = read_preferences(text.encode())
    assert isinstance(found, Damage)


def test_sections() -> None:
    text = b"x\n[a]\nname = A\nbaseurl=https://one\n  https://two\n# no\n[b]\nNAME=B\nodd\n"
    sections, damages = read_sections(text)
    assert [(s.name, s.line, s.values) for s in sections] == [
        ("a", 2, {"name": "A", "baseurl": "https://one\nhttps://two"}),
        ("b", 7, {"name": "B"}),
    ]
    assert [damage.line for damage in damages] == [1, 9]


# -- lists of indexes -----------------------------------------------------------------------


def test_a_release_file_tells_the_strongest_digest() -> None:
    text = release_file({"main/Packages": b"abc"}).decode()
    text += "MD5Sum:\n 900150983cd24fb0d6963f7d28e17f72 3 main/Packages\n bad line\n"
    found = read_release(text.encode())
    assert isinstance(found, Release)
    assert found.digests == {
        "main/Packages": (
            "sha256:ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad",
            3,
        )
    }
    assert found.expires_at is not None
    assert found.components == ("main",)


@pytest.mark.parametrize("date", ["", "yesterday", "Sat, 99 Jul 2026 10:16:37 UTC", "0"])
def test_a_date_that_is_none(date: str) -> None:
    found = read_release(f"Suite: s\nDate: {date}\n".encode())
    assert isinstance(found, Release)
    assert found.made_at is None


def test_repomd_is_read_as_written() -> None:
    text, files = repomd_xml({"primary": b"<metadata/>", "filelists": b"<filelists/>"})
    found = read_repomd(text)
    assert set(found.indexes) == {"primary", "filelists"}
    for listed in found.indexes.values():
        assert listed.place.removeprefix("repodata/") in files
        assert (listed.digest or "").startswith("sha256:")
        assert listed.timestamp


@pytest.mark.parametrize(
    ("text", "why"),
    [
        (b"", "no XML"),
        (b"<repomd><data type='primary'>", "no XML"),
        (b'<!DOCTYPE r [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;">]><r>&b;</r>', "document type"),
        (b'<!DOCTYPE r SYSTEM "file:///etc/passwd"><r/>', "document type"),
        (b'<?xml version="1.0"?><r>&undefined;</r>', "no XML"),
    ],
)
def test_xml_takes_no_entities(text: bytes, why: str) -> None:
    with pytest.raises(XmlError, match=why):
        read_repomd(text)


# -- signatures ----------------------------------------------------------------------------------

TEXT = b"Suite: saltmarsh\n- a line that starts with a dash\nCodename: saltmarsh\n"


@pytest.fixture(scope="module")
def keys() -> list[Key]:
    return read_keys(public_key(), "/keys/coast.asc")


@pytest.fixture(scope="module")
def others() -> list[Key]:
    from pysequoia import Tsk

    return read_keys(str(Tsk.generate("Other").extract_certificate()).encode(), "/keys/other.asc")


def test_a_good_signature_says_whose_it_is(keys: list[Key]) -> None:
    signature, text = judge_clear_signed(clear_signed(TEXT), keys, NOW)
    assert signature.verdict is SignatureVerdict.GOOD
    (signer,) = signature.signers
    assert (signer.key_file, signer.verdict) == ("/keys/coast.asc", SignatureVerdict.GOOD)
    assert signer.fingerprint in keys[0].fingerprints
    assert "never to be trusted" in (signer.identity or "")
    assert text.replace(b"\r\n", b"\n") == TEXT


def test_one_changed_byte_is_a_bad_signature(keys: list[Key]) -> None:
    data = clear_signed(TEXT).replace(b"Suite: saltmarsh", b"Suite: saltmarch")
    signature, text = judge_clear_signed(data, keys, NOW)
    assert signature.verdict is SignatureVerdict.BAD
    assert text == TEXT.replace(b"marsh\n-", b"march\n-")


def test_a_key_that_is_not_given_is_unknown(others: list[Key]) -> None:
    signature, _ = judge_clear_signed(clear_signed(TEXT), others, NOW)
    assert signature.verdict is SignatureVerdict.UNKNOWN_KEY
    assert signature.signers[0].fingerprint in (signature.reason or "")


def test_a_key_that_has_expired_since(keys: list[Key]) -> None:
    over = [keys[0]._replace(expires_at=NOW + timedelta(days=9))]
    assert judge_clear_signed(clear_signed(TEXT), over, NOW)[0].verdict is SignatureVerdict.GOOD
    signature, _ = judge_clear_signed(clear_signed(TEXT), over, NOW + timedelta(days=10))
    assert signature.verdict is SignatureVerdict.EXPIRED


def test_what_is_not_signed(keys: list[Key]) -> None:
    signature, text = judge_clear_signed(TEXT, keys, NOW)
    assert (signature.verdict, text) == (SignatureVerdict.NONE, TEXT)


def test_detached_signatures(keys: list[Key], others: list[Key]) -> None:
    signature = detached(TEXT)
    assert judge_detached(TEXT, signature, keys, NOW).verdict is SignatureVerdict.GOOD
    assert judge_detached(TEXT + b".", signature, keys, NOW).verdict is SignatureVerdict.BAD
    assert judge_detached(TEXT, signature, others, NOW).verdict is SignatureVerdict.UNKNOWN_KEY
    assert judge_detached(TEXT, b"no signature", keys, NOW).verdict is SignatureVerdict.BAD


def test_text_before_what_is_signed_is_not_taken(keys: list[Key]) -> None:
    signature, _ = judge_clear_signed(b"Suite: other\n\n" + clear_signed(TEXT), keys, NOW)
    assert signature.verdict is SignatureVerdict.NONE
    assert split_clear_signed(b"x" + clear_signed(TEXT)) is None


def test_gpgv_agrees(tmp_path: Path, keys: list[Key]) -> None:
    if shutil.which("gpgv") is None or shutil.which("gpg") is None:
        pytest.skip("gpgv is not here to judge")
    armoured, ring = tmp_path / "key.asc", tmp_path / "key.gpg"
    armoured.write_bytes(public_key())
    subprocess.run(
        ["gpg", "--homedir", str(tmp_path), "--dearmor", "-o", ring, armoured], check=True
    )
    for data, good in (
        (clear_signed(TEXT), True),
        (clear_signed(TEXT).replace(b"Suite", b"suite"), False),
    ):
        (tmp_path / "InRelease").write_bytes(data)
        done = subprocess.run(
            ["gpgv", "--keyring", ring, tmp_path / "InRelease"], capture_output=True, check=False
        )
        ours, _ = judge_clear_signed(data, keys, NOW)
        assert (done.returncode == 0) is good
        assert (ours.verdict is SignatureVerdict.GOOD) is good


@given(st.binary(max_size=300))
def test_any_bytes_are_a_signature_or_none(data: bytes) -> None:
    keys = read_keys(public_key(), "k")
    assert judge_clear_signed(data, keys, NOW)[0].verdict is SignatureVerdict.NONE
    assert judge_detached(b"x", data, keys, NOW).verdict in (
        SignatureVerdict.BAD,
        SignatureVerdict.NONE,
    )


EDITS = st.lists(st.tuples(st.floats(0, 1), st.integers(0, 20), st.binary(max_size=8)), min_size=1)


@given(EDITS)
def test_a_mutated_signature_is_never_good_for_other_text(
    edits: list[tuple[float, int, bytes]],
) -> None:
    data = bytearray(SIGNED)
    for where, cut, put in edits:
        at = int(where * len(data))
        data[at : at + cut] = put
    signature, text = judge_clear_signed(bytes(data), KEYS, NOW)
    if signature.verdict is SignatureVerdict.GOOD:
        lines = [line.rstrip() for line in text.replace(b"\r", b"").split(b"\n")]
        assert lines == TEXT.split(b"\n")


SIGNED = clear_signed(TEXT)
KEYS = read_keys(public_key(), "k")


@given(st.binary(max_size=200))
def test_any_bytes_are_configuration_or_damage(data: bytes) -> None:
    list(read_lines(data))
    list(read_source_stanzas(data))
    list(read_preferences(data))
    read_release(data)
    read_sections(data)
    try:
        read_repomd(data)
    except XmlError:
        pass
    try:
        read_keys(data, "k")
    except ValueError:
        pass


def test_the_test_key_says_what_it_is() -> None:
    assert "never to be trusted" in str(secret_key().extract_certificate().user_ids[0])
