"""The station plover: an `arch` system, and what an intruder did to it."""

from datetime import timedelta
from pathlib import Path

from filigree.demo import arch
from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, arrived, goods_of
from filigree.demo.ground import lay_ground
from filigree.demo.histories import write_arch_history
from filigree.demo.intruder import intrude
from filigree.demo.offered_wares import FIXES, KEPT_BACK, NEW, UPDATES
from filigree.demo.repository import detached, public_key
from filigree.demo.stages import LAST, Stage
from filigree.demo.world import WARES, Ware
from filigree.families.arch import places

SWAPPED = "/usr/bin/foghorn"
OPENED = "/usr/bin/siltmeter"
VANISHED = "/usr/share/tidetables"
REDIRECTED = "/usr/lib/libbrine.so.2"
STRAY = "/usr/bin/gullcheck"
EDITED = "/etc/tidegauge/gauge.conf"
LEFT_OUT = "/usr/share/doc/mudflatd/changelog"
FETCHED = BUILT + timedelta(days=40)
_NOT_HERE = ("oldgauge", "lockgate-firmware")


def build_plover(folder: Path, stage: Stage = LAST) -> Path:
    """Build the station in a folder, which is emptied first; its root comes back."""
    disk = Disk(folder)
    lay_ground(disk, "plover")
    installed = everything(stage)
    for one in installed:
        disk.ship((good for good in one.goods if good.path != LEFT_OUT), BUILT)
    arch.write_database(disk, installed)
    _settings(disk)
    _repositories(disk)
    _archives(disk, installed)
    write_arch_history(disk, installed)
    _daily_life(disk)
    if stage.intruded:
        intrude(disk, SWAPPED, OPENED, VANISHED, REDIRECTED, STRAY)
    return folder


def everything(stage: Stage = LAST) -> list[arch.InstalledGood]:
    """What is installed, in the order in which it was."""
    wares = [ware for ware in WARES if ware.name not in _NOT_HERE]
    return [
        kept(stage.ware(ware), number) for number, ware in enumerate(wares) if stage.has(ware.name)
    ]


def kept(ware: Ware, number: int = 0) -> arch.InstalledGood:
    """A ware as this family keeps it."""
    at = arrived(number)
    goods = arch.merged(goods_of(ware))
    if ware.name == "ropewalk":
        # Here nothing is diverted: what another package has this one does not.
        goods = tuple(good for good in goods if "plot-chart" not in good.path)
    return arch.InstalledGood(ware, goods, at, ware.chosen)


def _settings(disk: Disk) -> None:
    """What the keeper told the system: one package is held, and one paper is left out."""
    disk.file(
        places.SETTINGS,
        "# Settings of the station.\n[options]\nArchitecture = auto\nHoldPkg = coastbase dulse\n"
        "IgnorePkg = foghorn\nIgnoreGroup = experiments\nCheckSpace\n"
        f"NoExtract = {LEFT_OUT[1:]}\nInclude = /etc/pacman.d/station.d/*.conf\n"
        "SigLevel = Required DatabaseOptional\n\n"
        "[coast]\nServer = https://packages.tides.example/arch/$repo/$arch\n",
    )
    disk.file("/etc/pacman.d/station.d/quayside.conf", "IgnorePkg = quayside\n")


def offered() -> list[arch.InstalledGood]:
    """What the office offers: what is installed, in newer versions where there are some, and more."""
    newer = {ware.name: ware for ware in (*UPDATES, *FIXES)}
    wares = [
        newer.get(one.ware.name, one.ware) for one in everything() if one.ware.name not in KEPT_BACK
    ]
    return [kept(ware) for ware in (*wares, *NEW)]


def repository() -> dict[str, bytes]:
    """What is served: the indexes with their signatures, and every archive, by its path."""
    found = {one.file_name: arch.pooled(one) for one in offered()}
    for ending, paths in (("db", False), ("files", True)):
        content = arch.index(offered(), paths)
        found[f"coast.{ending}"] = content
        found[f"coast.{ending}.sig"] = detached(content, armoured=False)
    return found


def _repositories(disk: Disk) -> None:
    """The index of the office's repository, its signature, and the key ring that it is judged with."""
    disk.file(places.KEYS, public_key())
    disk.file(f"{places.KEYRINGS}/coast.gpg", public_key())
    for ending, paths in (("db", False), ("files", True)):
        content = arch.index(offered(), paths)
        disk.file(f"{places.SYNC}/coast.{ending}", content, at=FETCHED)
        disk.file(
            f"{places.SYNC}/coast.{ending}.sig", detached(content, armoured=False), at=FETCHED
        )


def _archives(disk: Disk, installed: list[arch.InstalledGood]) -> None:
    """What the station still keeps of what it fetched: one archive in five."""
    for one in installed[::5]:
        disk.file(f"{places.ARCHIVES}/{one.file_name}", arch.pooled(kept(one.ware)), at=one.at)


def _daily_life(disk: Disk) -> None:
    """What nobody did wrong: a setting that the keeper changed."""
    text = disk.real(EDITED).read_text()
    disk.file(EDITED, text + "# Read every ten minutes.\n", at=BUILT + timedelta(days=9))
