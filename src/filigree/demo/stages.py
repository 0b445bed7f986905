"""The stages in which a station came to be what it is: an image has a layer of each."""

from dataclasses import replace
from typing import NamedTuple

from filigree.demo.world import Ware


class Stage(NamedTuple):
    """What is there at a stage: without `later` packages, some in an `earlier` version, before or after
    somebody came by night, with what was fetched still `cached`, and with some `besides`."""

    later: frozenset[str] = frozenset()
    earlier: tuple[tuple[str, str], ...] = ()
    intruded: bool = True
    cached: bool = True
    besides: tuple[Ware, ...] = ()

    def has(self, name: str) -> bool:
        """Whether a package is there already."""
        return name not in self.later

    def ware(self, ware: Ware) -> Ware:
        """A package in the version that is there."""
        version = dict(self.earlier).get(ware.name)
        return ware if version is None else replace(ware, version=version)


LAST = Stage()
"""As the station is found."""
SETTLED = Stage(intruded=False)
FIRST = Stage(frozenset({"quayside", "siltmeter"}), (("mudflatd", "0.7.10-1"),), False)
STAGES = (FIRST, SETTLED, LAST)
_NOT_IN_SMALL = frozenset({
    "jetty", "jetty-client", "buoywatch", "buoy-data-small", "station-report", "estuary-fonts",
    "seaholly", "harbourlog", "spindrift", "quayside", "quayside-common", "lockgate", "chartroom-lite",
    "gullpost", "gullpost-config", "sandglass", "ropewalk", "ropewalk-common",
})  # fmt: skip
SMALL_STAGES = (
    Stage(_NOT_IN_SMALL, intruded=False, cached=False),
    Stage(_NOT_IN_SMALL, cached=False),
)
"""Of the smallest image: of fewer packages, without what was fetched, in two layers."""
