"""Archives of `apk` that a packager of somebody else's wrote: signed, unsigned, tampered with.

Run by make peers, which installs it.
"""

import gzip
import hashlib
import shutil
import subprocess
import sys
from datetime import UTC, datetime
from pathlib import Path

import pytest
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
)

from filigree.families.apk.archive import ApkArchives, MembersArchive
from filigree.formats.public_keys import read_public_keys
from filigree.formats.random_access import MemoryBytes
from filigree.model.answer import Gap
from filigree.model.errors import DatabaseError
from filigree.model.files import Kind
from filigree.model.keys import Key
from filigree.model.signatures import SignatureVerdict

pytestmark = pytest.mark.peers
PACKAGER = next(
    filter(None, (shutil.which(str(Path(sys.prefix).parent / ".peers/bin/nfpm")), shutil.which("nfpm"))),
    None,
)  # fmt: skip
NOW = datetime(2026, 3, 1, tzinfo=UTC)
NAME = "tides.rsa.pub"
PROGRAM = b"#!/bin/dsh\necho deep\n"
RECIPE = """
name: tidegauge
arch: amd64
version: 2.1.0
release: 3
maintainer: Ottoline Marsh <ottoline@tides.example>
description: Reads the tide gauge
homepage: https://tides.example/tidegauge
license: custom
depends: ["libbrine2>=2.1", "so:libsaltc.so.6"]
provides: ["cmd:tidegauge=2.1.0"]
replaces: ["oldgauge"]
contents:
  - {src: program, dst: /usr/bin/tidegauge, file_info: {mode: 0755}}
  - {src: settings, dst: /etc/tidegauge/gauge.conf, type: config}
  - {src: tidegauge, dst: /usr/bin/tg, type: symlink}
scripts: {postinstall: script}
"""


@pytest.fixture(scope="module")
def key() -> rsa.RSAPrivateKey:
    return rsa.generate_private_key(65537, 2048)


@pytest.fixture(scope="module")
def keys(key: rsa.RSAPrivateKey) -> list[Key]:
    public = key.public_key().public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo)
    return read_public_keys(public, f"/etc/apk/keys/{NAME}")


def made(folder: Path, key: rsa.RSAPrivateKey | None) -> bytes:
    """The archive that the packager writes."""
    if PACKAGER is None:
        pytest.skip("there is no such packager here")
    (folder / "program").write_bytes(PROGRAM)
    (folder / "settings").write_text("a = 1\n")
    (folder / "script").write_text("true\n")
    recipe = RECIPE
    if key is not None:
        pem = key.private_bytes(Encoding.PEM, PrivateFormat.TraditionalOpenSSL, NoEncryption())
        (folder / "key").write_bytes(pem)
        recipe += f"apk: {{signature: {{key_file: key, key_name: {NAME}}}}}\n"
    (folder / "recipe.yaml").write_text(recipe)
    words = [PACKAGER, "package", "-p", "apk", "-f", "recipe.yaml", "-t", "out.apk"]
    done = subprocess.run(words, cwd=folder, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    return (folder / "out.apk").read_bytes()


def opened(data: bytes, gaps: list[Gap] | None = None) -> MembersArchive:
    return MembersArchive(MemoryBytes(data), "out.apk", (gaps if gaps is not None else []).append)


def test_what_it_wrote_is_read(tmp_path: Path, key: rsa.RSAPrivateKey, keys: list[Key]) -> None:
    data = made(tmp_path, key)
    assert ApkArchives().recognises(data[:512])
    gaps: list[Gap] = []
    archive = opened(data, gaps)
    package = archive.package
    assert (package.name, package.version, package.architecture) == (
        "tidegauge",
        "2.1.0-r3",
        "x86_64",
    )
    assert [one.text for one in archive.needs()] == [
        "libbrine2>=2.1",
        "so:libsaltc.so.6",
        "oldgauge",
    ]
    assert "cmd:tidegauge (= 2.1.0)" in map(str, archive.capabilities())
    told = {one.path: one for one in archive.files()}
    gauge = told["/usr/bin/tidegauge"]
    assert (gauge.digest, gauge.mode) == (f"sha256:{hashlib.sha256(PROGRAM).hexdigest()}", 0o755)
    assert (told["/usr/bin/tg"].kind, told["/usr/bin/tg"].link_target) == (Kind.LINK, "tidegauge")
    assert [one.path for one in archive.configuration()] == ["/etc/tidegauge/gauge.conf"]
    assert [one.name for one in archive.scripts()] == ["post-install"]
    assert all(check.holds for check in archive.checks())
    # It signs with SHA-1.
    assert archive.signature(keys, NOW).verdict is SignatureVerdict.WEAK
    assert gaps == []


def test_what_nobody_signed(tmp_path: Path, keys: list[Key]) -> None:
    assert opened(made(tmp_path, None)).signature(keys, NOW).verdict is SignatureVerdict.NONE


def test_what_another_signed(tmp_path: Path, keys: list[Key]) -> None:
    other = rsa.generate_private_key(65537, 2048)
    assert opened(made(tmp_path, other)).signature(keys, NOW).verdict is SignatureVerdict.BAD


def test_wherever_a_byte_is_changed_it_is_told(
    tmp_path: Path, key: rsa.RSAPrivateKey, keys: list[Key]
) -> None:
    data = made(tmp_path, key)
    before = opened(data)
    first, last = before._told.members
    quiet = []
    for at in range(0, len(data), 3):
        changed = data[:at] + bytes([data[at] ^ 0x10]) + data[at + 1 :]
        try:
            verdict = opened(changed).signature(keys, NOW).verdict
        except DatabaseError:
            continue
        if verdict is SignatureVerdict.WEAK:
            quiet.append(at)
    # What goes before the signature (the head of its member: a time, a system) is signed by nobody.
    assert all(at < first.start for at in quiet), (quiet, first, last)
    assert len(quiet) < 40


def test_other_data_under_its_signature(
    tmp_path: Path, key: rsa.RSAPrivateKey, keys: list[Key]
) -> None:
    data = made(tmp_path, key)
    last = opened(data)._told.members[1]
    inner = gzip.decompress(data[last.start :]).replace(b"echo deep", b"echo gull")
    assert opened(data[: last.start] + gzip.compress(inner)).signature(keys, NOW).verdict is (
        SignatureVerdict.BAD
    )


@pytest.mark.skipif(shutil.which("bsdtar") is None, reason="there is no bsdtar here")
def test_another_reader_lists_the_same(tmp_path: Path, key: rsa.RSAPrivateKey) -> None:
    archive = opened(made(tmp_path, key))
    done = subprocess.run(
        ["bsdtar", "-tf", "out.apk"], cwd=tmp_path, capture_output=True, text=True, check=True
    )
    paths = {f"/{name.strip('/')}" for name in done.stdout.split() if not name.startswith(".")}
    assert paths == {one.path for one in archive.files()}
