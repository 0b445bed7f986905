"""Every command of every station, its root packed as an image: the answer is the directory's."""

import json
import re
from pathlib import Path
from typing import Any

import pytest

from filigree.questions.keeping.taking import Taking, snapshot
from filigree.system import open_system
from tests.cli.test_matrix import COMMANDS, STATIONS
from tests.conftest import Run
from tests.trees.images import Entry, entries_of, file, hidden, layer_of, layout

_NOW = re.compile(r'("(?:seconds|asked_at|seen_at)"): (?:[0-9.]+|"[^"]*")')
"""What is of the moment in which it was asked."""
_TOLD: dict[tuple[str, Path], tuple[int, str]] = {}
"""What each root said to each command: none of them changes meanwhile."""


def in_layers(root: Path) -> list[bytes]:
    """The station in three layers: the ground, which has more and other files; what changes; the rest."""
    entries = list(entries_of(root))
    ground, late = [], []
    for number, one in enumerate(entries):
        if number % 5 == 3 and one.content is not None:
            late.append(one)
            ground.append(one._replace(content=one.content[::-1], mode=0o600, headers={}))
        elif number % 7 == 4 and one.content is not None:
            late.append(one)
        else:
            ground.append(one)
    more = [
        file("usr/bin/never-there", b"x", 0o4755),
        Entry("opt/gone", 0o755),
        file("opt/gone/x", b"x"),
    ]
    away = [hidden("usr/bin/never-there"), hidden("opt")]
    return [layer_of([*ground, *more]), layer_of(away), layer_of(late)]


@pytest.fixture(scope="module")
def pairs(
    heron: Path, curlew: Path, plover: Path, dunlin: Path, sanderling: Path,
    tmp_path_factory: pytest.TempPathFactory,
) -> dict[str, tuple[Path, Path]]:  # fmt: skip
    """Each station's root, and the image of it."""
    top = tmp_path_factory.mktemp("images")
    roots = dict(zip(STATIONS, (heron, curlew, plover, dunlin, sanderling), strict=True))
    return {name: (root, layout(top / name, in_layers(root))) for name, root in roots.items()}


def told(call: Run, command: str, root: Path, numbers: bool = False) -> tuple[int, Any]:
    if (command, root) not in _TOLD:
        done = call(*command.split(), "--root", str(root), "--format", "json")
        text = _NOW.sub(r"\1: 0", done.stdout.replace(str(root), "ROOT"))
        _TOLD[command, root] = done.returncode, text
    status, text = _TOLD[command, root]
    answer = json.loads(text)
    for record in answer["records"]:
        for name in ("layers", "room", "image", "taken"):  # what only one kind of root has
            record.pop(name, None)
        for one in record.get("configuration", ()):
            del one["layers"]
        for name in ("changed", "inode"):  # the disk's own numbers
            if record.get("seen") and not numbers:
                del record["seen"][name]
    answer["summary"].pop("room", None)
    del answer["system"]["seen_at"]
    return status, answer


@pytest.mark.parametrize("station", STATIONS)
@pytest.mark.parametrize("command", [one for one in COMMANDS if "ARCHIVE" not in one])
def test_an_image_answers_as_the_directory_does(
    call: Run, pairs: dict[str, tuple[Path, Path]], tmp_path_factory: pytest.TempPathFactory,
    monkeypatch: pytest.MonkeyPatch, command: str, station: str,
) -> None:  # fmt: skip
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path_factory.getbasetemp() / "image-cache"))
    directory, image = pairs[station]
    assert told(call, command, image) == told(call, command, directory)


@pytest.mark.parametrize("station", STATIONS)
def test_a_timeline_of_an_image_tells_of_packages_as_the_directory_does(
    call: Run, pairs: dict[str, tuple[Path, Path]], station: str
) -> None:
    """What inodes tell no image has; what layers tell no directory."""
    directory, image = pairs[station]
    words = "timeline --action installed,upgraded,downgraded,replaced,removed,recorded"
    assert told(call, words, image)[1]["records"] == told(call, words, directory)[1]["records"]
    files = told(call, "timeline --action altered,edited,appeared", image)[1]["records"]
    assert files
    assert all(row["clock"] == "file" and row["at"][:4] >= "2026" for row in files)
    layers = told(call, "timeline --action built", image)[1]["records"]
    assert [row["subject"] for row in layers] == ["layer 0", "layer 1", "layer 2"]


@pytest.fixture(scope="module")
def snapshots(
    heron: Path, curlew: Path, plover: Path, dunlin: Path, sanderling: Path,
    tmp_path_factory: pytest.TempPathFactory,
) -> dict[str, tuple[Path, Path]]:  # fmt: skip
    """Each station's root, and a snapshot of it."""
    top = tmp_path_factory.mktemp("snapshots")
    roots = dict(zip(STATIONS, (heron, curlew, plover, dunlin, sanderling), strict=True))
    for name, root in roots.items():
        how = Taking("a test", "0", archives=True, settings=True)
        snapshot(open_system(str(root)), str(top / name), how)
    return {name: (root, top / name) for name, root in roots.items()}


@pytest.mark.parametrize("station", STATIONS)
@pytest.mark.parametrize(
    "command", [*(one for one in COMMANDS if "ARCHIVE" not in one), "timeline", "findings"]
)
def test_a_snapshot_answers_as_the_directory_did(
    call: Run, snapshots: dict[str, tuple[Path, Path]], command: str, station: str
) -> None:
    directory, kept = snapshots[station]
    there = told(call, command, directory, numbers=True)
    assert told(call, command, kept, numbers=True) == there
