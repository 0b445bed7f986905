"""Signatures of snapshots: what is signed, read by the plain published rule; and signatures that lie."""

import hashlib
import json
import shutil
import sqlite3
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from filigree.access.snapshots.form import TABLES
from filigree.demo.repository import STRANGER, detached, public_key, secret_key
from filigree.model.errors import BadQuestion
from filigree.questions.keeping.taking import Taking, snapshot
from filigree.system import open_system
from tests.conftest import Run
from tests.making import DebRoot

KEY = "test-key.asc"


@pytest.fixture
def keys(tmp_path: Path) -> tuple[str, str]:
    """The office's public key, and a stranger's."""
    for name in (KEY, STRANGER):
        (tmp_path / name).write_bytes(public_key(name))
    return str(tmp_path / KEY), str(tmp_path / STRANGER)


def taken(root: DebRoot, out: Path, key: str | None = KEY) -> Path:
    secret = None if key is None else bytes(secret_key(key))
    snapshot(open_system(root.path), str(out), Taking("a test", "0", key=secret))
    return out


@pytest.fixture
def coast(deb_root: DebRoot) -> DebRoot:
    deb_root.package("chart", files={"/usr/bin/plot": b"chart"})
    return deb_root


def statement_of(path: Path) -> bytes:
    """What is signed, by the rule as docs/snapshot.md tells it, and nothing of ours."""

    def told(value: object) -> str | None:
        if value is None:
            return None
        if isinstance(value, bytes):
            return "x" + value.hex()
        return ("t" if isinstance(value, str) else "n") + str(value)

    tables = {}
    with sqlite3.connect(path) as made:
        names = [
            name for (name,) in made.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
        ]
        for name in sorted(set(names) - {"signatures"}):
            columns = [(c[5], c[1]) for c in made.execute(f"PRAGMA table_info({name})") if c[5]]
            order = ", ".join(column for _, column in sorted(columns))
            digest = hashlib.sha256()
            for row in made.execute(f"SELECT * FROM {name} ORDER BY {order}"):
                line = json.dumps(
                    [told(one) for one in row], ensure_ascii=False, separators=(",", ":")
                )
                digest.update(line.encode() + b"\n")
            tables[name] = f"sha256:{digest.hexdigest()}"
    whole = {"form": 1, "statement": "filigree/snapshot", "tables": tables}
    return json.dumps(whole, sort_keys=True, separators=(",", ":")).encode()


def test_what_is_signed_is_as_the_page_says(coast: DebRoot, tmp_path: Path) -> None:
    out = taken(coast, tmp_path / "out")
    with sqlite3.connect(out) as made:
        ((statement, _),) = made.execute("SELECT * FROM signatures").fetchall()
    assert statement.encode() == statement_of(out)
    assert set(json.loads(statement)["tables"]) == set(TABLES) - {"signatures"}


@pytest.mark.skipif(shutil.which("gpgv") is None, reason="there is no gpgv here")
def test_another_reader_believes_the_signature(coast: DebRoot, tmp_path: Path) -> None:
    out = taken(coast, tmp_path / "out")
    with sqlite3.connect(out) as made:
        ((statement, signature),) = made.execute("SELECT * FROM signatures").fetchall()
    (tmp_path / "statement").write_text(statement)
    (tmp_path / "signature").write_text(signature)
    ring = subprocess.run(
        ["gpg", "--dearmor"], input=public_key(KEY), capture_output=True, check=True
    ).stdout
    (tmp_path / "ring").write_bytes(ring)
    files = (tmp_path / name for name in ("ring", "signature", "statement"))
    told = ["gpgv", "--keyring", *map(str, files)]
    assert subprocess.run(told, capture_output=True, check=False).returncode == 0
    (tmp_path / "statement").write_text(statement.replace("sha256", "sha255", 1))
    assert subprocess.run(told, capture_output=True, check=False).returncode != 0


def test_a_good_one_is_good_at_every_question(
    call: Run, coast: DebRoot, tmp_path: Path, keys: tuple[str, str]
) -> None:
    out = taken(coast, tmp_path / "out")
    asked = ("--root", str(out), "--format", "json", "--keyring")
    (told,) = json.loads(call("survey", *asked, keys[0]).stdout)["records"]
    assert told["taken"]["signature"]["verdict"] == "good"
    assert call("verify", *asked, keys[0]).returncode == 0
    (told,) = json.loads(call("survey", *asked, keys[1]).stdout)["records"]
    assert told["taken"]["signature"]["verdict"] == "unknown key"
    for command in ("verify", "survey", "census", "strays"):
        assert call(command, *asked, keys[1]).returncode == 1, command


