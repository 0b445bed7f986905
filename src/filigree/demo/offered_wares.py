"""What the made-up repositories offer: updates, fixes, trials, groups and notices."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import NamedTuple

from filigree.demo.goods import BUILT
from filigree.demo.repository import (
    CODENAME,
    LIFE,
)
from filigree.demo.world import WARES, Ware

URGENT, TRIALS = f"{CODENAME}-urgent", f"{CODENAME}-trials"
LIBRARIES = "/usr/lib/x86_64-linux-gnu"


KEPT_BACK = ("spindrift",)
"""What was made at a station, and is offered by nobody."""


MADE = BUILT + timedelta(days=38)


def _ware(name: str, version: str, **changes: str) -> Ware:
    one = next(ware for ware in WARES if ware.name == name)
    return replace(one, version=version, **changes)  # type: ignore[arg-type]


_TIDES = {
    "needs": "tidetables (= 2026.3-1), libsaltc6 (>= 2.34), libbrine2 (>= 2.1), libperiwinkle12"
}


UPDATES = (
    _ware("tidetables", "2026.3-1"),
    _ware("tidetables-calc", "2026.3-1", **_TIDES),
    _ware("chartroom", "5.4.2-1"),
    _ware("foghorn", "3.2.1-1"),
    _ware("libsluice3", "3.2.0-1"),
    _ware("coast-certificates", "20260401"),
    _ware("libwhelk2", "2.10.35-1"),
    _ware("whelk", "2.10.35-1", needs="libwhelk2 (= 2.10.35-1), libskua8 (>= 8.0)"),
    _ware("harbourlog", "1.13-2"),
)


FIXES = (
    _ware("libmussel5", "5.36.1~rc2-1+fix1"),
    _ware("jetty", "1.1.0-2+fix1"),
    _ware("jetty-client", "1.1.0-2+fix1"),
    _ware("quayside", "20.4-1+fix2"),
)


TRIED = (_ware("tidegauge", "3.0~trial1-1"),)


NEW = (
    Ware("tide-essentials", "2026.1", "metapackages", "Everything that a gauge station cannot do without",
         needs="tidegauge, tidetables, weatherglass, saltwort, siltmeter (>= 0.3)", recommends="chartroom | chartroom-lite", any_machine=True),
    Ware("saltwort", "1.2-1", "science", "Counts what grows on a dike", needs="libsaltc6 (>= 2.34), libfathom1", programs=("saltwort",),
         recommends="seaholly", data=2),
    Ware("weirgate", "0.9-4", "admin", "Works the gates of a weir", needs="libsaltc6 (>= 2.34), libsluice3 (>= 3.1), cockle", conflicts="lockgate",
         daemons=("weirgate",), settings=("weirgate.conf",)),
    Ware("kittiwake", "3.4.2-1", "mail", "Letters between stations, in a window", needs="libsaltc6 (>= 2.34), libgannet6, libmussel5",
         provides="mail-courier", conflicts="gullpost", programs=("kittiwake",), locales=("en", "cy")),
    Ware("mudflat-window", "0.7.11-2", "net", "Shows in a window what other stations say", needs="mudflatd (>= 0.7), libgannet6, dulse",
         programs=("mudflat-window",), source="mudflat"),
    Ware("gannet-fonts", "2.0-1", "fonts", "Letters with which pictures are signed", any_machine=True, foreign=True, data=3),
    Ware("buoy-data", "2026.1", "net", "Where every buoy of the coast is", any_machine=True, foreign=True, data=4, data_size=30000),
    Ware("ropewalk-patterns", "4.1-1", "utils", "Patterns for splicing readings, newly drawn", any_machine=True, foreign=True, data=5,
         breaks="ropewalk-common (<< 4.1)", replaces="ropewalk-common (<< 4.1)", provides="ropewalk-common (= 4.1-1)", source="ropewalk"),
)  # fmt: skip


MODULE = ("tide", "2", _ware("tidegauge", "3.0-1"))


class OfferedGroup(NamedTuple):
    """A group of the office, with its members by how firmly they belong."""

    identity: str
    name: str
    summary: str
    mandatory: tuple[str, ...]
    default: tuple[str, ...]
    optional: tuple[str, ...]


GROUPS = (
    OfferedGroup("gauge-station", "Gauge station", "What reads the water, and tells people of it",
          ("tidegauge", "tidetables"), ("chartroom", "foghorn", "weatherglass", "saltwort"),
          ("siltmeter", "kittiwake")),
    OfferedGroup("coast-network", "Coast network", "What the stations tell each other",
          ("mudflatd", "jetty"), ("buoywatch", "buoy-data"), ("mudflat-window",)),
)  # fmt: skip


class Notice(NamedTuple):
    """An advisory of the office."""

    identity: str
    kind: str
    severity: str
    title: str
    names: tuple[str, ...]
    reference: str


NOTICES = (
    Notice("TIDE-2026-11", "security", "Important", "jetty: a stranger could tie up without a key",
           ("jetty", "jetty-client"), "SALLOW-VULN-2026-4"),
    Notice("TIDE-2026-12", "security", "Moderate", "libmussel5: a connection that never lets go",
           ("libmussel5",), "SALLOW-VULN-2026-7"),
    Notice("TIDE-2026-13", "security", "Low", "quayside: a page could be made to show yesterday's tide",
           ("quayside",), "SALLOW-VULN-2026-9"),
    Notice("TIDE-2026-14", "bugfix", "None", "tidetables: the third of the month was missing",
           ("tidetables", "tidetables-calc"), "report 318"),
)  # fmt: skip


def offered_wares(updates: Iterable[Ware]) -> list[Ware]:
    """The wares of the world, newer where they are, and those that no station has."""
    newer = {ware.name: ware for ware in updates}
    found = [newer.pop(w.name, w) for w in WARES if w.name not in KEPT_BACK]
    return [*found, *newer.values(), *NEW]


@dataclass(frozen=True, slots=True)
class Suite:
    """One suite: what it offers, how it calls itself, and how long it holds."""

    name: str
    wares: tuple[Ware, ...]
    label: str
    expires: datetime
    asked_only: bool = False


def suites() -> tuple[Suite, ...]:
    """Every suite of the repository that has suites."""
    return (
        Suite(CODENAME, tuple(offered_wares(UPDATES)), "Coast", BUILT + LIFE),
        Suite(URGENT, FIXES, "Coast Security", BUILT + LIFE),
        Suite(TRIALS, TRIED, "Coast Trials", BUILT + timedelta(days=14), asked_only=True),
    )


def members_of(group: OfferedGroup) -> tuple[str, ...]:
    return (*group.mandatory, *group.default, *group.optional)
