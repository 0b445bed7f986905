"""Where the nodes of a graph go: in columns by how far away they are, ordered so that few ties cross."""

from collections.abc import Sequence
from typing import NamedTuple

from filigree.questions.commands.draw import NodeRow, Side

SWEEPS = 6
TALLEST = 14
"""So many nodes stand above each other, before a column is divided in two."""


class Position(NamedTuple):
    """Where a node is: its column, and how far down, both from 0 to 1."""

    x: float
    y: float


def places_of(rows: Sequence[NodeRow]) -> dict[str, Position]:
    """A place for each node: who needs the subjects is to their left, what they need to their right."""
    columns = _columns(rows)
    around: dict[str, list[str]] = {row.node: [] for row in rows}
    for row in rows:
        for tie in row.ties:
            around[row.node].append(tie.to)
            around[tie.to].append(row.node)
    order = {node: at / max(1, len(column)) for column in columns for at, node in enumerate(column)}
    for sweep in range(SWEEPS):
        for column in columns if sweep % 2 == 0 else reversed(columns):
            column.sort(key=lambda node: (_middle(node, around, order), node))
            for at, node in enumerate(column):
                order[node] = (at + 0.5) / len(column)
    wide = len(columns)
    found = {}
    for number, column in enumerate(columns):
        x = (number + 0.5) / wide
        for at, node in enumerate(column):
            # Neighbours in a tall column step aside a little, so that their labels have room.
            aside = (0.16 / wide) * (at % 2) if len(column) > TALLEST // 2 else 0.0
            found[node] = Position(x + aside, (at + 0.5) / len(column))
    return found


def _middle(node: str, around: dict[str, list[str]], order: dict[str, float]) -> float:
    others = around[node]
    return sum(order[other] for other in others) / len(others) if others else order[node]


def _columns(rows: Sequence[NodeRow]) -> list[list[str]]:
    levels: dict[int, list[str]] = {}
    for row in rows:
        away = -row.depth if row.side is Side.NEEDED_BY else row.depth
        levels.setdefault(away, []).append(row.node)
    found = []
    for away in sorted(levels):
        level = levels[away]
        parts = -(-len(level) // TALLEST)
        size = -(-len(level) // parts)
        found += [level[at : at + size] for at in range(0, len(level), size)]
    return found
