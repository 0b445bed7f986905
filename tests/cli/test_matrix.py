"""Every command at every station, a family each, in every format: an answer, and an honest status."""

import csv
import io
import json
import shutil
from pathlib import Path
from typing import Any

import pytest

from filigree.cli.commands import COMMANDS as TABLE
from filigree.demo import apk, arch, slackware
from filigree.demo.archives import NEWER, UNMET
from filigree.demo.dunlin import offered as of_dunlin
from filigree.demo.dunlin import repository as tree_of_dunlin
from filigree.demo.offering import write_repositories
from filigree.demo.plover import offered as of_plover
from filigree.demo.plover import repository as tree_of_plover
from filigree.demo.sanderling import offered as of_sanderling
from filigree.demo.sanderling import repository as tree_of_sanderling
from filigree.families.slackware import FAMILY as SLACKWARE
from filigree.questions.asking.notions import ASKS
from tests.cli.sentences import expected, sentences_of
from tests.conftest import Run
from tests.schema import faults_of

FORMATS = ("json", "jsonl", "csv", "lines", "table")
STATIONS = ("heron", "curlew", "plover", "dunlin", "sanderling")
# The statuses by station, in that order: 0 nothing wrong, 1 bad news, 3 not everything could be judged.
# Heron and curlew know of a neighbour's repository that was never fetched: what is offered is not all
# known there.
COMMANDS: dict[str, str] = {
    "survey": "10031",
    "census": "00030",
    "census --chosen --sort size": "00030",
    "census --available": "33000",
    "census --any tide": "33030",
    "census --outsiders": "33030",
    "census --leftover": "00030",
    "census --groups": "33003",
    "dossier tidegauge": "00030",
    "dossier --available weirgate": "33000",
    "dossier --any jetty --full": "33030",
    "dossier ARCHIVE": "00000",
    "seek letters": "33000",
    "seek nothing-so-called": "11111",
    "contents tidegauge": "00000",
    "contents --available saltwort": "33003",
    "contents ARCHIVE": "00000",
    "owner /usr/bin/tidegauge tidegauge": "00000",
    "owner /usr/sbin/gullcheck": "11111",
    "owner --available weirgate": "33031",
    "needs tidegauge --deep": "00000",
    "needs --any tide-essentials": "33000",
    "needs ARCHIVE": "01000",
    "needed-by libbrine2 --deep": "00030",
    "needed-by --available libfathom1": "33000",
    "because brine-data": "00030",
    "obstacles weirgate": "11111",
    "obstacles ARCHIVE": "31030",
    "whatif --drop libbrine2": "11111",
    "whatif --add saltwort": "33030",
    "whatif --upgrade": "33030",
    "draw libbrine2": "00030",
    "verify": "11111",
    "verify marram": "01030",
    "verify --evidence signed": "11111",
    "verify --against cache": "11111",
    "provenance tidegauge": "11000",
    "provenance ARCHIVE": "00000",
    "keys": "00000",
    "keys --needed": "01000",
    "strays": "10111",
    "repos": "00000",
    "behind": "11313",
    "behind --security": "11313",
}

SENTENCES = expected()


@pytest.fixture(scope="module")
def roots(
    heron: Path, curlew: Path, plover: Path, dunlin: Path, sanderling: Path
) -> dict[str, Path]:
    return dict(zip(STATIONS, (heron, curlew, plover, dunlin, sanderling), strict=True))


@pytest.fixture(scope="module")
def of_each(archives: dict[str, Path], tmp_path_factory: pytest.TempPathFactory) -> dict[str, Path]:
    """An archive of each family, not installed in that version."""
    folder = tmp_path_factory.mktemp("each")
    third = next(one for one in of_plover() if one.ware.name == "saltwort")
    (folder / third.file_name).write_bytes(arch.pooled(third))
    fourth = next(one for one in of_dunlin() if one.ware.name == "saltwort")
    (folder / fourth.file_name).write_bytes(slackware.pooled(fourth))
    fifth = next(one for one in of_sanderling() if one.ware.name == "saltwort")
    (folder / fifth.file_name).write_bytes(apk.archive(fifth))
    own = (folder / one.file_name for one in (third, fourth, fifth))
    paths = (archives[NEWER], archives[UNMET], *own)
    return dict(zip(STATIONS, paths, strict=True))


