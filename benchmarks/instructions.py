"""How many instructions small questions take, which does not vary with what else a machine does.

    python benchmarks/instructions.py [--keep]

Each question is asked of made-up stations under valgrind, which counts, and held against the counts that
are kept beside this file. More than a twentieth above what is kept is a failure, unless CHANGELOG.md says
so in a line with the words "more instructions", the name of the question, and the count that was kept,
in millions; then `--keep` keeps the new one. Counts of another Python, or of another kind of machine, are
not comparable, and only told.
"""

import json
import os
import platform
import re
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

from filigree.demo.curlew import build_curlew
from filigree.demo.heron import build_heron

TOP = Path(__file__).parents[1]
KEPT = Path(__file__).with_suffix(".json")
MOST = 1.05
QUESTIONS = {
    "--help": ("--help",), "census": ("census", "--root", "heron"),
    "verify": ("verify", "--root", "heron", "--jobs", "1"), "behind": ("behind", "--root", "curlew"),
}  # fmt: skip
_COUNT = re.compile(r"Collected : ([0-9]+)")


class Verdict(NamedTuple):
    """What is to be said of a count, and whether it is a failure."""

    words: str
    failed: bool


def kind() -> str:
    """What counts are only comparable within."""
    return f"{platform.machine()}, Python {platform.python_version()}"


def judged(name: str, count: int, kept: int | None, changes: str) -> Verdict:
    """A count, held against the kept one and what CHANGELOG.md says."""
    if kept is None:
        return Verdict(f"{name}: {count / 1e6:,.0f} million, none kept", False)
    words = f"{name}: {count / 1e6:,.0f} million, {count / kept - 1:+.1%} of {kept / 1e6:,.0f}"
    if count <= kept * MOST:
        return Verdict(words, False)
    told = any(
        "more instructions" in line and name in line and f"{kept / 1e6:,.0f}" in line
        for line in changes.splitlines()
    )
    return Verdict(f"{words}: " + ("told in CHANGELOG.md" if told else "a step back"), not told)


def counted(folder: Path) -> dict[str, int]:
    """The instructions of each question, asked of stations below a folder."""
    build_heron(folder / "heron")
    build_curlew(folder / "curlew")
    told = {
        **os.environ, "PYTHONHASHSEED": "0", "XDG_CACHE_HOME": str(folder / "cache"), "COLUMNS": "100",
        "LC_ALL": "C.UTF-8",
        # As an installation leaves it: compiled.
        "PYTHONDONTWRITEBYTECODE": "", "PYTHONPYCACHEPREFIX": str(folder / "compiled"),
    }  # fmt: skip
    found = {}
    for name, words in QUESTIONS.items():
        plainly = [sys.executable, "-m", "filigree", *words]
        # Once before: what is compiled, or kept of indexes, is there when it counts.
        subprocess.run(plainly, cwd=folder, env=told, capture_output=True, check=False)
        counting = ["valgrind", "--tool=callgrind", "--callgrind-out-file=/dev/null", *plainly]
        done = subprocess.run(
            counting, cwd=folder, env=told, capture_output=True, text=True, check=False
        )
        match = _COUNT.search(done.stderr)
        if match is None:
            raise SystemExit(f"{name} was not counted: {done.stderr[-500:]}")
        found[name] = int(match[1])
    return found


def main() -> int:
    """Count, say, and fail where it takes more."""
    if shutil.which("valgrind") is None:
        print("there is no valgrind here: nothing was counted")
        return 0
    with tempfile.TemporaryDirectory(prefix="filigree-") as folder:
        counts = counted(Path(folder))
    told: dict[str, Mapping[str, int]] = json.loads(KEPT.read_text()) if KEPT.exists() else {}
    kept = told.get(kind(), {})
    changes = (TOP / "CHANGELOG.md").read_text()
    verdicts = [judged(name, count, kept.get(name), changes) for name, count in counts.items()]
    for one in verdicts:
        print(one.words)
    failed = any(one.failed for one in verdicts)
    if "--keep" in sys.argv and not failed:
        KEPT.write_text(json.dumps({**told, kind(): counts}, indent=1, sort_keys=True) + "\n")
    return int(failed)


if __name__ == "__main__":
    sys.exit(main())
