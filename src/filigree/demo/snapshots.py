"""What the office kept of each station before somebody came by night: signed snapshots."""

from pathlib import Path

from filigree import __version__
from filigree.demo.repository import secret_key
from filigree.questions.keeping.taking import Taking, snapshot
from filigree.system import open_system

FOLDER = "before"
ENDING = ".snapshot"


def write_snapshot(into: Path, station: str, root: Path) -> None:
    """Write the snapshot of one station, as it was, below a folder."""
    how = Taking(
        taken_by="the keeper of the office's archive", version=__version__, label=station,
        key=bytes(secret_key()),
    )  # fmt: skip
    with open_system(str(root)) as system:
        snapshot(system, str(into / FOLDER / f"{station}{ENDING}"), how)
