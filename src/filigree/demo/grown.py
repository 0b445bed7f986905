"""heron, a month on: a program of the office's fetched itself anew, over its package."""

from datetime import timedelta
from pathlib import Path

from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, goods_of, machine_code, words
from filigree.demo.heron import build_heron
from filigree.demo.stages import Stage
from filigree.demo.world import Ware

FOLDER = "grown"
PILOT = Ware(
    "harbourpilot", "4.1-1", "science", "Answers what a pilot asks", programs=("harbourpilot",), data=60,
    data_size=600, chosen=True,
)  # fmt: skip
PLACE = f"/usr/share/{PILOT.name}"
PROGRAM = f"/usr/bin/{PILOT.name}"
AT = BUILT + timedelta(days=37, minutes=45)
_ANEW = 34


def build_grown(folder: Path) -> Path:
    """Build the station in a folder, which is emptied first; its root comes back."""
    build_heron(folder, Stage(besides=(PILOT,)))
    disk = Disk(folder, keep=True)
    for number, good in enumerate(
        one for one in goods_of(PILOT) if one.path.startswith(f"{PLACE}/")
    ):
        disk.file(good.path, words(f"anew/{number}", 60), at=AT + timedelta(seconds=number))
    for number in range(_ANEW):
        text = words(f"besides/{number}", 60)
        disk.file(f"{PLACE}/pilot-{number:02d}.tbl", text, at=AT + timedelta(seconds=number))
    disk.file(PROGRAM, machine_code("the pilot, anew", 31_000), 0o755, AT)
    return folder
