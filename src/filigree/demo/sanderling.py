"""The station sanderling: an `apk` system, and what an intruder did to it."""

from dataclasses import replace
from datetime import timedelta
from itertools import groupby
from pathlib import Path

from filigree.demo import apk, arch
from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, arrived, goods_of
from filigree.demo.ground import lay_ground
from filigree.demo.intruder import intrude
from filigree.demo.offered_wares import FIXES, KEPT_BACK, NEW, TRIED, UPDATES
from filigree.demo.stages import LAST, Stage
from filigree.demo.world import WARES, Ware
from filigree.families.apk import places
from filigree.families.apk.repositories import INDEX, short_digest

SWAPPED = "/usr/bin/foghorn"
OPENED = "/usr/bin/siltmeter"
VANISHED = "/usr/share/tidetables"
REDIRECTED = "/usr/lib/libbrine.so.2"
STRAY = "/usr/bin/gullcheck"
EDITED = "/etc/tidegauge/gauge.conf"
ADDRESS = "https://packages.tides.example/apk"
FETCHED = BUILT + timedelta(days=40)
TOOLS = Ware(".station-tools", "20260214.083000", "", "virtual meta package", needs="marram, dredger",
             any_machine=True, chosen=True)  # fmt: skip
"""What the keeper asked for together: a package that nobody made."""
_NOT_HERE = ("oldgauge", "lockgate-firmware")
_BROKEN = {"gullpost": "s"}
_COMES_WITH = {"mudflat-doc": "mudflatd seaholly"}


def build_sanderling(folder: Path, stage: Stage = LAST) -> Path:
    """Build the station in a folder, which is emptied first; its root comes back."""
    disk = Disk(folder)
    lay_ground(disk, "sanderling")
    installed = everything(stage)
    for one in installed:
        disk.ship(one.goods, BUILT)
    apk.write_records(disk, installed)
    _settings(disk, installed)
    _repositories(disk)
    for one in installed[::5] if stage.cached else ():
        if one.ware is not TOOLS:
            disk.file(f"{places.CACHE}/{apk.cached_name(one)}", apk.archive(one), at=one.at)
    _log(disk, installed)
    text = disk.real(EDITED).read_text()
    disk.file(EDITED, text + "# Read every ten minutes.\n", at=BUILT + timedelta(days=9))
    if stage.intruded:
        intrude(disk, SWAPPED, OPENED, VANISHED, REDIRECTED, STRAY)
    return folder


def everything(stage: Stage = LAST) -> list[apk.KeptGood]:
    """What is installed, in the order in which it was."""
    wares = [ware for ware in WARES if ware.name not in _NOT_HERE]
    found = [
        kept(stage.ware(ware), number) for number, ware in enumerate(wares) if stage.has(ware.name)
    ]
    return [*found, apk.KeptGood(TOOLS, (), arrived(len(wares)))]


def kept(ware: Ware, number: int = 0) -> apk.KeptGood:
    """A ware as this family keeps it."""
    goods = arch.merged(goods_of(ware))
    if ware.name == "ropewalk":
        # Here nothing is diverted: what another package has this one does not.
        goods = tuple(good for good in goods if "plot-chart" not in good.path)
    return apk.KeptGood(
        ware, goods, arrived(number), _BROKEN.get(ware.name, ""), _COMES_WITH.get(ware.name, "")
    )


def _settings(disk: Disk, installed: list[apk.KeptGood]) -> None:
    """What the keeper asked for: names, one at a version, one by a tag; and what is to be absent."""
    world = []
    for one in installed:
        name = one.ware.name
        if name == "foghorn":
            world.append(f"{name}={one.version}")
        elif name == "tidegauge":
            world.append(f"{name}@trials")
        elif one.ware.chosen:
            world.append(name)
    disk.file(places.WORLD, "\n".join([*sorted(world), "!weirgate"]) + "\n")
    disk.file(places.MACHINE, f"{apk.MACHINE}\n")
    disk.file(
        f"{places.PROTECTED}/station.list",
        "# What the keeper of the station looks after.\n+usr/share/station-report\n",
    )
    disk.file(
        places.REPOSITORIES,
        f"# Where the station looks.\n{ADDRESS}/coast\n@trials {ADDRESS}/trials\n",
    )
    disk.file(f"{places.KEYS}/{apk.KEY_NAME}", apk.public_key())


def offered() -> list[apk.KeptGood]:
    """What the office offers: what is installed, in newer versions where there are some, and more."""
    newer = {ware.name: ware for ware in (*UPDATES, *FIXES)}
    wares = [
        newer.get(one.ware.name, one.ware)
        for one in everything()
        if one.ware.name not in KEPT_BACK and one.ware is not TOOLS
    ]
    return [replace(kept(ware), broken="") for ware in (*wares, *NEW)]


def tried() -> list[apk.KeptGood]:
    """What the office tries out, and asks nobody to take."""
    return [kept(ware) for ware in TRIED]


def repository() -> dict[str, bytes]:
    """What is served: the indexes, and every archive, by its path."""
    found = {}
    for part, wares, algorithm in (("coast", offered(), "sha256"), ("trials", tried(), "sha1")):
        found[f"{part}/{apk.MACHINE}/{INDEX}"] = apk.index(wares, algorithm)
        for one in wares:
            found[f"{part}/{one.architecture}/{one.file_name}"] = apk.archive(one)
    return found


def _repositories(disk: Disk) -> None:
    """The station's copies of the indexes of both parts: one is signed as nobody should any more."""
    for part, wares, algorithm in (("coast", offered(), "sha256"), ("trials", tried(), "sha1")):
        name = short_digest(f"{ADDRESS}/{part}/{apk.MACHINE}/{INDEX}")
        content = apk.index(wares, algorithm)
        disk.file(f"{places.CACHE}/APKINDEX.{name}.tar.gz", content, at=FETCHED)


def _log(disk: Disk, installed: list[apk.KeptGood]) -> None:
    """The log of what was done, a run a week."""
    lines = []
    for _, week in groupby(installed, key=lambda one: one.at.date()):
        ones = list(week)
        lines.append("")
        lines.append(f"Running `station-keep add` at {ones[0].at:%Y-%m-%d %H:%M:%S}")
        for number, one in enumerate(ones, 1):
            lines.append(f"({number}/{len(ones)}) Installing {one.ware.name} ({one.version})")
        lines.append(f"OK: {len(ones)} packages")
    disk.file(places.LOG, "\n".join(lines[1:]) + "\n")
