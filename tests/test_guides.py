"""The guides: every command line in them is run on the stations, as it stands."""

import re
import shlex
from pathlib import Path

import pytest

from filigree.demo.fleet import write_fleet
from filigree.fleet.taking import Taken
from tests.conftest import Run
from tests.fleet.conftest import taken

__all__ = ["taken"]
GUIDES = Path(__file__).parents[1] / "docs" / "guides"
BLOCK = re.compile(r"```sh\n(.*?)```", re.DOTALL)


def lines_of(path: Path) -> list[str]:
    return [line for block in BLOCK.findall(path.read_text()) for line in block.splitlines()]


@pytest.fixture
def folder(
    tmp_path: Path, heron: Path, settled: Path, curlew: Path, images: dict[str, Path],
    archives: dict[str, Path], taken: dict[str, Taken], run: Run, monkeypatch: pytest.MonkeyPatch,
) -> Path:  # fmt: skip
    """What `filigree demo --into` builds, as far as guides name it."""
    place = tmp_path / "stations"
    (place / "images").mkdir(parents=True)
    (place / "before").mkdir()
    for name, root in (
        ("heron", heron),
        ("curlew", curlew),
        ("archives", next(iter(archives.values())).parent),
    ):
        (place / name).symlink_to(root)
    (place / "images" / "heron").symlink_to(images["heron"])
    for name, root in (("heron", settled), ("curlew", curlew)):
        run("snapshot", str(place / "before" / f"{name}.snapshot"), "--root", str(root))
    write_fleet(place, {"heron": taken["settled"], "curlew": taken["curlew"]}, taken["heron"])
    monkeypatch.chdir(place)
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path / "cache"))
    return place


SAYS = {
    "ten-minutes": ["/usr/bin/tidegauge", "doctored", "audit.html"], "a-disk": ["/usr/sbin/gullcheck"],
    "pipeline": ["record-made-to-fit", "inventory.json"],
    "many-hosts": ["gauge-18", "/usr/sbin/gullcheck"],
    "verdicts": ["doctored"],
}  # fmt: skip
"""What is told somewhere in each: that it tells what it says."""


@pytest.mark.parametrize("guide", SAYS)
def test_every_command_line_of_a_guide_works(folder: Path, run: Run, guide: str) -> None:
    lines = lines_of(GUIDES / f"{guide}.md")
    assert lines
    told = ""
    for line in lines:
        program, *words = shlex.split(line)
        assert program == "filigree"
        done = run(*words)
        assert done.returncode in (0, 1, 3), (line, done.stderr)
        told += done.stdout
    assert [words for words in SAYS[guide] if words not in told] == []
    assert folder.is_dir()


def test_every_guide_is_named_and_tried() -> None:
    named = set(re.findall(r"\]\(([a-z-]+)\.md\)", (GUIDES / "README.md").read_text()))
    assert named == {path.stem for path in GUIDES.glob("*.md")} - {"README"} == set(SAYS)
