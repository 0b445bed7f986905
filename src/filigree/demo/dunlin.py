"""The station dunlin: a `slackware` system, and what an intruder did to it."""

from dataclasses import replace
from datetime import timedelta
from functools import lru_cache
from pathlib import Path

from filigree.demo import slackware
from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, arrived, goods_of
from filigree.demo.ground import lay_ground
from filigree.demo.intruder import intrude
from filigree.demo.offered_wares import FIXES, KEPT_BACK, NEW, NOTICES, UPDATES
from filigree.demo.repository import public_key
from filigree.demo.slackware import ChangeEntry, InstalledWare
from filigree.demo.stages import LAST, Stage
from filigree.demo.world import STATION_WARES, WARES, Ware
from filigree.families.slackware import places

SWAPPED = "/usr/bin/weatherglass"
OPENED = "/usr/bin/siltmeter"
VANISHED = "/usr/share/tidetables"
REDIRECTED = "/usr/lib64/libbrine.so.2"
STRAY = "/usr/sbin/gullcheck"
EDITED = "/etc/tidegauge/gauge.conf"
BUILT_HERE = ("marram", "sandglass", "seaholly")
"""What was built at the station with scripts of the shore."""
TAG = "_shore"
MIRROR = "https://packages.tides.example/coast64"
FETCHED = BUILT + timedelta(days=40)
_NOT_HERE = ("oldgauge", "lockgate-firmware")
_AGES = ("tidetables", "tidetables-calc", "libwhelk2", "whelk")
"""Of these the list of changes tells when which build came; of the others only that one is another."""


def build_dunlin(folder: Path, stage: Stage = LAST) -> Path:
    """Build the station in a folder, which is emptied first; its root comes back."""
    disk = Disk(folder)
    lay_ground(disk, "dunlin")
    installed = everything(stage)
    for one in installed:
        disk.ship(one.goods, BUILT)
    slackware.write_database(disk, installed)
    _history(disk)
    _settings(disk)
    _lists(disk)
    _scripts(disk)
    _archives(disk, installed)
    _daily_life(disk)
    if stage.intruded:
        intrude(disk, SWAPPED, OPENED, VANISHED, REDIRECTED, STRAY)
    return folder


@lru_cache(maxsize=4)
def everything(stage: Stage = LAST) -> tuple[InstalledWare, ...]:
    """What is installed, in the order in which it was."""
    more = [ware for ware in STATION_WARES if ware.name == "saltpan"]
    wares = [ware for ware in (*WARES, *more) if ware.name not in _NOT_HERE]
    return tuple(
        kept(stage.ware(ware), number) for number, ware in enumerate(wares) if stage.has(ware.name)
    )


@lru_cache(maxsize=512)
def kept(ware: Ware, number: int = 0, part: str = slackware.MAIN) -> InstalledWare:
    """A ware as this family keeps it."""
    at = arrived(number)
    goods = goods_of(ware, slackware.LIBRARIES)
    if ware.name == "ropewalk":
        # Nothing is diverted here: what another package has this one does not.
        goods = tuple(good for good in goods if "plot-chart" not in good.path)
    return InstalledWare(ware, goods, at, TAG if ware.name in BUILT_HERE else "", part)


def _shipped_here(ware: Ware) -> bool:
    return ware.name not in KEPT_BACK and ware.name not in BUILT_HERE and ware.name != "saltpan"


@lru_cache(maxsize=1)
def offered() -> tuple[InstalledWare, ...]:
    """What the office offers: what is installed, newer versions where there are some, fixes, and more."""
    newer = {ware.name: ware for ware in UPDATES}
    wares = [newer.get(ware.name, ware) for ware in WARES if _shipped_here(ware)]
    fixes = [kept(ware, part="patches") for ware in FIXES]
    return (*(kept(ware) for ware in (*wares, *NEW)), *fixes)


