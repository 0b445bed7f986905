"""The station heron: a `deb` system, and what an intruder did to it."""

import hashlib
import os
from datetime import timedelta
from pathlib import Path

from filigree.demo import deb
from filigree.demo.disk import Disk
from filigree.demo.goods import BUILT, arrived, goods_of, machine_code
from filigree.demo.ground import lay_ground
from filigree.demo.histories import write_deb_history
from filigree.demo.offered_wares import KEPT_BACK, URGENT, Suite, suites
from filigree.demo.offering import deb_indexes, pooled
from filigree.demo.repository import STRANGER, clear_signed, public_key
from filigree.demo.rpm_bytes import PACKERS
from filigree.demo.stages import LAST, Stage
from filigree.demo.world import WARES, Ware
from filigree.families.deb import places

LIBRARIES = "/usr/lib/x86_64-linux-gnu"
OTHER_LIBRARIES = "/usr/lib/aarch64-linux-gnu"

SWAPPED = "/usr/bin/tidegauge"
DOCTORED = "/usr/bin/siltmeter"
ADDED_KEY = f"{places.TRUSTED_PARTS}/quayside.asc"
VANISHED = "/usr/share/tidetables"
REDIRECTED = "/usr/bin/foghorn-test"
OPENED = "/usr/sbin/lockgate"
STRAY = "/usr/sbin/gullcheck"
EDITED = "/etc/tidegauge/gauge.conf"
KEEPER = "chartroom"
DIVERTED = {
    "/usr/bin/plot-chart": "/usr/bin/plot-chart.ropewalk",
    "/usr/share/man/man1/plot-chart.1": "/usr/share/man/man1/plot-chart.ropewalk.1",
}
KEYRING = "/usr/share/keyrings/coast.asc"
OUTSIDERS = KEPT_BACK
VIEWER = "/usr/bin/chart-viewer"
FETCHED = BUILT + timedelta(days=40)


def build_heron(folder: Path, stage: Stage = LAST) -> Path:
    """Build the station in a folder, which is emptied first; its root comes back."""
    disk = Disk(folder)
    lay_ground(disk, "heron")
    installed = [
        _installed(number, stage.ware(ware))
        for number, ware in enumerate((*WARES, *stage.besides))
        if stage.has(ware.name)
    ]
    installed += (_for_other_machine(name) for name in ("libkelp1", "libsaltc6"))
    for one in installed:
        _put_down(disk, one)
    deb.write_database(disk, sorted(installed, key=lambda one: (one.ware.name, one.architecture)))
    _policy(disk)
    _repositories(disk)
    _archives(disk, installed)
    write_deb_history(disk, installed)
    _daily_life(disk)
    if stage.intruded:
        _intruder(disk)
    return folder


def _installed(number: int, ware: Ware) -> deb.Installed:
    return deb.Installed(
        ware,
        goods_of(ware, LIBRARIES),
        _STATUS.get(ware.name, "install ok installed"),
        "all" if ware.any_machine else "amd64",
        arrived(number),
        ware.chosen,
    )


_STATUS = {
    "foghorn": "hold ok installed",
    "lockgate-firmware": "install reinstreq half-installed",
    "oldgauge": "deinstall ok config-files",
    "gullpost": "install ok half-configured",
}


def _for_other_machine(name: str) -> deb.Installed:
    """The same library once more, for the architecture of the office's own machines."""
    ware = _ware(name)
    goods = goods_of(ware, OTHER_LIBRARIES)
    return deb.Installed(ware, goods, "install ok installed", "arm64", BUILT, False)


