"""The one walk that is breadth-first: over packages, or their numbers, or anything that leads on."""

from collections.abc import Callable, Iterable, Iterator, MutableSet
from typing import TypeVar

N = TypeVar("N")
W = TypeVar("W")


def breadth_first(
    starts: Iterable[N],
    onward: Callable[[N], Iterable[tuple[W, N | None]]],
    depth: int | None = None,
    seen: MutableSet[N] | None = None,
) -> Iterator[tuple[W, N | None, int]]:
    """Every node within `depth` ways of the starts (None: any number), each once, what is nearest first.

    What comes out is the way that led to a node, the node, and how many ways away it is; a way that leads
    nowhere comes out with None. `onward` gives the ways from a node, each with where it leads. What is in
    `seen` is never reached; the starts, and what is reached, are added to it.
    """
    front = list(starts)
    seen = set() if seen is None else seen
    for node in front:
        seen.add(node)
    away = 0
    while front and (depth is None or away < depth):
        away += 1
        ahead: list[N] = []
        for node in front:
            for way, end in onward(node):
                if end is None:
                    yield way, None, away
                elif end not in seen:
                    seen.add(end)
                    ahead.append(end)
                    yield way, end, away
        front = ahead
