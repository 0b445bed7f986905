"""What is behind, ahead, held or passed over, and what of it is for security."""

from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest

from filigree.demo.offered_wares import NOTICES
from filigree.model.answer import Answer
from filigree.questions.commands.behind import BehindRow, behind
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import open_system
from tests.conftest import Run

IN_TIME = datetime(2026, 3, 1, tzinfo=UTC)


def asked(root: Path, security: bool = False, now: datetime = IN_TIME) -> Answer[BehindRow, Any]:
    with open_system(str(root)) as system:
        return behind(system, security, RepositoryOptions(now=now))


def standings(root: Path) -> dict[str, tuple[str, str | None]]:
    return {row.name: (row.status.value, row.candidate) for row in asked(root).records}


def test_heron(heron: Path) -> None:
    told = standings(heron)
    assert told["jetty"] == ("behind", "1.1.0-2+fix1")
    assert told["tidetables"] == ("behind", "2026.3-1")
    assert told["foghorn"] == ("held", "3.2.1-1")
    assert told["harbourlog"] == ("ahead", "1.13-2")
    # A preference keeps the fix away; trials are not taken unasked, and what nobody offers is not told.
    assert told["quayside"] == ("passed-over", "20.4-1+fix2")
    assert not {"tidegauge", "spindrift", "marram"} & told.keys()
    answer = asked(heron, security=True)
    assert [row.name for row in answer.records] == [
        "jetty",
        "jetty-client",
        "libmussel5",
        "quayside",
    ]
    assert all(not row.advisories and row.repository for row in answer.records)
    assert answer.exit_status == 1
    summary = answer.summary
    assert (summary.security, summary.behind, summary.held) == (4, 10, 1)
    assert (summary.ahead, summary.not_offered, summary.passed_over) == (1, 1, 1)


def test_curlew(curlew: Path) -> None:
    rows = {row.name: row for row in asked(curlew).records}
    assert rows["ropewalk-common"].status == "replaced"
    assert rows["ropewalk-common"].candidate_name == "ropewalk-patterns"
    assert rows["foghorn"].status == "held"
    assert rows["quayside"].status == "passed-over"
    # The stream with the newer gauge is not followed.
    assert "tidegauge" not in rows
    (fix,) = rows["jetty"].advisories
    notice = NOTICES[0]
    assert (fix.identity, fix.severity, fix.kind) == (notice.identity, "important", "security")
    assert fix.references[0].identity == notice.reference
    assert (rows["jetty"].why_security, rows["jetty"].security) == (notice.identity, True)
    repair = rows["tidetables"]
    assert (repair.advisories[0].kind, repair.security) == ("repair", False)


def test_following_another_stream(tmp_path: Path) -> None:
    from filigree.demo.curlew import build_curlew

    root = build_curlew(tmp_path / "curlew")
    enabled = root / "etc/dnf/modules.d/tide.module"
    enabled.parent.mkdir(parents=True)
    enabled.write_text("[tide]\nname=tide\nstream=2\nstate=enabled\n")
    assert standings(root)["tidegauge"] == ("behind", "1:3.0-1")
    enabled.write_text("[tide]\nname=tide\nstream=\nstate=disabled\n")
    assert "tidegauge" not in standings(root)


def test_a_stream_that_needs_another(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from filigree.demo import rpm_repository
    from filigree.demo.curlew import build_curlew

    told = rpm_repository._modules().replace(
        b'"stream": "2",', b'"stream": "2", "dependencies": [{"requires": {"salt": ["3"]}}],'
    )
    monkeypatch.setattr(rpm_repository, "_modules", lambda: told)
    rpm_repository.rpm_indexes.cache_clear()
    root = build_curlew(tmp_path / "curlew")
    rpm_repository.rpm_indexes.cache_clear()
    folder = root / "etc/dnf/modules.d"
    folder.mkdir(parents=True)
    (folder / "tide.module").write_text("[tide]\nname=tide\nstream=2\nstate=enabled\n")
    assert standings(root)["tidegauge"] == ("behind", "1:3.0-1")
    (folder / "salt.module").write_text("[salt]\nname=salt\nstream=2\nstate=enabled\n")
    assert "tidegauge" not in standings(root)
    (folder / "salt.module").write_text("[salt]\nname=salt\nstream=3\nstate=enabled\n")
    assert standings(root)["tidegauge"] == ("behind", "1:3.0-1")


def test_an_index_that_has_expired_is_a_gap(heron: Path) -> None:
    late = asked(heron, now=datetime(2037, 1, 1, tzinfo=UTC))
    assert sum("expired on" in gap.why for gap in late.gaps) == 3
    assert sum("expired on" in gap.why for gap in asked(heron).gaps) == 1


def test_nothing_missing_is_good_news_with_gaps_told(own_heron: Path) -> None:
    for path in (own_heron / "var/lib/apt/lists").glob("*urgent*"):
        path.unlink()
    answer = asked(own_heron, security=True)
    assert (answer.records, answer.exit_status) == ([], 3)
    assert any("saltmarsh-urgent" in gap.what for gap in answer.gaps)


def test_a_pin_of_1000_goes_back(own_heron: Path) -> None:
    path = own_heron / "etc/apt/preferences.d/harbourlog"
    path.write_text("Package: harbourlog\nPin: version 1.13*\nPin-Priority: 1001\n")
    assert standings(own_heron)["harbourlog"] == ("backwards", "1.13-2")


@pytest.mark.parametrize("station", ["heron", "curlew"])
def test_the_program_tells_it(
    run: Run, station: str, tmp_path: Path, request: pytest.FixtureRequest
) -> None:
    root = str(request.getfixturevalue(station))
    done = run("behind", "--root", root, "--format", "table", XDG_CACHE_HOME=str(tmp_path))
    assert done.returncode == 1
    for words in (
        "Missing for security",
        "Held, where another version",
        "Ahead of every repository",
    ):
        assert words in done.stdout
    assert "4 missing for security" in done.stdout
    one = run("behind", "--root", root, "--repo", "flood", XDG_CACHE_HOME=str(tmp_path))
    assert "no repository is called flood" in one.stderr