def _put_down(disk: Disk, one: deb.Installed) -> None:
    if one.ware.name != KEEPER:
        one = deb.moved(one, DIVERTED)
    goods = one.goods
    if "config-files" in one.status:
        goods = tuple(good for good in goods if good.config)
    if "half-installed" in one.status:
        goods = goods[: len(goods) // 2]
    disk.ship((good for good in goods if not _left_out(good.path)), BUILT)


def _left_out(path: str) -> bool:
    """What the station's declared rules leave out: papers, but for the licenses."""
    return path.startswith("/usr/share/doc/") and path.endswith("/changelog")


def _policy(disk: Disk) -> None:
    diversions = "".join(f"{original}\n{to}\n{KEEPER}\n" for original, to in DIVERTED.items())
    disk.file(places.DIVERSIONS, diversions)
    disk.file(places.OVERRIDES, f"root root 4750 {OPENED}\nroot root 0640 /etc/jetty/keys\n")
    disk.real(OPENED).chmod(0o4750)
    disk.real("/etc/jetty/keys").chmod(0o640)
    disk.file(
        f"{places.CONFIGURATION_PARTS}/small-station",
        "# A station has little room.\n"
        "path-exclude=/usr/share/doc/*\n"
        "path-include=/usr/share/doc/*/copyright\n",
    )
    disk.file(
        f"{places.LINK_GROUPS}/chart-viewer",
        f"auto\n{VIEWER}\n\n/usr/bin/chartroom\n50\n/usr/bin/chartlite\n10\n\n",
    )
    disk.link(VIEWER, f"{places.CHOSEN_LINKS}/chart-viewer")
    disk.link(f"{places.CHOSEN_LINKS}/chart-viewer", "/usr/bin/chartroom")


def _repositories(disk: Disk) -> None:
    """What the station may fetch from: suites in good order, one long expired, one never fetched."""
    disk.file(KEYRING, public_key())
    disk.file(
        f"{places.SOURCES_PARTS}/coast.sources",
        "# The office's own.\nTypes: deb\nURIs: https://packages.tides.example/coast\n"
        f"Suites: {' '.join(suite.name for suite in suites())}\nComponents: main\nArchitectures: amd64\n"
        f"Signed-By: {KEYRING}\n\n"
        "Types: deb\nURIs: https://neighbours.example/shared\nSuites: flotsam\nComponents: main\n"
        "Architectures: amd64\nSigned-By: /usr/share/keyrings/neighbours.gpg\n",
    )
    for suite in suites():
        _copies(disk, suite)
    disk.file(f"{places.LISTS}/partial/.asked", b"")
    disk.touch(f"{places.LISTS}/partial", FETCHED)
    disk.file(
        f"{places.PREFERENCES_PARTS}/quayside",
        "Explanation: The page looks right as it is.\nPackage: src:quayside\n"
        f"Pin: release a={URGENT}\nPin-Priority: -1\n",
    )


def _copies(disk: Disk, suite: Suite) -> None:
    """The copies of a suite's indexes, one of them packed in another way than it came."""
    indexes, release = deb_indexes(suite.name)
    stem = f"{places.LISTS}/packages.tides.example_coast_dists_{suite.name}"
    disk.file(f"{stem}_InRelease", clear_signed(release), at=FETCHED)
    for path, content in indexes.items():
        name = f"{stem}_{path.replace('/', '_')}"
        if "Contents" in path:
            disk.file(f"{name}.lz4", PACKERS["lz4"](content), at=FETCHED)
        else:
            disk.file(name, content, at=FETCHED)


def _archives(disk: Disk, installed: list[deb.Installed]) -> None:
    """What the station fetched and still keeps: of its archives two in three."""
    offered = {(ware.name, ware.version) for suite in suites() for ware in suite.wares}
    kept = [one for one in installed if (one.ware.name, one.ware.version) in offered]
    for number, one in enumerate(kept):
        if one.architecture == "arm64" or (number % 3 == 2 and DOCTORED not in _paths(one)):
            continue
        _, content = pooled(one.ware)
        version = deb.version_of(one.ware).replace(":", "%3a")
        name = f"{one.ware.name}_{version}_{one.architecture}.deb"
        disk.file(f"{places.ARCHIVES}/{name}", content, at=one.at)


def _paths(one: deb.Installed) -> frozenset[str]:
    return frozenset(good.path for good in one.goods)


def _daily_life(disk: Disk) -> None:
    """What nobody did wrong: a setting that the keeper changed, a log, a cache."""
    text = disk.real(EDITED).read_text()
    edited = text + "# Read every six minutes since the new pier.\ninterval = 6\n"
    disk.file(EDITED, edited, at=BUILT + timedelta(days=30))
    disk.file("/var/log/tidegauge.log", "2026-02-27 06:12 +1.204\n2026-02-27 06:18 +1.197\n")


def _intruder(disk: Disk) -> None:
    """What somebody did: at night, with root's rights, and with an eye on size and time."""
    size = disk.real(SWAPPED).stat().st_size
    disk.file(SWAPPED, machine_code("not the tide gauge", size), 0o755, BUILT)
    _doctor(disk)
    disk.file(ADDED_KEY, public_key(STRANGER), at=BUILT)
    disk.remove(sorted(g.path for g in goods_of(_ware("tidetables")) if VANISHED in g.path)[5])
    disk.remove(REDIRECTED)
    disk.link(REDIRECTED, "/var/tmp/.fog/horn", BUILT)
    disk.file("/var/tmp/.fog/horn", "#!/bin/dsh\n# Says that all is well.\nexit 0\n", 0o755)
    disk.real(OPENED).chmod(0o4755)
    disk.file(STRAY, machine_code("of nobody's", 31_337), 0o755, BUILT)


def _doctor(disk: Disk) -> None:
    """A program in the place of another, and its digest in the local record, so that nothing shows."""
    real = disk.real(DOCTORED)
    old = hashlib.md5(real.read_bytes(), usedforsecurity=False).hexdigest()
    content = machine_code("not the silt meter", real.stat().st_size)
    disk.file(DOCTORED, content, 0o755, BUILT)
    record = f"{places.INFO}/{DOCTORED.rpartition('/')[2]}.md5sums"
    new = hashlib.md5(content, usedforsecurity=False).hexdigest()
    at = disk.real(record).stat().st_mtime
    disk.file(record, disk.real(record).read_text().replace(old, new))
    os.utime(disk.real(record), (at, at))


def _ware(name: str) -> Ware:
    return next(ware for ware in WARES if ware.name == name)
