"""What is told of long work while it goes on: on a terminal, in its place, and gone in the end."""

import sys

import pytest

from filigree.cli import progress
from filigree.questions.keeping.taking import TakingProgress

STEPS = (
    TakingProgress("paths seen", 4096, 0), TakingProgress("questions asked", 3, 12),
    TakingProgress("files digested", 50, 200), TakingProgress("files digested", 100, 200),
)  # fmt: skip


def test_a_page_tells_every_step_and_goes(
    monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]
) -> None:
    monkeypatch.setattr(sys.stderr, "isatty", lambda: True)
    monkeypatch.setattr(progress, "PATIENCE", 0)
    monkeypatch.setattr(progress, "PACE", 0)
    page = progress.TakingPage()
    for step in STEPS:
        page(step)
    last = capsys.readouterr().err.rpartition("\x1b[J")[2].splitlines()
    assert last[0] == " done  4,096 paths seen"
    assert last[1] == " done  3 of 12 questions asked"
    assert last[2].startswith("  50%  100 of 200 files digested, ")
    page.close()
    assert capsys.readouterr().err == "\x1b[3F\x1b[J"


def test_a_pipe_is_told_nothing(
    capsys: pytest.CaptureFixture[str], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(progress, "PATIENCE", 0)
    page = progress.TakingPage()
    for step in STEPS:
        page(step)
    page.close()
    assert capsys.readouterr().err == ""