def _altered(out: Path) -> None:
    with sqlite3.connect(out) as made:
        made.execute("UPDATE entries SET md5 = zeroblob(16) WHERE name = CAST('plot' AS BLOB)")


def _when(out: Path) -> None:
    with sqlite3.connect(out) as made:
        made.execute("UPDATE about SET value = '2020-01-01T00:00:00Z' WHERE name = 'ended'")


def _more(out: Path) -> None:
    with sqlite3.connect(out) as made:
        made.execute("INSERT INTO unlisted VALUES (CAST('/usr/bin' AS BLOB), 'x')")


def _unsigned(out: Path) -> None:
    with sqlite3.connect(out) as made:
        made.execute("DELETE FROM signatures")


def _another_statement(out: Path) -> None:
    with sqlite3.connect(out) as made:
        made.execute("UPDATE signatures SET statement = statement || ' '")


def _another_signature(out: Path) -> None:
    with sqlite3.connect(out) as made:
        made.execute("UPDATE signatures SET signature = ?", (detached(b"other words").decode(),))


def _no_signature_at_all(out: Path) -> None:
    with sqlite3.connect(out) as made:
        made.execute("UPDATE signatures SET signature = 'x'")


def _bytes(out: Path) -> None:
    with sqlite3.connect(out) as made:
        made.execute("UPDATE signatures SET signature = CAST(signature AS BLOB)")


def _a_bad_one_besides(out: Path) -> None:
    with sqlite3.connect(out) as made:
        ((statement, _),) = made.execute("SELECT * FROM signatures").fetchall()
        made.execute("INSERT INTO signatures VALUES (?, ?)", (statement, detached(b"no").decode()))


CHANGES: dict[str, Callable[[Path], None]] = {
    "a row is another": _altered, "it claims another time": _when, "a row more": _more,
    "the signature is taken away": _unsigned, "another statement": _another_statement,
    "a signature of other words": _another_signature, "no signature": _no_signature_at_all,
    "a signature in bytes": _bytes, "a bad signature beside a good one": _a_bad_one_besides,
}  # fmt: skip


@pytest.mark.parametrize("name", CHANGES)
def test_whatever_was_changed_is_bad_news(
    call: Run, coast: DebRoot, tmp_path: Path, keys: tuple[str, str], name: str
) -> None:
    out = taken(coast, tmp_path / "out")
    CHANGES[name](out)
    done = call("census", "--root", str(out), "--keyring", keys[0])
    assert done.returncode == 1, name
    assert "signature" in done.stderr


def test_the_signature_of_another_snapshot_is_none_of_this_one(
    call: Run, coast: DebRoot, tmp_path: Path, keys: tuple[str, str]
) -> None:
    older = taken(coast, tmp_path / "older")
    (coast.folder / "usr/bin/plot").write_bytes(b"other")
    newer = taken(coast, tmp_path / "newer", key=None)
    with sqlite3.connect(older) as made:
        (row,) = made.execute("SELECT * FROM signatures").fetchall()
    with sqlite3.connect(newer) as made:
        made.execute("INSERT INTO signatures VALUES (?, ?)", row)
    assert call("census", "--root", str(newer), "--keyring", keys[0]).returncode == 1
    assert call("census", "--root", str(older), "--keyring", keys[0]).returncode == 0


def test_without_a_key_it_says_so(call: Run, coast: DebRoot, tmp_path: Path) -> None:
    unsigned, signed = taken(coast, tmp_path / "one", None), taken(coast, tmp_path / "other")
    assert "unsigned" in call("census", "--root", str(unsigned)).stderr
    assert "was not judged" in call("census", "--root", str(signed)).stderr


def test_what_is_no_snapshot_has_nothing_to_be_judged(
    call: Run, coast: DebRoot, keys: tuple[str, str]
) -> None:
    done = call("survey", "--root", coast.path, "--keyring", keys[0])
    assert done.returncode == 2
    assert "no snapshot" in done.stderr


@pytest.mark.parametrize("key", [b"", b"x", public_key(KEY)])
def test_a_key_that_cannot_sign(coast: DebRoot, tmp_path: Path, key: bytes) -> None:
    with pytest.raises(BadQuestion, match="cannot sign"):
        snapshot(open_system(coast.path), str(tmp_path / "out"), Taking("a test", "0", key=key))
    assert not (tmp_path / "out").exists()
