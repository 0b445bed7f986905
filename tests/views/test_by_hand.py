"""The ways that a page tells to check a finding by hand: each is run by a shell, and tells the same."""

import shutil
import subprocess
from collections import Counter
from dataclasses import replace
from pathlib import Path

import pytest

from filigree.questions.keeping.taking import Taking, snapshot
from filigree.questions.reporting.audit import Audit, AuditPart, AuditWish, audit, parts_named
from filigree.questions.reporting.by_hand import MOST
from filigree.system import open_system
from filigree.views.handover.shared import Handed
from filigree.views.pages.audit import audit_page
from filigree.views.pages.stories import HandCheck, checks, shell_word

TOLD_LATER = {"record", "kind"}


def of_findings(told: Audit) -> list[HandCheck]:
    (answer,) = told.parts.values()
    return [check for one in answer.records for check in checks(one, told.by_hand)]


def asked(root: Path) -> Audit:
    with open_system(str(root)) as system:
        return audit(system, AuditWish(parts_named(["findings"])))


@pytest.mark.parametrize("station", ["heron", "curlew", "plover", "dunlin", "sanderling"])
def test_what_the_page_tells_to_do_tells_what_the_page_says(
    station: str, request: pytest.FixtureRequest
) -> None:
    root = request.getfixturevalue(station)
    found = of_findings(asked(root))
    tried: Counter[str] = Counter()
    for check in found:
        if check.command is None or shutil.which(check.command.split()[0]) is None:
            continue
        done = subprocess.run(
            ["bash", "-c", check.command], check=False, capture_output=True, text=True
        )
        if check.found == "nothing":
            assert done.returncode != 0, check
        elif check.aspect not in TOLD_LATER:
            assert check.found.rpartition(":")[2] in done.stdout, check
        tried[check.aspect] += 1
    assert tried["content"] or tried["mode"], tried
    for check in found:
        if "own record, where " in check.told_by:
            place = check.told_by.partition("where ")[2].removesuffix(" is")
            assert (root / place.lstrip("/")).exists(), check
    digests = [one for one in found if one.aspect == "link-target" and ":" in one.expected]
    assert bool(digests) is (station == "sanderling"), "one family tells links by their digests"
    for check in digests:
        assert check.command is not None
        assert check.command.endswith(" | sha1sum")


def test_no_link_leads_a_person_out_of_the_root(tmp_path: Path, heron: Path) -> None:
    """The directory of an altered program becomes a link to where an unaltered copy lies outside."""
    root = tmp_path / "root"
    shutil.copytree(heron, root, symlinks=True)
    outside = tmp_path / "outside"
    shutil.move(root / "usr" / "bin", root / "usr" / "elsewhere")
    outside.mkdir()
    (root / "usr" / "bin").symlink_to("/usr/elsewhere")
    told = [check for check in of_findings(asked(root)) if check.path == "/usr/bin/tidegauge"]
    assert [check.command for check in told] == [f"md5sum {root}/usr/elsewhere/tidegauge"]


def test_of_what_is_no_directory_paths_start_where_somebody_unpacked_it(
    heron: Path, tmp_path: Path
) -> None:
    kept = tmp_path / "heron.snapshot"
    with open_system(str(heron)) as system:
        snapshot(system, str(kept), Taking("a test", "0"))
    found = of_findings(asked(kept))
    assert "md5sum ./usr/bin/tidegauge" in [check.command for check in found]


@pytest.mark.parametrize(
    "path", ["/a b", "/-n", "/$(id)", "/`id`", "/'\"", "/\x1b[2J", "/\udcff\n", "/\u202e", "/é x"]
)
def test_a_path_is_one_word_of_a_shell_that_can_be_read(path: str) -> None:
    word = shell_word(path)
    assert word.isprintable()
    done = subprocess.run(["bash", "-c", f"printf %s {word}"], capture_output=True, check=True)
    assert done.stdout == path.encode("utf-8", "surrogateescape")


def test_what_is_told_of_many_paths_is_bounded_and_says_so(heron: Path) -> None:
    told = asked(heron)
    (answer,) = told.parts.values()
    one = next(found for found in answer.records if found.rule == "code-altered")
    of_one = list(checks(one, told.by_hand))
    many = replace(one, paths=one.paths * (MOST + 5))
    assert len(list(checks(many, told.by_hand))) == MOST * len(of_one) > 0
    parts = {AuditPart.FINDINGS: replace(answer, records=[many])}
    page = audit_page(replace(told, parts=parts), Handed("filigree", "0.1.0", told.asked_at))
    assert "5 more paths are of it" in page
