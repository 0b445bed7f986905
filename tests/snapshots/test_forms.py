"""Snapshots of every form that there ever was: what was kept is asked by whatever version comes later."""

import gzip
import json
from pathlib import Path

import pytest

from filigree.access.snapshots.form import VERSION
from filigree.demo.repository import public_key
from tests.conftest import Run

DATA = Path(__file__).parents[1] / "data"


@pytest.fixture(params=range(1, VERSION + 1))
def kept(request: pytest.FixtureRequest, tmp_path: Path) -> Path:
    """The same root in each form: a package, its program swapped, and a signature."""
    packed = (DATA / f"snapshot-form-{request.param}.gz").read_bytes()
    path = tmp_path / "kept"
    path.write_bytes(gzip.decompress(packed))
    return path


def test_a_snapshot_of_every_form_is_asked_as_ever(call: Run, kept: Path, tmp_path: Path) -> None:
    (tmp_path / "key").write_bytes(public_key())
    asked = ("--root", str(kept), "--keyring", str(tmp_path / "key"), "--format", "json")
    verified = json.loads(call("verify", *asked).stdout)
    told = [(row["path"], row["verdict"]) for row in verified["records"]]
    assert told == [("/usr/bin/plot", "altered")]
    assert verified["summary"]["verdicts"] == {"altered": 1, "intact": 8}
    (survey,) = json.loads(call("survey", *asked).stdout)["records"]
    taken = survey["taken"]
    assert (taken["label"], taken["host"], taken["version"]) == ("shore", "heron", "0.1.0")
    assert taken["signature"]["verdict"] == "good"
    assert json.loads(call("owner", "viewer", *asked).stdout)["summary"]["owned"] == 1
    assert call("compare", str(kept), str(kept)).returncode == 0
