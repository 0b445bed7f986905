"""`report` by the installed program: files of every form, of every kind of root, and what is refused."""

import base64
import hashlib
import json
import os
import shutil
import subprocess
import sys
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Run

FORMS = ("cyclonedx", "spdx", "sarif", "verification", "junit", "mtree")
HEADS = {
    "cyclonedx": b'{\n "bomFormat": "CycloneDX"', "spdx": b'{\n "spdxVersion": "SPDX-2.3"',
    "sarif": b'{\n "$schema"', "verification": b'{"schema": "filigree/1"', "junit": b"<?xml",
    "mtree": b"#mtree\n",
}  # fmt: skip


@pytest.mark.parametrize("form", FORMS)
def test_each_form_of_a_station(run: Run, heron: Path, tmp_path: Path, form: str) -> None:
    out = tmp_path / "out"
    done = run("report", str(out), "--as", form, "--root", str(heron), "--format", "json")
    assert done.returncode in (0, 3), done.stderr
    answer = json.loads(done.stdout)
    (row,) = answer["records"]
    data = out.read_bytes()
    assert data.startswith(HEADS[form])
    assert (row["size"], row["digest"]) == (len(data), f"sha256:{hashlib.sha256(data).hexdigest()}")
    assert row["form"] == form
    told = data.decode()
    for gap in answer["gaps"] if form != "mtree" else ():
        assert gap["why"].split(":")[0] in told.replace("&quot;", '"')


def test_an_image_and_a_snapshot_give_what_the_directory_gives(
    run: Run, heron: Path, images: dict[str, Path], tmp_path: Path
) -> None:
    kept = tmp_path / "heron.snapshot"
    assert run("snapshot", str(kept), "--root", str(heron)).returncode in (0, 3)
    told = {}
    for name, root in (("directory", heron), ("image", images["heron"]), ("snapshot", kept)):
        out = tmp_path / name
        run("report", str(out), "--as", "cyclonedx", "--root", str(root))
        whole = json.loads(out.read_text())
        told[name] = (whole["components"], whole["dependencies"][1:])
    assert told["directory"] == told["image"] == told["snapshot"]


def test_a_statement_is_about_a_digest_that_others_can_make(
    run: Run, heron: Path, images: dict[str, Path], tmp_path: Path
) -> None:
    kept = tmp_path / "heron.snapshot"
    run("snapshot", str(kept), "--root", str(heron))
    key = tmp_path / "key.pem"
    subprocess.run(["openssl", "genpkey", "-algorithm", "ed25519", "-out", str(key)], check=True)
    stated = ("--as", "spdx", "--stated", "--sign", str(key))
    for root in (kept, images["heron"]):
        out = tmp_path / f"{root.name}.json"
        done = run("report", str(out), "--root", str(root), *stated)
        assert done.returncode in (0, 3), done.stderr
        told = json.loads(out.read_bytes())
        statement = json.loads(base64.b64decode(told["payload"]))
        assert len(told["signatures"]) == 1
        assert statement["predicate"]["spdxVersion"] == "SPDX-2.3"
        (subject,) = statement["subject"]
        if root == kept:
            digest = hashlib.sha256(kept.read_bytes()).hexdigest()
            assert subject["digest"] == {"sha256": digest}
        else:
            index = json.loads(run("survey", "--root", str(root), "--format", "json").stdout)
            assert subject["digest"]["sha256"] in json.dumps(index)


@pytest.mark.parametrize(
    ("words", "says"),
    [
        (("--as", "odd"), "odd"), (("--part", "odd"), "no part odd"),
        (("--as", "junit", "--stated"), "no statement"),
        (("--as", "spdx", "--sign", "key"), "only a page or a statement is signed"),
        (("--as", "spdx", "--stated", "--sign", "/nowhere/key"), "cannot be read"),
        (("--as", "spdx", "--stated", "--sign", "/etc/hostname"), "cannot sign"),
        (("--as", "spdx", "--title", "x"), "are of a page"), (("--stated",), "no statement of page"),
        (("--since", "/nowhere"), "cannot be opened"), (("--as", "parquet"), "of one part"),
    ],
)  # fmt: skip
def test_what_makes_no_sense_is_said(
    run: Run, heron: Path, tmp_path: Path, words: tuple[str, ...], says: str
) -> None:
    out = tmp_path / "out"
    done = run("report", str(out), "--root", str(heron), *words)
    assert done.returncode == 2
    assert says in done.stderr
    assert not out.exists()


