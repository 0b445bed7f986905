"""Drawings: what is in them, that they are what they say, and that nothing in them is believed."""

import json
import shutil
import struct
import subprocess
import xml.etree.ElementTree as ET
from dataclasses import replace
from pathlib import Path

import pytest

from filigree.model.needs import Relation
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.draw import NodeRow, NodeStatus, Side, draw
from filigree.system import open_system
from filigree.views.pictures.layout import places_of
from filigree.views.pictures.open_formats import dot, drawing, graphml
from tests.conftest import Run
from tests.making import DebRoot


@pytest.fixture
def crowd(deb_root: DebRoot) -> str:
    deb_root.package("middle", Depends="low, nowhere (>= 2)")
    deb_root.package("low")
    for number in range(90):
        deb_root.package(f"asker{number}", Depends="middle", Installed_Size=str(number))
    return deb_root.path


def test_nodes_and_ties_are_the_neighbourhood(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = draw(system, ["libbrine2"], 1)
        rows = {row.node: row for row in answer.records}
        assert rows["libbrine2"].side is Side.SUBJECT
        assert {tie.to for tie in rows["libbrine2"].ties} == {"libsaltc6", "libkelp1", "brine-data"}
        askers = {name for name, row in rows.items() if row.side is Side.NEEDED_BY}
        assert askers == {"chartroom", "libbrine-dev", "siltmeter", "tidegauge", "tidetables-calc"}
        assert all(tie.to in rows for row in answer.records for tie in row.ties)
        one = draw(system, ["libbrine2"], None, side=Side.NEEDS)
        assert {row.side for row in one.records} == {Side.SUBJECT, Side.NEEDS}


def test_what_is_unmet_and_what_is_not_installed(heron: Path) -> None:
    with open_system(str(heron)) as system:
        rows = {row.node: row for row in draw(system, ["lockgate-firmware"], 1).records}
        assert rows["libsluice3 (>= 3.2)"].status is NodeStatus.UNMET
        (tie,) = [t for t in rows["lockgate-firmware"].ties if t.to == "libsluice3 (>= 3.2)"]
        assert tie.met is False
        more = draw(system, ["tide-essentials"], 1, scope=Scope.AVAILABLE).records
        assert NodeStatus.AVAILABLE in {row.status for row in more}


def test_a_crowd_becomes_one_node(crowd: str) -> None:
    with open_system(crowd) as system:
        answer = draw(system, ["middle"])
    assert len(answer.records) <= 60
    several = [row for row in answer.records if row.status is NodeStatus.SEVERAL]
    assert sum(row.packages for row in answer.records if row.side is Side.NEEDED_BY) == 90
    assert several[0].node == f"{several[0].packages} askers, 1 away"
    assert {tie.to for tie in several[0].ties} == {"middle"}
    # The biggest are seen by themselves.
    assert "asker89" in {row.node for row in answer.records}


def test_every_node_has_a_place_of_its_own(crowd: str) -> None:
    with open_system(crowd) as system:
        rows = draw(system, ["middle"], limit=100).records
    places = places_of(rows)
    assert set(places) == {row.node for row in rows}
    assert len(set(places.values())) == len(rows)
    assert all(0 < place.x < 1 and 0 < place.y < 1 for place in places.values())
    by_side = {row.node: row.side for row in rows}
    middle = places["middle"].x
    for node, place in places.items():
        if by_side[node] is Side.NEEDED_BY:
            assert place.x < middle
        elif by_side[node] is Side.NEEDS:
            assert place.x > middle


HOSTILE = '"];\n<b>&$x^2$\x1b[31m]]>\x00\u202e'


def hostile() -> list[NodeRow]:
    node = NodeRow(
        HOSTILE,
        HOSTILE,
        HOSTILE,
        "amd64",
        Side.SUBJECT,
        0,
        NodeStatus.INSTALLED,
        True,
        10,
        None,
        1,
        [],
    )
    return [node]


def test_hostile_names_stay_names(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = draw(system, ["tidegauge"], 1)
        answer.records[:] = hostile()
        answer.summary = replace(answer.summary, subjects=[HOSTILE])
    text = dot(answer)
    assert "\x1b" not in text
    assert text.count("[label=") == 1
    (node,) = ET.fromstring(graphml(answer)).iter("{http://graphml.graphdrawing.org/xmlns}node")
    assert "\x1b" not in node.attrib["id"]
    picture = drawing(answer, "svg")
    assert picture is not None
    ET.fromstring(picture)


@pytest.mark.parametrize("ending", ["png", "svg", "dot", "gv", "graphml", "json"])
def test_the_program_draws(call: Run, heron: Path, tmp_path: Path, ending: str) -> None:
    file = tmp_path / f"picture.{ending}"
    done = call("draw", "tidegauge", "--kinds", "all", "--root", str(heron), "--into", str(file))
    assert (done.returncode, done.stderr) == (0, "")
    content = file.read_bytes()
    match ending:
        case "png":
            assert content.startswith(b"\x89PNG\r\n\x1a\n")
            assert struct.unpack(">II", content[16:24]) == (1280, 800)
        case "svg":
            assert ET.fromstring(content).tag == "{http://www.w3.org/2000/svg}svg"
        case "graphml":
            tree = ET.fromstring(content)
            names = {node.attrib["id"] for node in tree.iter() if node.tag.endswith("}node")}
            ends = {
                end for edge in tree.iter() if edge.tag.endswith("}edge")
                for end in (edge.attrib["source"], edge.attrib["target"])
            }  # fmt: skip
            assert "tidegauge" in names
            assert ends <= names
        case "json":
            assert json.loads(content)["question"] == "draw"
        case _:
            assert content.startswith(b"digraph")
            if shutil.which("dot"):
                subprocess.run(["dot", "-Tplain", file], check=True, capture_output=True)


def test_a_picture_is_the_same_at_every_run(heron: Path) -> None:
    with open_system(str(heron)) as system:
        answer = draw(system, ["tidegauge"], kinds=frozenset(Relation))
        assert drawing(answer, "svg") == drawing(answer, "svg")


def test_nothing_is_written_where_it_must_not_be(call: Run, heron: Path, tmp_path: Path) -> None:
    for place in (heron / "x.png", heron / "etc/../x.svg"):
        done = call("draw", "tidegauge", "--root", str(heron), "--into", str(place))
        assert done.returncode == 2
        assert "nothing is written below the root" in done.stderr
        assert not place.exists()
    done = call("draw", "tidegauge", "--root", str(heron), "--into", str(tmp_path / "x.doc"))
    assert done.returncode == 2
    assert "known are .png" in done.stderr
    done = call("draw", "tidegauge", "--root", str(heron), "--into", str(tmp_path / "no/x.png"))
    assert done.returncode == 2
    done = call("draw", "tidegugae", "--root", str(heron), "--into", str(tmp_path / "x.png"))
    assert done.returncode == 1
    assert list(tmp_path.glob("*.png")) == []
