"""The program's own words about a timeline: formats, sums, pictures, and questions that make no sense."""

import json
import struct
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from filigree.model.answer import Answer, SystemLabel
from filigree.model.events import Clock
from filigree.questions.timeline.happenings import Deed, Happening
from filigree.questions.timeline.timeline import TimelineSummary
from filigree.views.pictures.timeline import timeline_picture
from tests.conftest import Run

PACKAGES = "installed,upgraded,removed"


def test_a_timeline_by_month_is_the_sum_of_itself(call: Run, heron: Path) -> None:
    words = ("timeline", "--root", str(heron), "--format", "json")
    whole = json.loads(call(*words).stdout)
    sums = json.loads(call(*words, "--by", "month").stdout)
    assert sums["question"] == "periods"
    assert sum(one["happenings"] for one in sums["records"]) == len(whole["records"])
    assert sums["summary"] == {**whole["summary"], "seen_at": sums["summary"]["seen_at"]}
    counts: dict[str, int] = {}
    for one in sums["records"]:
        for deed, count in one["by_action"].items():
            counts[deed] = counts.get(deed, 0) + count
    assert counts == whole["summary"]["by_action"]


def test_a_table_tells_a_transaction_as_one(call: Run, heron: Path) -> None:
    done = call("timeline", "--root", str(heron), "--action", PACKAGES, "--format", "table")
    assert done.returncode == 0
    assert done.stdout.count("station-keep add lockgate and 19 more, asked for by tide (950)") == 1
    assert "upgraded chartroom 5.3.9-1 → 5.4.1-2" in done.stdout
    assert "which failed" in done.stdout
    assert "whose" not in done.stdout.splitlines()[0]


@pytest.mark.parametrize(
    ("words", "why"),
    [
        (("--action", "exploded"), "nothing is ever 'exploded'"),
        (("--by", "fortnight"), "there are no sums by 'fortnight'"),
        (("--since", "soon"), "no time is written 'soon'"),
        (("--around", "tidegauge", "--within", "near"), "no length of time is written 'near'"),
        (("--into", "picture.gif"), "what to draw is told by how the file ends"),
        (("--with", "/dev/null"), "no snapshot can be opened"),
        (("--keyring", "/dev/null"), "no signature is judged here"),
        (("--since", "2026-03-01", "--until", "2026-02-01"), "it would end before it begins"),
    ],
)  # fmt: skip
def test_questions_that_make_no_sense(
    call: Run, heron: Path, words: tuple[str, ...], why: str
) -> None:
    done = call("timeline", "--root", str(heron), *words)
    assert done.returncode == 2
    assert why in done.stderr
    assert not done.stdout


def test_a_picture_is_never_written_below_the_root(call: Run, heron: Path, tmp_path: Path) -> None:
    words = ("timeline", "--root", str(heron), "--action", PACKAGES, "--into")
    assert call(*words, str(heron / "picture.png")).returncode == 2
    path = tmp_path / "picture.png"
    assert call(*words, str(path)).returncode == 0
    head = path.read_bytes()[:24]
    assert struct.unpack(">II", head[16:24]) == (1280, 800)


def _answer(*times: datetime | None) -> Answer[Happening, TimelineSummary]:
    rows = [
        Happening(
            at=at, until=None, action=Deed.ALTERED, subject="/usr/bin/\x1b[31m$x^{2}\udcff",
            package="gull", version=None, before=None, architecture=None, by=None, command=None,
            outcome=None, session=None, told_in=None, clock=Clock.FILE, explained_by=None,
        )
        for at in times
    ]  # fmt: skip
    known = [at for at in times if at is not None]
    summary = TimelineSummary(
        happenings=len(rows), sessions=0, unexplained=len(rows), doubtful=0, by_action={},
        by_clock={}, first=min(known, default=None), last=max(known, default=None),
        history_from=None, seen_at=datetime(2026, 3, 1, tzinfo=UTC),
    )  # fmt: skip
    return Answer("timeline", SystemLabel("/", "deb", "$\\frac{x"), rows, summary)


_START = datetime(2026, 3, 1, tzinfo=UTC)


@pytest.mark.parametrize(
    "times",
    [
        [], [None], [_START], [_START, _START + timedelta(minutes=2)],
        [_START - timedelta(days=365 * 40), None, _START],
        [datetime(1, 1, 1, tzinfo=UTC), datetime(9999, 12, 31, 23, tzinfo=UTC)],
    ],
)  # fmt: skip
@pytest.mark.parametrize("form", ["png", "svg"])
def test_pictures_of_nothing_of_days_and_of_decades(
    times: list[datetime | None], form: str
) -> None:
    answer = _answer(*times)
    drawn = timeline_picture(answer, form)
    assert drawn[:5] == (b"\x89PNG\r" if form == "png" else b"<?xml")
    assert drawn == timeline_picture(answer, form)