def test_nothing_is_written_below_the_root_or_lost(run: Run, heron: Path, tmp_path: Path) -> None:
    inside = heron / "srv" / "out"
    done = run("report", str(inside), "--as", "spdx", "--root", str(heron))
    assert (done.returncode, inside.exists()) == (2, False)
    out = tmp_path / "out"
    out.write_text("what was there")
    os.chmod(tmp_path, 0o700)
    assert (
        run("report", str(tmp_path / "no" / "out"), "--as", "spdx", "--root", str(heron)).returncode
        == 2
    )
    assert run("report", str(out), "--as", "spdx", "--root", "/nowhere").returncode == 2
    assert out.read_text() == "what was there"


def test_nothing_is_stated_of_an_image_that_is_not_what_it_says(
    run: Run, images: dict[str, Path], tmp_path: Path
) -> None:
    """Its digest would be that of something else: whoever looks at it would find that."""
    image = tmp_path / "image"
    shutil.copytree(images["heron"], image)
    blobs = {one: one.read_bytes() for one in (image / "blobs" / "sha256").iterdir()}
    configuration = next(one for one, data in blobs.items() if b'"rootfs"' in data[:4096])
    configuration.write_bytes(blobs[configuration] + b" ")
    out = tmp_path / "out"
    words = ("report", str(out), "--as", "spdx", "--root", str(image))
    done = run(*words, "--stated")
    assert (done.returncode, out.exists()) == (2, False), done.stderr
    assert "nothing can be stated of it" in done.stderr
    assert run(*words).returncode in (1, 3)


def test_a_verification_is_stated_with_its_gaps(run: Run, heron: Path, tmp_path: Path) -> None:
    kept, out = tmp_path / "heron.snapshot", tmp_path / "out"
    run("snapshot", str(kept), "--root", str(heron))
    done = run("report", str(out), "--as", "verification", "--stated", "--root", str(kept))
    assert done.returncode in (0, 3), done.stderr
    told = json.loads(base64.b64decode(json.loads(out.read_bytes())["payload"]))
    assert told["predicateType"] == "urn:filigree:verification:1"
    answer = json.loads(run("verify", "--root", str(kept), "--format", "json").stdout)
    for one in (answer, told["predicate"]):
        one["summary"].pop("seconds", None)
    assert told["predicate"] == _texts(answer)
    assert {row["verdict"] for row in told["predicate"]["records"]} >= {"altered", "missing"}


def _texts(value: Any) -> Any:
    """The same, with numbers beyond those that floats hold one by one as texts."""
    if isinstance(value, dict):
        return {name: _texts(one) for name, one in value.items()}
    if isinstance(value, list):
        return [_texts(one) for one in value]
    return str(value) if type(value) is int and abs(value) >= 2**53 else value


def test_any_answer_is_a_table_where_its_json_is_one(run: Run, heron: Path, tmp_path: Path) -> None:
    """Held against the same answer in JSON, by the engine that reads such files."""
    duckdb = pytest.importorskip("duckdb", reason="the library that writes it is an extra")
    out = tmp_path / "plan.parquet"
    words = ("whatif", "--upgrade", "--root", str(heron), "--format")
    with out.open("wb") as file:
        done = subprocess.run(
            [sys.executable, "-m", "filigree", *words, "parquet"],
            stdout=file, stderr=subprocess.PIPE, check=False, timeout=120,
        )  # fmt: skip
    as_json = run(*words, "json")
    assert done.returncode == as_json.returncode, done.stderr
    # What has no place in it is said beside it.
    assert b"not looked at" in done.stderr
    table = duckdb.sql(f"SELECT name, version, before, archive_size, asked FROM '{out}'")
    expected = [
        tuple(one[name] for name in table.columns) for one in json.loads(as_json.stdout)["records"]
    ]
    assert table.fetchall() == expected != []


def test_bytes_are_not_written_to_a_terminal(heron: Path) -> None:
    ours, theirs = os.openpty()
    done = subprocess.run(
        [sys.executable, "-m", "filigree", "census", "--root", str(heron), "--format", "parquet"],
        stdout=theirs, stderr=subprocess.PIPE, check=False, timeout=120,
    )  # fmt: skip
    os.close(theirs)
    os.close(ours)
    assert done.returncode == 2
    assert b"would be written to a terminal" in done.stderr


def test_a_plan_is_of_inventories_alone(run: Run, heron: Path, tmp_path: Path) -> None:
    out = tmp_path / "then.json"
    words = ("report", str(out), "--root", str(heron), "--as")
    assert run(*words, "cyclonedx", "--drop", "foghorn", "--upgrade").returncode == 3
    assert '"plan"' in out.read_text().replace("filigree:", "")
    done = run(*words, "sarif", "--upgrade")
    assert (done.returncode, "inventory alone" in done.stderr) == (2, True)
