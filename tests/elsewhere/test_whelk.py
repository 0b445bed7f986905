"""A family from elsewhere brings all that ours bring, and touches no file of the product."""

import gzip
import hashlib
import json
import os
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.asymmetric.padding import PKCS1v15
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

from tests.conftest import Run, beside
from tests.schema import faults_of

MODULE = Path(__file__).with_name("whelk.py")
KEY = "office.pub"
CONTENTS: dict[str, bytes] = {
    "/usr/bin/sounder": b"#!/bin/dsh\necho deep\n", "/etc/sounder.conf": b"line = 20\n",
    "/usr/lib/liblead": b"lead", "/usr/share/old-lines": b"one two three\n",
}  # fmt: skip


def record(name: str, version: str, *paths: str, **more: Any) -> dict[str, Any]:
    files = {
        path: {
            "digest": f"sha256:{hashlib.sha256(CONTENTS[path]).hexdigest()}",
            "size": len(CONTENTS[path]), "mode": 0o755 if "/bin/" in path else 0o644,
            "config": path.startswith("/etc"),
        }
        for path in paths
    }  # fmt: skip
    size = sum(len(CONTENTS[path]) for path in paths)
    return {
        "name": name,
        "version": version,
        "summary": f"A {name}",
        "size": size,
        "files": files,
        **more,
    }


SOUNDER = record(
    "sounder", "1.2", "/usr/bin/sounder", "/etc/sounder.conf", chosen=True, needs=["liblead~1"]
)
LEAD = record("liblead", "1.4", "/usr/lib/liblead", chosen=False, provides=["lead"])
OLD = record("old-lines", "1.0", "/usr/share/old-lines", chosen=False)
NEWER = record("sounder", "1.3", "/usr/bin/sounder", "/etc/sounder.conf", needs=["liblead~1"])
FLOAT = record("float", "2.0", "/usr/share/old-lines", needs=["liblead~1", "cork"])


class Whelks:
    """A root of the family, its repository in a folder, and its distribution package in another."""

    def __init__(self, top: Path) -> None:
        self.root, self.office, self.site = top / "root", top / "office/shore", top / "site"
        top.mkdir(exist_ok=True)
        self._key = rsa.generate_private_key(65537, 2048)
        public = self._key.public_key().public_bytes(
            Encoding.PEM, PublicFormat.SubjectPublicKeyInfo
        )
        self.ring = top / KEY
        self.ring.write_bytes(public)
        self._root({f"/etc/whelk/keys/{KEY}": public})
        self._offer()
        metadata = self.site / "whelk_systems-1.0.dist-info"
        metadata.mkdir(parents=True)
        (self.site / "whelk_systems.py").write_text(MODULE.read_text())
        (metadata / "METADATA").write_text(
            "Metadata-Version: 2.1\nName: whelk-systems\nVersion: 1.0\n"
        )
        (metadata / "entry_points.txt").write_text(
            "[filigree.families]\nwhelk = whelk_systems:FAMILY\n"
        )

    def _root(self, more: dict[str, bytes]) -> None:
        records = [SOUNDER, LEAD, OLD]
        log = "1750000000 installed liblead 1.4\n1750000001 installed sounder 1.2\n"
        for path, content in {
            "/var/whelk/installed": json.dumps(records).encode(),
            "/etc/whelk/sources": f"{self.office}\n".encode(),
            "/var/whelk/log": log.encode(), "/etc/passwd": b"root:x:0:0::/:\n",
            "/etc/group": b"root:x:0:\n", **CONTENTS, **more,
        }.items():  # fmt: skip
            self.write(path, content)

    def write(self, path: str, content: bytes) -> None:
        place = self.root / path[1:]
        place.parent.mkdir(parents=True, exist_ok=True)
        place.write_bytes(content)
        place.chmod(0o755 if "/bin/" in path else 0o644)

    def signed(self, told: dict[str, Any]) -> bytes:
        body = gzip.compress(json.dumps(told).encode(), mtime=0)
        signature = self._key.sign(body, PKCS1v15(), hashes.SHA256()).hex()
        front = json.dumps({"key": KEY, "signature": signature}).encode()
        # The name that a member may have tells the form at once.
        head = bytearray(gzip.compress(front, mtime=0))
        head[3] = 8
        return bytes(head[:10]) + b"whelk\0" + bytes(head[10:]) + body

    def _offer(self) -> None:
        self.office.mkdir(parents=True)
        packages = []
        for told in (SOUNDER, LEAD, NEWER, FLOAT):
            archive = self.signed(told)
            (self.office / f"{told['name']}-{told['version']}.whelk").write_bytes(archive)
            digest = f"sha256:{hashlib.sha256(archive).hexdigest()}"
            packages.append({**told, "packed": len(archive), "digest": digest})
        listed = self.signed({"made_at": 1_760_000_000, "packages": packages})
        (self.office / "shore.list").write_bytes(listed)
        self.write("/var/whelk/lists/shore.list", listed)


@pytest.fixture(scope="module")
def whelks(tmp_path_factory: pytest.TempPathFactory) -> Whelks:
    return Whelks(tmp_path_factory.mktemp("whelks"))


