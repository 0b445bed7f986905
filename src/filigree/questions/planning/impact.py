"""How many packages stand on each: what would be affected if it were not there."""

from collections.abc import Iterable
from typing import TYPE_CHECKING

from filigree.model.package import Package
from filigree.questions.dependencies.graph import Graph
from filigree.questions.dependencies.ties import HARD
from filigree.questions.planning.reachability import parts
from filigree.system import System

if TYPE_CHECKING:
    from filigree.questions.offers.catalogue import Catalogue


def installed_impact(system: System) -> list[tuple[Package, int]]:
    """Every installed package, with how many others stand on it by what they require."""
    graph = Graph(system)
    present = [package for package in system.packages if package.state.present]
    number = {package: at for at, package in enumerate(present)}
    links = (
        (number[package], number[tie.holder])
        for package in present
        for tie in graph.forward(package)
        if tie.holder is not None and tie.holder is not package and tie.need.kind in HARD
    )
    return list(zip(present, standing_on(len(present), links), strict=True))


Identity = tuple[str, str, str]
"""Name, architecture and version."""


def offered_impact(offered: "Catalogue") -> dict[Identity, int]:
    """How many of what is offered stand on each by what they require, by its identity."""
    from filigree.questions.dependencies.kept_offer_graph import graph_of_offers

    graph = graph_of_offers(offered)
    counts = standing_on(len(graph), (link for link in graph.links(HARD) if link[0] != link[1]))
    found: dict[Identity, int] = {}
    for number, count in enumerate(counts):
        version, architecture = graph.identity(number)
        key = (graph.names[number], architecture, version)
        found[key] = max(count, found.get(key, 0))
    return found


ROOM = 4_500_000_000
"""So many bits the sets of one pass may have together, at worst: some half a GiB."""


def standing_on(count: int, links: Iterable[tuple[int, int]], room: int = ROOM) -> list[int]:
    """For each of the numbers below `count`, how many others lead to it, over any number of links.

    Numbers that lead to each other are one part, and are counted once for all that it leads to. What
    leads to a part is a set of bits, let go of once every part that it leads to has taken it over; where
    all of them would take too much room, some of what leads is counted at a time.
    """
    pairs = list(dict.fromkeys(links))
    found = parts(count, pairs)
    part_of = [0] * count
    for at, part in enumerate(found):
        for number in part:
            part_of[number] = at
    ahead: list[set[int]] = [set() for _ in found]
    for one, other in pairs:
        if part_of[one] != part_of[other]:
            ahead[part_of[one]].add(part_of[other])
    impacts = [len(part) - 1 for part in found]
    window = max(64, room // max(1, count))
    last = len(found) - 1
    while last >= 0:
        last = _pass(found, ahead, impacts, last, window)
    return [impacts[part_of[number]] for number in range(count)]


def _pass(
    found: list[list[int]], ahead: list[set[int]], impacts: list[int], last: int, window: int
) -> int:
    """Count what leads to each part, of so many numbers from part `last` down; the next one is returned.

    Each part comes after those that it leads to: backwards, those that lead to it come first.
    """
    below: dict[int, int] = {}
    bits = 0
    next_part = -1
    for at in range(last, -1, -1):
        mine = below.pop(at, 0)
        impacts[at] += mine.bit_count()
        if ahead[at] and bits < window:
            mine |= ((1 << len(found[at])) - 1) << bits
            bits += len(found[at])
        elif ahead[at] and next_part < 0:
            next_part = at
        if mine:
            for other in ahead[at]:
                below[other] = below.get(other, 0) | mine
    return next_part
