"""The documentation is true: its example runs, its links lead somewhere."""

import re
import shlex
from pathlib import Path
from xml.etree import ElementTree

import pytest
from tools import rooms
from tools.recording import SESSIONS, Scene, recorded
from tools.structure import measure

from filigree.cli.commands import COMMANDS
from filigree.cli.groups import command_of
from filigree.families.registry import families
from filigree.families.shared.notions import NOTIONS
from filigree.questions.asking.notions import ASKS
from filigree.questions.rules.findings import every_rule
from filigree.system import open_system
from filigree.views.families_page import families_page
from filigree.views.fleet_page import fleet_page
from filigree.views.rules_page import rules_page

TOP = Path(__file__).parents[1]
PAGES = [
    TOP / "README.md",
    TOP / "CONTRIBUTING.md",
    TOP / "SECURITY.md",
    *sorted((TOP / "docs").glob("*.md")),
]


def test_the_example_of_the_library_page_runs(heron: Path) -> None:
    (code,) = re.findall(r"```python\n(.*?)```", (TOP / "docs/library.md").read_text(), re.DOTALL)
    exec(compile(code, "docs/library.md", "exec"), {"root": str(heron)})


def test_every_function_of_the_library_is_named() -> None:
    import filigree

    page = (TOP / "docs/library.md").read_text()
    for name in filigree.__all__:
        if not name.startswith("__"):
            assert getattr(filigree, name)
            assert f"`{name}`" in page or f"filigree.{name}" in page or name == "System"


@pytest.mark.parametrize("page", PAGES, ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    for target in re.findall(r"\]\(([^)#]+)\)", page.read_text()):
        if not target.startswith("http"):
            assert (page.parent / target).exists(), target


def test_every_row_of_threats_is_held_by_a_test_that_is_there() -> None:
    page = (TOP / "docs/threats.md").read_text()
    rows = [line for line in page.split("\n") if line.startswith("| ") and "| Held by" not in line]
    assert len(rows) > 40
    for row in rows:
        named = re.findall(r"`(tests/[\w/]+\.py)::(test_\w+)`", row.rpartition(" | ")[2])
        assert named, row
        for file, test in named:
            assert re.search(rf"^def {test}\(", (TOP / file).read_text(), re.MULTILINE), test


def test_the_readme_gives_the_two_commands() -> None:
    text = (TOP / "README.md").read_text()
    assert "make demo" in text
    assert "make test" in text
    makefile = (TOP / "Makefile").read_text()
    for target in ("demo", "test", "check", "bench", "screenshots"):
        assert re.search(rf"^{target}:", makefile, re.MULTILINE)


def test_the_page_of_the_families_is_what_the_code_declares() -> None:
    page = (TOP / "docs/families.md").read_text()
    assert page == families_page(list(families())), "make docs makes it anew"


def test_the_page_of_the_rules_is_what_they_declare() -> None:
    page = (TOP / "docs/findings.md").read_text()
    assert page == rules_page([rule.facts for rule in every_rule()]), "make docs makes it anew"


def test_the_page_of_the_fleet_is_what_its_form_declares() -> None:
    assert (TOP / "docs/fleet.md").read_text() == fleet_page(), "make docs makes it anew"


def test_every_family_declares_every_notion_once() -> None:
    for family in families():
        known = set(family.rests_on)
        assert known <= set(NOTIONS), family.name
        assert not known & set(family.silent_on), family.name
        assert known | set(family.silent_on) >= set(NOTIONS), family.name


def test_every_command_declares_what_it_asks_for() -> None:
    commands = {command.name for command in COMMANDS} - {"demo", "manual", "fleet"}
    assert set(ASKS) == commands
    assert {notion for asked in ASKS.values() for notion in asked} == set(NOTIONS)


@pytest.mark.parametrize("name", ["heron", "curlew", "plover", "dunlin", "sanderling"])
def test_declared_paths_are_read(name: str, request: pytest.FixtureRequest) -> None:
    """Of the paths that a family's station has, some stand among what the family says that it reads."""
    root: Path = request.getfixturevalue(name)
    with open_system(str(root)) as system:
        told = re.findall(r"`(/[^`]+)`", " ".join(system.family.rests_on.values()))
    assert sum((root / path[1:]).exists() for path in told) >= 4


def test_the_picture_of_the_rooms_is_what_the_imports_say() -> None:
    assert rooms.PAGE.read_text() == rooms.page_with(rooms.picture()), "tools/rooms.py --write"
    order = list(rooms.LAYERS)
    for module, others in measure().imports.items():
        here = rooms.room_of(module)
        for other in map(rooms.room_of, others):
            if here is not None and other not in (None, here):
                assert order.index(here) < order.index(other), f"{module} asks {other}"


def test_what_a_new_question_and_a_new_family_touch() -> None:
    """Each place that the page names is there, and knows a question, or a family, that we have."""
    page = rooms.PAGE.read_text()
    question = page.partition("## What a new question touches")[2].partition("\n## ")[0]
    places = re.findall(r"`((?:src|docs|tests)/[\w/.]+)`", question)
    assert len(places) >= 8
    for place in places:
        path = TOP / place
        assert path.exists(), place
        names = [one.name for one in path.iterdir()] if path.is_dir() else [path.read_text()]
        assert any("strays" in one for one in names), place
    family = page.partition("## What a new family touches")[2].partition("\n## ")[0]
    named = {TOP / place for place in re.findall(r"`(src/[\w/.]+)`", family)}
    for path in sorted((TOP / "src/filigree").rglob("*.py")):
        knows = re.search(r"filigree\.(families|formats)\.slackware\b", path.read_text())
        inside = "slackware" in path.parts or "demo" in path.parts
        if knows and not inside:
            assert path in named, path


@pytest.mark.parametrize("name", SESSIONS)
def test_a_recording_is_of_the_commands_as_they_are(name: str) -> None:
    """It stands by itself, names no machine, and each of its commands is one that there is."""
    text = (TOP / "docs" / "recordings" / f"{name}.svg").read_text()
    read = ElementTree.fromstring(text)
    shown = ["".join(one.itertext()) for one in read.iter() if one.tag.endswith("}text")]
    typed = [line.removeprefix("$ filigree ") for line in shown if line.startswith("$ ")]
    assert typed == list(SESSIONS[name])
    for word in ("<script", "href", "@import", "/work/", "/home/", "/root/"):
        assert word not in text
    for one in typed:
        words = shlex.split(one)
        command = command_of(next(entry for entry in COMMANDS if entry.name == words[0]))
        assert command.make_context(words[0], words[1:], resilient_parsing=True).args == []


def test_a_recording_holds_what_was_told() -> None:
    """Hostile text of an answer stays text; colours of a terminal become classes, and nothing is lost."""
    scene = Scene("filigree x", ["\x1b[1;31mbad\x1b[0m <b>&", "", "  kept  apart"])
    read = ElementTree.fromstring(recorded([scene, scene]))
    shown = ["".join(one.itertext()) for one in read.iter() if one.tag.endswith("}text")]
    assert shown == ["$ filigree x", "bad <b>&", "  kept  apart"] * 2