COMMANDS = {
    "survey": 0, "census": 0, "census --available": 0, "census --any": 0, "census --outsiders": 0,
    "census --leftover": 0, "dossier sounder": 0, "dossier float --available": 0, "dossier ARCHIVE": 0,
    "seek float": 0, "contents sounder": 0, "contents float --available": 0,
    "contents ARCHIVE": 0, "owner /usr/bin/sounder": 0, "owner sounder": 0, "needs sounder": 0,
    "needs liblead": 0, "needs float --any": 1, "needed-by liblead --any": 0, "because liblead": 0,
    "obstacles float": 1, "obstacles ARCHIVE": 1, "whatif --add sounder=1.3": 0, "whatif --upgrade": 0,
    "whatif --drop old-lines": 0, "draw sounder": 0, "verify": 0, "verify --evidence signed": 3,
    "verify sounder --evidence signed --against OFFICE --keyring KEYRING": 0, "provenance sounder": 0,
    "provenance ARCHIVE --keyring KEYRING": 0, "keys": 0, "keys --needed": 0, "strays": 0, "repos": 0,
    "behind": 3, "refresh": 0,
}  # fmt: skip
"""Every command, and its status at this station."""


def ask(run: Run, whelks: Whelks, command: str, *more: str) -> Any:
    words = {
        "ARCHIVE": str(whelks.office / "float-2.0.whelk"),
        "KEYRING": str(whelks.ring),
        "OFFICE": str(whelks.office),
    }
    given = [words.get(word, word) for word in command.split()]
    cache = str(whelks.site.parent / "cache")
    return run(
        *given,
        *more,
        "--root",
        str(whelks.root),
        PYTHONPATH=beside(whelks.site),
        XDG_CACHE_HOME=cache,
    )


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_answers(run: Run, whelks: Whelks, command: str) -> None:
    done = ask(run, whelks, command, "--format", "json")
    assert done.stdout, done.stderr
    answer = json.loads(done.stdout)
    assert not faults_of(answer)
    assert answer["system"]["family"] == "whelk"
    assert (done.returncode, answer["gaps"] == []) == (COMMANDS[command], COMMANDS[command] != 3), (
        done.stdout
    )


def test_what_it_says_is_so(run: Run, whelks: Whelks) -> None:
    """Some of it, against what was laid down."""

    def lines(command: str) -> list[list[str]]:
        return [line.split("\t") for line in ask(run, whelks, command).stdout.splitlines()]

    assert lines("census --columns name,version,reason") == [
        ["liblead", "1.4", "dependency"], ["old-lines", "1.0", "dependency"],
        ["sounder", "1.2", "chosen"],
    ]  # fmt: skip
    assert lines("census --leftover --columns name")[0][0] == "old-lines"
    (need,) = lines("needs sounder")
    assert need[:2] == ["liblead", "1.4"]
    assert "liblead~1" in need
    plan = lines("whatif --add sounder=1.3")
    assert [row[:3] for row in plan] == [["upgrade", "sounder", "1.3"]]
    (owned,) = lines("owner --available /usr/share/old-lines")
    assert "float" in owned
    (chain,) = json.loads(
        ask(run, whelks, "provenance ARCHIVE --keyring KEYRING", "--format", "json").stdout
    )["records"]
    assert (chain["whole"], chain["signature"]) == (True, "good")


def test_an_intruder_is_seen_there_too(run: Run, tmp_path: Path) -> None:
    whelks = Whelks(tmp_path)
    changed = b"#!/bin/dsh\necho calm\n"
    assert len(changed) == len(CONTENTS["/usr/bin/sounder"])
    whelks.write("/usr/bin/sounder", changed)
    done = ask(run, whelks, "verify")
    assert (done.returncode, done.stdout.count("altered")) == (1, 1)
    # The record is doctored too: what is signed tells.
    records = json.loads((whelks.root / "var/whelk/installed").read_bytes())
    digest = f"sha256:{hashlib.sha256(changed).hexdigest()}"
    records[0]["files"]["/usr/bin/sounder"]["digest"] = digest
    whelks.write("/var/whelk/installed", json.dumps(records).encode())
    assert ask(run, whelks, "verify").returncode == 0
    done = ask(run, whelks, "verify --evidence signed --against OFFICE --keyring KEYRING")
    assert (done.returncode, done.stdout.count("doctored")) == (1, 1)
    # And the list, and the key that it is signed with, too.
    theirs = Whelks(tmp_path / "theirs")
    whelks.write(f"/etc/whelk/keys/{KEY}", theirs.ring.read_bytes())
    whelks.write("/var/whelk/lists/shore.list", (theirs.office / "shore.list").read_bytes())
    done = ask(run, whelks, "repos --keyring KEYRING", "--format", "json")
    (row,) = json.loads(done.stdout)["records"]
    assert (done.returncode, row["signature"]) == (1, "bad")


def test_what_of_it_is_damaged_costs_a_gap(run: Run, tmp_path: Path) -> None:
    whelks = Whelks(tmp_path)
    listed = (whelks.office / "shore.list").read_bytes()
    whelks.write("/var/whelk/lists/shore.list", listed[:-7])
    done = ask(run, whelks, "repos", "--format", "json")
    assert done.returncode == 3
    assert "it is not two members" in done.stdout
    whelks.write("/var/whelk/installed", b"[{]")
    done = ask(run, whelks, "census")
    assert (done.returncode, "it makes no sense" in done.stderr) == (2, True)


def test_it_stands_on_the_page_beside_ours(whelks: Whelks) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "filigree.views.families_page"], capture_output=True, text=True,
        check=True, env={**os.environ, "PYTHONPATH": beside(whelks.site)},
    )  # fmt: skip
    head = next(line for line in done.stdout.splitlines() if line.startswith("| command"))
    assert head.endswith("| `whelk` |")
    row = next(line for line in done.stdout.splitlines() if line.startswith("| **keys** "))
    assert row.endswith("| the public keys in `/etc/whelk/keys` |")
    row = next(line for line in done.stdout.splitlines() if line.startswith("| `behind` "))
    assert row.endswith("| **cannot say** held, advisories |")
