"""This machine's own packages, where it is a `deb` system, against its raw files read independently.

Nothing of Filigree is used for the expected side: text is cut with `split`, digests are coreutils'.
"""

import os
import random
import shutil
import subprocess
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import pytest

from filigree.questions.needs import needs
from filigree.questions.owner import owner
from filigree.questions.survey import survey
from filigree.questions.verify import verify
from filigree.system import System, open_system

STATUS = Path("/var/lib/dpkg/status")
INFO = Path("/var/lib/dpkg/info")

pytestmark = pytest.mark.skipif(not STATUS.exists(), reason="this machine is no deb system")


@pytest.fixture(scope="module")
def system() -> Iterator[System]:
    with open_system("/") as opened:
        yield opened


def diversions() -> list[list[str]]:
    path = Path("/var/lib/dpkg/diversions")
    lines = path.read_text().splitlines() if path.exists() else []
    return [lines[at : at + 3] for at in range(0, len(lines), 3)]


def lists() -> dict[str, set[str]]:
    """The paths of each package, by the name of its list file."""
    return {
        path.stem.partition(":")[0]: set(path.read_text("utf-8", "surrogateescape").splitlines())
        for path in sorted(INFO.glob("*.list"))
    }


def test_counts_by_state(system: System) -> None:
    raw = Counter(
        line.split()[-1]
        for line in STATUS.read_text("utf-8", "surrogateescape").splitlines()
        if line.startswith("Status: ")
    )
    (found,) = survey(system).records
    words = {"config-files": "configuration-left"}
    assert found.states == {words.get(state, state): count for state, count in raw.items()}


def test_owners_of_random_paths(system: System) -> None:
    """The packages whose list has the line, for 200 paths that no diversion touches."""
    by_name = lists()
    moved = {path for entry in diversions() for path in entry[:2]}
    every = sorted({path for paths in by_name.values() for path in paths if path != "/."} - moved)
    asked = random.Random(7).sample(every, min(200, len(every)))
    for found in owner(system, asked).records:
        raw = {name for name, paths in by_name.items() if found.path in paths}
        listed = {one.name for one in found.owners if one.how.value == "listed"}
        # A merged directory may add the owners of the same file by its other path.
        assert listed == raw, found.path


def test_owners_of_every_diversion(system: System) -> None:
    by_name = lists()
    for original, moved_to, keeper in diversions():
        (kept, gone) = owner(system, [original, moved_to]).records
        raw = {name for name, paths in by_name.items() if original in paths}
        expected = {keeper} & raw
        if os.path.lexists(original):
            assert {o.name for o in kept.owners if o.how.value == "listed"} == expected, original
        assert {o.name for o in gone.owners if o.how.value == "diverted"} == raw - {keeper}, (
            moved_to
        )


def naive_findings(names: list[str]) -> tuple[set[str], set[str]]:
    """What coreutils finds different, and what is missing; diverted paths left to others."""
    moved = {entry[0] for entry in diversions()}
    altered, missing = set(), set()
    for name in names:
        for path in (p for p in INFO.glob(f"{name}*.md5sums") if p.stem.partition(":")[0] == name):
            done = subprocess.run(
                ["md5sum", "-c", str(path)], cwd="/", capture_output=True, check=False,
                env={**os.environ, "LC_ALL": "C"},
            )  # fmt: skip
            for line in done.stdout.decode("utf-8", "surrogateescape").splitlines():
                subject, _, verdict = line.rpartition(": ")
                if verdict == "FAILED" and f"/{subject}" not in moved:
                    altered.add(f"/{subject}")
                if verdict == "FAILED open or read" and f"/{subject}" not in moved:
                    missing.add(f"/{subject}")
    return altered, missing


def assert_agreement(system: System, names: list[str]) -> None:
    altered, missing = naive_findings(names)
    answer = verify(system, names)
    settings = {r.path for p in system.packages for r in system.database.configuration(p)}
    sums = {
        f"/{line[34:]}"
        for name in names
        for path in INFO.glob(f"{name}*.md5sums")
        for line in path.read_text("utf-8", "surrogateescape").splitlines()
    }
    moved = {path for entry in diversions() for path in entry[:2]}
    found = [r for r in answer.records if r.path in sums - settings and r.path not in moved]
    assert {r.path for r in found if r.verdict.value == "altered"} == altered - settings
    assert {r.path for r in found if r.verdict.value == "missing"} == missing - settings


@pytest.mark.skipif(shutil.which("md5sum") is None, reason="md5sum is not here to judge")
def test_verdicts_of_a_sample_of_packages(system: System) -> None:
    names = sorted({p.name for p in system.packages if (p.installed_size or 0) < 20 << 20})
    assert_agreement(system, random.Random(11).sample(names, min(60, len(names))))


@pytest.mark.whole
def test_verdicts_of_every_package(system: System) -> None:
    assert_agreement(system, sorted({p.name for p in system.packages}))


def test_the_running_system_needs_nothing_that_is_not_there(system: System) -> None:
    """A system that runs is consistent: anything found here is our error until shown otherwise."""
    names = [f"{p.name}:{p.architecture}" for p in system.packages if p.state.value == "installed"]
    unmet = [r for r in needs(system, names).records if r.status == "unmet"]
    assert unmet == []
