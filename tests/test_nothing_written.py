"""Nothing below a root is ever written: not a byte, not a time, not a file beside a database."""

import hashlib
import os
import stat
from pathlib import Path

import pytest

from filigree.demo.curlew import build_curlew
from filigree.demo.dunlin import build_dunlin
from filigree.demo.heron import build_heron
from filigree.demo.plover import build_plover
from filigree.demo.repository import public_key
from filigree.demo.sanderling import build_sanderling
from tests.conftest import Run

COMMANDS = (
    "survey", "census", "census --outsiders", "census --leftover", "census --groups", "dossier tidegauge",
    "dossier --any quayside", "seek tide", "contents tidegauge", "owner /usr/bin/tidegauge tidegauge",
    "owner --any weirgate", "needs tidegauge --deep", "needed-by libbrine2", "because brine-data",
    "obstacles weirgate", "whatif --drop libbrine2", "whatif --upgrade", "draw libbrine2", "verify",
    "verify --all", "verify --evidence signed", "verify --against cache", "provenance /usr/bin/ropewalk",
    "provenance lockgate", "keys", "keys --needed", "strays", "strays /", "repos",
    "repos --keyring {keys}", "behind",
)  # fmt: skip


def state(root: Path) -> dict[str, tuple[object, ...]]:
    """Everything of every path that anybody could have changed, access times included."""
    found: dict[str, tuple[object, ...]] = {}
    for above, folders, files in os.walk(root):
        for name in (*folders, *files, "."):
            path = Path(above, name)
            seen = path.lstat()
            # A directory's own access time is the platform's to keep, and cannot be left alone.
            accessed = seen.st_atime_ns if stat.S_ISREG(seen.st_mode) else None
            found[str(path)] = (
                seen.st_mode, seen.st_ino, seen.st_size, seen.st_mtime_ns, seen.st_ctime_ns,
                seen.st_uid, accessed,
            )  # fmt: skip
    for place in list(found):
        if stat.S_ISREG(int(found[place][0])):  # type: ignore[call-overload]
            handle = os.open(place, os.O_RDONLY | os.O_NOATIME)
            with os.fdopen(handle, "rb") as file:
                found[place] += (hashlib.file_digest(file, "sha256").hexdigest(),)
    return found


BUILDERS = {
    "heron": build_heron,
    "curlew": build_curlew,
    "plover": build_plover,
    "dunlin": build_dunlin,
    "sanderling": build_sanderling,
}


@pytest.mark.parametrize("station", BUILDERS)
def test_no_command_leaves_a_trace(tmp_path: Path, call: Run, station: str) -> None:
    root = BUILDERS[station](tmp_path / station)
    keys = tmp_path / "keys.asc"
    keys.write_bytes(public_key())
    before = state(root)
    for command in COMMANDS:
        words = command.format(keys=keys).split()
        done = call(*words, "--root", str(root), "--no-pager")
        assert done.returncode in (0, 1, 3), (command, done.stderr)
    after = state(root)
    assert after.keys() == before.keys()
    changed = [path for path, seen in before.items() if after[path] != seen]
    assert not changed