@pytest.mark.parametrize("station", STATIONS)
@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_at_every_station(
    call: Run,
    roots: dict[str, Path],
    of_each: dict[str, Path],
    tmp_path_factory: pytest.TempPathFactory,
    monkeypatch: pytest.MonkeyPatch,
    command: str,
    station: str,
) -> None:
    cache = tmp_path_factory.getbasetemp() / "cache"
    words = [str(of_each[station]) if word == "ARCHIVE" else word for word in command.split()]
    told: dict[str, str] = {}
    notes = ""
    # How an answer is written is the same for every family: all forms are asked of one station.
    for form in FORMATS if station == "heron" else ("json", "table"):
        monkeypatch.setenv("XDG_CACHE_HOME", str(cache))
        done = call(*words, "--root", str(roots[station]), "--format", form, "--no-pager")
        assert str(done.returncode) == COMMANDS[command][STATIONS.index(station)], done.stderr
        told[form] = done.stdout
        notes = done.stderr if form == "json" else notes
    answer = json.loads(told["json"])
    assert not faults_of(answer)
    status = int(COMMANDS[command][STATIONS.index(station)])
    places = {str(of_each[station]): "ARCHIVE", str(roots[station]): "ROOT"}
    said = sentences_of(answer, places, notes)
    assert said == SENTENCES.get((station, command), [])
    # What could not be looked at is no clean bill; and a clean bill has nothing that was not looked at.
    assert status != 3 or answer["gaps"]
    assert status != 0 or not answer["gaps"]
    assert told["table"].strip()
    for gap in answer["gaps"]:
        assert " ".join(gap["what"].split()) in " ".join(told["table"].split())
    if station != "heron":
        return
    alone = [json.loads(text) for text in told["jsonl"].splitlines()]
    rows = list(csv.reader(io.StringIO(told["csv"])))
    lines = [text.split("\t") for text in told["lines"].splitlines()]
    if command == "survey":  # others take room, and leave some, between one form and the next
        for one in (*alone, *answer["records"]):
            assert one.pop("room")
        (here,), (there,) = ([row for row in some if row[0] == "room"] for some in (lines, rows))
        assert len(here) == len(there)
        lines.remove(here)
        rows.remove(there)
    assert alone == answer["records"]
    assert lines == rows[1:]


@pytest.mark.parametrize("command", [c for c in COMMANDS if "reason" in ASKS[c.split()[0]]])
def test_what_is_not_on_record_is_said_once(call: Run, dunlin: Path, command: str) -> None:
    """By every command that declares that it asks for it, where something installed is told of."""
    if "ARCHIVE" in command or "--available" in command or "--groups" in command:
        return
    done = call(*command.split(), "--root", str(dunlin), "--format", "json")
    answer = json.loads(done.stdout)
    why = SLACKWARE.silent_on["reason"]
    assert [gap["why"] for gap in answer["gaps"]].count(why) == 1
    assert done.returncode in (1, 3)


@pytest.fixture(scope="module")
def office(tmp_path_factory: pytest.TempPathFactory) -> dict[str, str]:
    """Where each station would find what the office offers, in a folder instead of a server."""
    top = write_repositories(tmp_path_factory.mktemp("office"))
    for tree in (tree_of_plover(), tree_of_dunlin()):
        for path, content in tree.items():
            (top / path).parent.mkdir(parents=True, exist_ok=True)
            (top / path).write_bytes(content)
    for path, content in tree_of_sanderling().items():
        (top / "apk" / path).parent.mkdir(parents=True, exist_ok=True)
        (top / "apk" / path).write_bytes(content)
    (top / apk.KEY_NAME).write_bytes(apk.public_key())
    places = (
        f"{top}/coast saltmarsh main", f"{top}/rpm/base", f"{top} coast", f"{top} shore",
        f"{top}/apk/coast",
    )  # fmt: skip
    rings = {"ring": str(top / "coast.asc"), "bare": str(top / apk.KEY_NAME)}
    return {**rings, **dict(zip(STATIONS, places, strict=True))}


