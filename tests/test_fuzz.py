"""Mutated databases: whatever is done to the bytes, every question ends with an answer or an error."""

import shutil
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.model.errors import FiligreeError
from filigree.questions.census import census
from filigree.questions.contents import contents
from filigree.questions.dossier import dossier
from filigree.questions.needs import needed_by, needs
from filigree.questions.owner import owner
from filigree.questions.survey import survey
from filigree.questions.verify import verify
from filigree.system import System, open_system
from filigree.views.page import Ink
from filigree.views.render import Format, render

FILES = (
    "var/lib/dpkg/status", "var/lib/dpkg/info/tidegauge.list", "var/lib/dpkg/info/tidegauge.md5sums",
    "var/lib/dpkg/diversions", "var/lib/dpkg/statoverride", "var/lib/dpkg/alternatives/chart-viewer",
    "var/lib/apt/extended_states", "etc/dpkg/dpkg.cfg.d/small-station", "usr/lib/os-release",
    "etc/passwd",
)  # fmt: skip
ASK: tuple[Callable[[System], Any], ...] = (
    survey, census, lambda s: dossier(s, ["tide*"], full=True), lambda s: contents(s, ["tidegauge"]),
    lambda s: owner(s, ["/usr/bin/tidegauge", "/usr/bin/plot-chart.ropewalk", "/usr/*/tide*"]),
    lambda s: needs(s, ["tidegauge"], None), lambda s: needed_by(s, ["libbrine2"], None),
    lambda s: verify(s, ["tidegauge", "lockgate"], workers=1),
)  # fmt: skip
EDITS = st.lists(
    st.tuples(st.floats(0, 1), st.integers(0, 30), st.binary(max_size=12) | st.sampled_from(
        [b"\n", b"\n\n", b"\0", b": ", b"\xff\xfe", b"/../../", b"(>= ", b"0" * 40, b"\x1b]0;"])),
    min_size=1, max_size=6,
)  # fmt: skip


@pytest.fixture(scope="module")
def station(heron: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("fuzz") / "heron"
    shutil.copytree(heron, folder, symlinks=True)
    return folder


@given(name=st.sampled_from(FILES), edits=EDITS)
def test_every_question_ends(
    station: Path, heron: Path, name: str, edits: list[tuple[float, int, bytes]]
) -> None:
    data = bytearray((heron / name).read_bytes())
    for where, cut, put in edits:
        at = int(where * len(data))
        data[at : at + cut] = put
    (station / name).write_bytes(data)
    started = time.monotonic()
    try:
        with open_system(str(station)) as system:
            for ask in ASK:
                answer = ask(system)
                for form in Format:
                    text = "\n".join(render(answer, form, Ink(False, 80)))
                    assert "\x1b" not in text
                    text.encode("utf-8")
    except FiligreeError:
        pass  # said in words, at the rim
    finally:
        shutil.copyfile(heron / name, station / name)
    assert time.monotonic() - started < 10  # a bound against a hang, not a measure of speed
