"""What the office kept of each station before somebody came by night: signed snapshots."""

import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path

from filigree import __version__
from filigree.demo.repository import secret_key
from filigree.demo.stages import SETTLED, Stage
from filigree.questions.keeping.taking import Taking, snapshot
from filigree.system import open_system

FOLDER = "before"
ENDING = ".snapshot"


def write_snapshots(into: Path, builders: dict[str, Callable[[Path, Stage], Path]]) -> None:
    """Write the snapshot of every station below a folder."""
    shutil.rmtree(into / FOLDER, ignore_errors=True)
    (into / FOLDER).mkdir()
    for station, build in builders.items():
        with tempfile.TemporaryDirectory() as folder:
            root = build(Path(folder) / station, SETTLED)
            how = Taking(
                taken_by="the keeper of the office's archive", version=__version__, label=station,
                key=bytes(secret_key()),
            )  # fmt: skip
            with open_system(str(root)) as system:
                snapshot(system, str(into / FOLDER / f"{station}{ENDING}"), how)
