"""The table that compares the stations says what the questions answer."""

from pathlib import Path

import pytest

from filigree.demo.comparison import compared, side_by_side
from filigree.model.files import Verdict
from filigree.questions.commands.verify import verify
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import open_system
from filigree.views.page import Ink


@pytest.fixture(scope="module")
def roots(
    heron: Path, curlew: Path, plover: Path, dunlin: Path, sanderling: Path
) -> dict[str, Path]:
    return {one.name: one for one in (heron, curlew, plover, dunlin, sanderling)}


@pytest.fixture(scope="module")
def table(roots: dict[str, Path]) -> dict[str, list[str]]:
    plain = (
        [one if isinstance(one, str) else one.text for one in r]
        for r in compared(roots, RepositoryOptions())
    )
    return {fact: cells for fact, *cells in plain}


def test_every_station_has_a_cell_for_every_fact(table: dict[str, list[str]]) -> None:
    assert all(len(cells) == 5 for cells in table.values())
    assert table["family"] == ["deb", "rpm", "arch", "slackware", "apk"]
    assert [int(cell) for cell in table["packages"]] == [63, 65, 60, 61, 61]


def test_the_cells_are_the_answers(table: dict[str, list[str]], roots: dict[str, Path]) -> None:
    for number, root in enumerate(roots.values()):
        with open_system(str(root)) as system:
            verdicts = verify(system).summary.verdicts
        cell = table["wrong by the local record"][number]
        for verdict in (Verdict.DOCTORED, Verdict.ALTERED, Verdict.MISSING):
            count = verdicts.get(verdict, 0)
            assert (f"{count} {verdict.value}" in cell) is bool(count)
        assert table["files without a digest there"][number] == str(
            verdicts.get(Verdict.UNRECORDED, 0)
        )


def test_what_a_family_cannot_say_is_said(table: dict[str, list[str]]) -> None:
    assert table["chosen by a person"][3] == "not on record"
    assert table["missing for security"][2] == "nothing tells"
    assert table["other versions, order unknown"] == ["0", "0", "0", "4", "0"]


@pytest.mark.parametrize("width", [80, 120, 158])
def test_it_fits_the_window(roots: dict[str, Path], width: int) -> None:
    lines = list(side_by_side(roots, RepositoryOptions(), Ink(False, width)))
    assert all(len(text) <= width for text in lines)