@pytest.mark.parametrize("station", STATIONS)
def test_lists_are_refreshed_at_every_station(
    call: Run,
    roots: dict[str, Path],
    office: dict[str, str],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    station: str,
) -> None:
    root = ("--root", str(roots[station]), "--no-pager")
    for form in FORMATS:
        monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / form))
        name = {
            "heron": "*office*", "curlew": "*base*", "plover": "coast", "dunlin": "shore",
            "sanderling": "*office*",
        }[station]  # fmt: skip
        ring = office["bare" if station == "sanderling" else "ring"]
        words = ("refresh", name, "--repo-url", office[station], "--keyring", ring, *root)
        done = call(*words, "--format", form)
        if form == "json":
            answer = json.loads(done.stdout)
            assert not faults_of(answer)
            assert {
                row["signature"] for row in answer["records"] if row["outcome"] == "fetched"
            } == {"good"}


def test_no_command_is_left_out() -> None:
    known = {command.name for command in TABLE} - {"fleet"}
    # These have tests of their own.
    assert known - {command.split()[0] for command in COMMANDS} == {
        "refresh",
        "demo",
        "layers",
        "snapshot",
        "compare",
        "timeline",
        "findings",
        "running",
        "report",
        "manual",
    }


@pytest.mark.parametrize("station", STATIONS)
def test_layers_are_told_of_every_station_in_every_format(
    call: Run,
    images: dict[str, Path],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
    station: str,
) -> None:
    told: dict[str, str] = {}
    for form in FORMATS:
        monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
        done = call("layers", "--root", str(images[station]), "--format", form, "--no-pager")
        assert done.returncode == 1, done.stderr
        told[form] = done.stdout
    answer = json.loads(told["json"])
    assert not faults_of(answer)
    assert sentences_of(answer, {str(images[station]): "ROOT"}, "") == SENTENCES.get(
        (station, "layers"), []
    )
    assert [json.loads(text) for text in told["jsonl"].splitlines()] == answer["records"]
    lines = [text.split("\t") for text in told["lines"].splitlines()]
    assert lines == list(csv.reader(io.StringIO(told["csv"])))[1:]
    assert len(lines) == (2 if station == "sanderling" else 4)
    for record in answer["records"]:
        for row in record["files"]["altered"]:
            assert row["path"] in told["table"]


@pytest.mark.parametrize("station", STATIONS)
def test_a_disk_has_no_layers(call: Run, roots: dict[str, Path], station: str) -> None:
    assert call("layers", "--root", str(roots[station])).returncode == 2


@pytest.mark.parametrize("station", STATIONS)
def test_pictures_are_drawn_at_every_station(
    call: Run, roots: dict[str, Path], tmp_path: Path, station: str
) -> None:
    path = tmp_path / "graph.svg"
    words = ("draw", "libbrine2", "--into", str(path), "--root", str(roots[station]))
    assert call(*words).returncode == (3 if station == "dunlin" else 0)
    assert path.read_text().startswith("<?xml")


@pytest.mark.parametrize("station", STATIONS)
def test_a_root_without_lists_answers_what_it_can(
    call: Run, roots: dict[str, Path], tmp_path: Path, station: str
) -> None:
    """Without any repository nothing is offered, and that is said; the rest is told all the same."""
    root = Path(shutil.copytree(roots[station], tmp_path / station, symlinks=True))
    for place in (
        "var/lib/apt/lists", "etc/apt", "var/cache/libdnf5", "etc/yum.repos.d", "var/lib/pacman/sync",
        "var/lib/slackpkg", "etc/slackpkg", "usr/src/slackbuilds", "var/cache/apk", "etc/apk",
    ):  # fmt: skip
        shutil.rmtree(root / place, ignore_errors=True)
    for command in ("behind", "repos", "census --outsiders", "verify marram", "seek tide"):
        done: Any = call(*command.split(), "--root", str(root), "--format", "json")
        assert not faults_of(json.loads(done.stdout))
        assert done.returncode in (0, 1, 3)
