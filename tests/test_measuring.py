"""What measures says so when something takes more than it did, and only then."""

from pathlib import Path

import pytest
from benchmarks.figures import keep
from benchmarks.instructions import judged

KEPT = 100_000_000


@pytest.mark.parametrize(
    ("count", "changes", "failed"),
    [
        (KEPT, "", False), (KEPT // 2, "", False), (KEPT * 105 // 100, "", False),
        (KEPT * 106 // 100, "", True), (KEPT * 106 // 100, "- `verify` does more.", True),
        (KEPT * 106 // 100, "- `verify` takes more instructions than 100 million: it reads more.", False),
        (KEPT * 106 // 100, "- `census` takes more instructions than 100 million.", True),
        (KEPT * 106 // 100, "- `verify` takes more instructions than 90 million.", True),
    ],
)  # fmt: skip
def test_a_step_back_is_told_or_a_failure(count: int, changes: str, failed: bool) -> None:
    assert judged("verify", count, KEPT, changes).failed is failed


def test_what_cannot_be_compared_is_told() -> None:
    told = judged("verify", KEPT, None, "")
    assert (told.failed, told.words) == (False, "verify: 100 million, none kept")


def test_figures_are_kept_and_what_is_worse_is_told(tmp_path: Path) -> None:
    kept = tmp_path / "figures.json"
    assert keep({"verify": {"ratio": 1.0, "peak": 80}, "census": {"ratio": 2.0}}, kept) == []
    assert keep({"verify": {"ratio": 1.1, "peak": 100}}, kept) == [
        "verify: peak 100.00, and was 80.00"
    ]
    # The newest count, and what was not measured again stays.
    assert keep({"verify": {"ratio": 1.3, "peak": 100}, "census": {"ratio": 2.0}}, kept) == [
        "verify: ratio 1.30, and was 1.10"
    ]
