"""The repositories of another root: what an image without records can be asked by."""

import json
from pathlib import Path

import pytest

from filigree.system import open_system
from tests.conftest import Run
from tests.trees.images import file, layer_of, layout


@pytest.fixture
def bare(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """An image with two programs, and no record of anything."""
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    programs = [file(f"usr/bin/{name}", b"x", 0o755) for name in ("tidegauge", "nobodys")]
    return layout(tmp_path / "bare", [layer_of(programs)])


@pytest.mark.parametrize("station", ["curlew", "plover", "dunlin"])
def test_an_index_of_paths_tells_whose_a_file_would_be(
    call: Run, bare: Path, station: str, request: pytest.FixtureRequest
) -> None:
    other: Path = request.getfixturevalue(station)
    asked = ("owner", "/usr/bin/tidegauge", "/usr/bin/nobodys", "--any", "--format", "json")
    done = call(*asked, "--root", str(bare), "--repos-of", str(other))
    answer = json.loads(done.stdout)
    by_path = {row["path"]: row for row in answer["records"]}
    assert by_path["/usr/bin/nobodys"]["owners"] == []
    found = by_path["/usr/bin/tidegauge"]["owners"]
    assert {(one["name"], one["how"]) for one in found} == {("tidegauge", "offered")}
    again = ("owner", "/usr/bin/tidegauge", "--available", "--format", "json")
    at_home = call(*again, "--root", str(other))
    assert found == json.loads(at_home.stdout)["records"][0]["owners"]
    assert f"are those of {other}" in done.stderr
    assert done.returncode == 1, "one is nobody's"
    assert any("no package database" in gap["why"] for gap in answer["gaps"]), "and that stays told"


def test_a_system_of_another_family_is_not_asked(call: Run, heron: Path, curlew: Path) -> None:
    done = call("census", "--available", "--root", str(curlew), "--repos-of", str(heron))
    assert done.returncode == 2
    assert "the deb family, and this one is of rpm" in done.stderr


def test_what_is_not_known_there_is_a_gap_here(
    call: Run, bare: Path, heron: Path, tmp_path: Path
) -> None:
    asked = ("census", "--available", "--format", "json")
    there = json.loads(call(*asked, "--root", str(heron)).stdout)
    here = json.loads(call(*asked, "--root", str(bare), "--repos-of", str(heron)).stdout)
    assert there["gaps"], "heron has a repository that was never fetched"
    assert [gap for gap in there["gaps"] if gap not in here["gaps"]] == []
    assert here["records"] == there["records"]
    done = call(*asked, "--root", str(bare), "--repos-of", str(tmp_path / "nowhere"))
    assert done.returncode == 2
    assert not done.stdout


def test_the_other_root_is_closed_with_this_one(
    bare: Path, heron: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    system, other = open_system(str(bare)), open_system(str(heron))
    closed: list[str] = []
    monkeypatch.setattr(other.tree, "close", lambda: closed.append(other.root))
    system.use_repositories_of(other)
    assert (system.family.name, system.offering_family.name) == ("none", "deb")
    system.close()
    assert closed == [str(heron)]
