"""The goods of the station of one family, as that family ships them."""

from filigree.demo import rpm
from filigree.demo.goods import BUILT, Good, arrived, goods_of
from filigree.demo.rpm import Shipped
from filigree.demo.stages import LAST, Stage
from filigree.demo.world import STATION_WARES, WARES, Ware

LIBRARIES = "/usr/lib64"


OTHER_LIBRARIES = "/usr/lib"


GIVEN_AWAY = "/usr/share/tidegauge"


WAIVED = "/etc/buoywatch.conf"


LOG = "/var/log/tidegauge.log"


LOCK = "/run/saltpan.lock"


_LEFT_OUT = ("oldgauge", "marram", "sandglass")


_ANCIENT = ("seaholly",)


_NEEDS: dict[str, tuple[rpm.Relation, ...]] = {
    "quayside": (("(libsprat.so.0()(64bit) if chartroom-lite else libpuffin.so.16()(64bit))", 0, ""),),
    "chartroom": (
        ("(chart-viewer with chartroom >= 5)", 0, ""),
        ("(estuary-fonts unless gannet-fonts)", 0, ""),
        ("(gannet-fonts if gannet)", 0, ""),
    ),
    "harbourlog": (("(whelk >= 2 and (dulse or station-shell))", 0, ""),),
}  # fmt: skip


_SUPPLEMENTS = {"foghorn": "(tidegauge and mudflatd)", "mudflat-doc": "mudflatd"}


_CLAIMED = {"tidegauge": (LOG,), "saltpan": (LOCK,)}


def everything(stage: Stage = LAST) -> list[Shipped]:
    """What is installed, in the order in which it was."""
    wares = [ware for ware in (*STATION_WARES, *WARES) if ware.name not in _LEFT_OUT]
    found = [
        shipped(stage.ware(ware), number)
        for number, ware in enumerate(wares)
        if stage.has(ware.name)
    ]
    found += (_for_smaller_machine(name) for name in ("libkelp1", "libsaltc6"))
    return found


def shipped(ware: Ware, number: int = 0) -> Shipped:
    """A ware as this family ships it."""
    goods = goods_of(ware, LIBRARIES)
    if ware.name == "bedrock":
        goods = _by_version(ware, goods)
    name = ware.name
    return Shipped(
        ware=ware,
        goods=goods,
        architecture="noarch" if ware.any_machine else "x86_64",
        at=arrived(number),
        needs=_NEEDS.get(name, ()),
        supplements=_SUPPLEMENTS.get(name, ""),
        claimed=_CLAIMED.get(name, ()),
        owners=((_given_away(goods), "tide"),) if name == "tidegauge" else (),
        ignored=(WAIVED,) if name == "buoywatch" else (),
        replaced=tuple(g.path for g in goods if "plot-chart" in g.path)
        if name == "chartroom"
        else (),
        may_be_missing=("/etc/mudflatd/peers",) if name == "mudflatd" else (),
        sonames=tuple((other.name, other.library) for other in WARES if other.library),
        ancient=name in _ANCIENT,
    )


def _by_version(ware: Ware, goods: tuple[Good, ...]) -> tuple[Good, ...]:
    """Every version has a folder of its own, so that two of them can stand side by side."""
    old, new = f"/usr/share/{ware.name}", f"/usr/share/{ware.name}-{ware.version}"
    papers, folder = f"/usr/share/doc/{ware.name}", f"/usr/share/doc/{ware.name}-{ware.version}"
    return tuple(
        Good(good.path.replace(papers, folder).replace(old, new), good.mode, good.content)
        for good in goods
    )


def _given_away(goods: tuple[Good, ...]) -> str:
    """A table of the gauge, which belongs to the people who read it."""
    return next(g.path for g in goods if g.path.startswith(f"{GIVEN_AWAY}/") and g.content)


def _for_smaller_machine(name: str) -> Shipped:
    """The same library once more, for programs of the smaller kind of machine."""
    ware = next(ware for ware in WARES if ware.name == name)
    return Shipped(ware, goods_of(ware, OTHER_LIBRARIES), "i686", BUILT)