def _changes() -> list[ChangeEntry]:
    by_name = {one.ware.name: one for one in offered() if one.part == slackware.MAIN}
    fixes = {one.ware.name: one for one in offered() if one.part == "patches"}
    old = {one.ware.name: one for one in everything()}
    made = BUILT + timedelta(days=38)
    found = [
        ChangeEntry(BUILT - timedelta(days=3), tuple(old[name] for name in _AGES), "Added"),
        ChangeEntry(
            made, tuple(by_name[name] for name in _AGES), "Upgraded", "The new year's tables."
        ),
    ]
    for number, notice in enumerate(one for one in NOTICES if one.kind == "security"):
        builds = tuple(fixes[name] for name in notice.names)
        text = f"{notice.title}.\nFor more information, see:\n  https://tides.example/{notice.reference}"
        at = made + timedelta(hours=number)
        found.append(ChangeEntry(at, builds, "Rebuilt", text, security=True))
    return found


@lru_cache(maxsize=1)
def repository() -> dict[str, bytes]:
    """What is served: every list, and every archive, by its path."""
    return slackware.repository(offered(), _changes())


def build_scripts() -> tuple[Ware, ...]:
    """What can be built with scripts of the shore; one of them in a newer version than was built here."""
    wares = [ware for ware in WARES if ware.name in BUILT_HERE]
    newer = [replace(w, version="2.8-1") if w.name == "marram" else w for w in wares]
    return (*newer, Ware("wrackline", "0.3-1", "utils", "Draws where the tide left things",
                         needs="dulse, libkelp1, seaholly", programs=("wrackline",)))  # fmt: skip


def _history(disk: Disk) -> None:
    """What is gone: one package was removed, others gave way to newer ones."""
    folder = places.REMOVED[1]
    old = next(ware for ware in WARES if ware.name == "oldgauge")
    gone = kept(old)
    at = BUILT + timedelta(days=5)
    disk.file(f"{folder}/{gone.label}", slackware.record(gone, 9_000), at=at)
    for name, version in (("chartroom", "5.3.9-1"), ("libbrine2", "2.1.3-1")):
        ware = next(one for one in WARES if one.name == name)
        one = kept(replace(ware, version=version))
        when = f"{at:%Y-%m-%d,%H:%M:%S}"
        disk.file(f"{folder}/{one.label}-upgraded-{when}", slackware.record(one, 9_000), at=at)


def _settings(disk: Disk) -> None:
    """What the keeper told the system: where to fetch from, and what is to stay as it is."""
    disk.file(
        places.SETTINGS,
        "# Settings of the station.\nARCH=x86_64\nCHECKMD5=on\nCHECKGPG=on\n"
        "PRIORITY=( patches %PKGMAIN extra testing )\n",
    )
    disk.file(
        places.MIRRORS,
        f"# One address counts.\n{MIRROR}/\n# https://elsewhere.tides.example/coast64/\n",
    )
    disk.file(places.LEFT_OUT, f"# What stays as it is.\nfoghorn\nquayside\n[0-9]+{TAG}\n")


def _lists(disk: Disk) -> None:
    """The lists of the office as they were fetched, and the key ring that they are judged with."""
    for path, content in repository().items():
        if not path.endswith(".txz"):
            disk.file(f"{places.LISTS}/{path}", content, at=FETCHED)
    disk.file(f"{places.RING}/pubring.gpg", public_key())


def _scripts(disk: Disk) -> None:
    for ware in build_scripts():
        folder = f"{places.BUILD_SCRIPTS}/shore/{ware.name}"
        disk.file(f"{folder}/{ware.name}.info", slackware.info_text(ware))


def _archives(disk: Disk, installed: tuple[InstalledWare, ...]) -> None:
    """What the station still keeps of what it fetched: one archive in five."""
    there = {one.label for one in offered()}
    for one in installed[::5]:
        if one.label in there:
            path = f"{places.ARCHIVES}/{one.place.removeprefix('./')}"
            disk.file(path, slackware.pooled(kept(one.ware)), at=one.at)


def _daily_life(disk: Disk) -> None:
    """What nobody did wrong: a setting that the keeper changed, and a new one that waits beside it."""
    real = disk.real(EDITED)
    text = real.read_text()
    disk.file(f"{EDITED}.new", text)
    disk.file(EDITED, text + "# Read every ten minutes.\n", at=BUILT + timedelta(days=9))
