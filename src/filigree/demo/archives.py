"""Archives that were found in a keeper's folder: of both formats, some of them not what they seem."""

from dataclasses import replace
from pathlib import Path

from filigree.demo import deb, rpm
from filigree.demo.curlew import by_a_stranger
from filigree.demo.goods import Good, goods_of
from filigree.demo.heron import LIBRARIES as DEB_LIBRARIES
from filigree.demo.rpm_wares import shipped
from filigree.demo.world import WARES, Ware

FOLDER = "archives"
NEWER = "tidegauge_2.2-1_amd64.deb"
UNMET = "lanternfish-0.3-1.x86_64.rpm"
MISNAMED = "weatherglass-6.2-1.x86_64.rpm"
TRICKY = "free-charts_1.0-1_all.deb"
CUT_OFF = "foghorn-3.2.1-1.x86_64.rpm"
STRANGE = "harbourlog-1.14-1.x86_64.rpm"
BROKEN = "ropewalk-4.0-7.x86_64.rpm"
UNSIGNED = "jetty-1.1.0-2.x86_64.rpm"

_LANTERNFISH = Ware(
    "lanternfish", "0.3-1", "graphics", "Shines a light on the deep",
    needs="libsaltc6 (>= 2.34), libglow1 (>= 2), libbrine2 (>= 3), dulse | station-shell",
    recommends="chartroom", conflicts="foghorn (<< 4)", programs=("lanternfish",),
    settings=("lanternfish.conf",), data=2, scripts=("postinst",),
)  # fmt: skip
_FREE_CHARTS = Ware(
    "free-charts",
    "1.0-1",
    "graphics",
    "All the charts you want, for nothing",
    any_machine=True,
    data=1,
)
_TRICKS = (
    Good("./usr/share/charts", target="/etc"),
    Good("./usr/share/charts/station.conf", 0o644, b"# Nothing to see here.\n"),
    Good("./../../etc/motd", 0o644, b"Welcome.\n"),
)


def write_archives(folder: Path) -> dict[str, Path]:
    """Write them all; their paths by name come back."""
    folder.mkdir(parents=True, exist_ok=True)
    found = {}
    for name, content in {**_debs(), **_rpms()}.items():
        found[name] = folder / name
        found[name].write_bytes(content)
    return found


def _debs() -> dict[str, bytes]:
    newer = _of_deb(_ware("tidegauge", "2.2-1"))
    return {
        NEWER: deb.archive(newer, "xz"),
        "brine-data_2.1.4-3_all.deb": deb.archive(_of_deb(_ware("brine-data")), "gzip"),
        "lanternfish_0.3-1_amd64.deb": deb.archive(_of_deb(_LANTERNFISH), "zstd"),
        TRICKY: deb.archive(_of_deb(_FREE_CHARTS), "xz", _TRICKS),
    }


def _rpms() -> dict[str, bytes]:
    foghorn = rpm.archive(shipped(_ware("foghorn", "3.2.1-1")), "xz")
    siltmeter = shipped(_ware("siltmeter", "0.4.0-1"))
    broken = bytearray(rpm.archive(shipped(_ware("ropewalk"))))
    broken[-60] ^= 1
    return {
        "tidegauge-2.2-1.x86_64.rpm": rpm.archive(
            shipped(_ware("tidegauge", "2.2-1")), "zstd", whole=rpm.signed
        ),
        siltmeter.file_name: rpm.archive(siltmeter, "xz"),
        STRANGE: rpm.archive(shipped(_ware("harbourlog")), sign=by_a_stranger),
        BROKEN: bytes(broken),
        UNSIGNED: rpm.archive(shipped(_ware("jetty")), sign=None),
        UNMET: rpm.archive(shipped(_LANTERNFISH), "gzip"),
        MISNAMED: rpm.archive(shipped(_ware("weatherglass")), "bzip2"),
        CUT_OFF: foghorn[: len(foghorn) * 3 // 4],
    }


def _of_deb(ware: Ware) -> deb.Installed:
    machine = "all" if ware.any_machine else "amd64"
    return deb.Installed(ware, goods_of(ware, DEB_LIBRARIES), architecture=machine)


def _ware(name: str, version: str | None = None) -> Ware:
    ware = next(ware for ware in WARES if ware.name == name)
    return ware if version is None else replace(ware, version=version)
