"""Makes the graph of offers of what each index brings: who asks the same is told, and who meets it."""

from array import array
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import groupby
from operator import attrgetter, itemgetter

from filigree.questions.dependencies.graph_edges import (
    EdgesBetween,
    Looks,
    edges_between,
    spoken_of,
)
from filigree.questions.dependencies.graph_parts import (
    GraphRules,
    OfferNode,
    OfferPart,
    packed,
    part_of,
)
from filigree.questions.dependencies.offer_graph import ARRAYS, TEXTS

Owners = Callable[[str], Iterable[tuple[int, int]]]
"""Tells the index and the number of what is offered with a path."""
Between = Callable[[int, int], EdgesBetween]
"""Tells the edges from the asks of one part to the packages of another, by their places."""


def built(
    told: Iterable[OfferNode], rules: GraphRules, owners: Owners
) -> Iterator[tuple[str, bytes]]:
    """The graph as named bytes, of offers in the order of their indexes.

    Of whom something is asked counts by its architecture alone: that is all that rules go by. Raises
    ValueError where an index is made so that it would never end.
    """
    tables = groupby(told, attrgetter("table"))
    parts = [(table, part_of(nodes, rules)) for table, nodes in tables]
    looks = Looks()

    def between(one: int, other: int) -> EdgesBetween:
        asking, holding = parts[one][1], parts[other][1]
        return edges_between(asking, holding, spoken_of(asking, holding), rules, looks)

    yield from joined(parts, between, owners)


def joined(
    parts: Sequence[tuple[int, OfferPart]], between: Between, owners: Owners
) -> Iterator[tuple[str, bytes]]:
    """The graph of parts, each with the number of its index, as named bytes: the same for an index of
    several parts as for one of one."""
    joiner = _Joiner(parts, owners)
    joiner.join(between)
    yield from packed(joiner.columns, joiner.words)


class _Joiner:
    """The graph in the making."""

    def __init__(self, parts: Sequence[tuple[int, OfferPart]], owners: Owners) -> None:
        self.columns = {name: array(form) for name, form in ARRAYS.items()}
        self.words: dict[str, list[str]] = {name: [] for name in TEXTS}
        self._parts = [part for _, part in parts]
        self._owners = owners
        self._offsets: list[int] = []
        self._asks: dict[tuple[int, str, str], int] = {}
        self._texts: dict[str, int] = {}
        self._places: dict[tuple[int, int], int] = {}
        self._new: list[list[int]] = []
        """Of each part, those of its asks that no earlier one has: their edges are taken."""
        for table, part in parts:
            self._take(table, part)

    def _take(self, table: int, part: OfferPart) -> None:
        """Its packages, and what they ask for."""
        columns, words, theirs = self.columns, self.words, part.columns
        self._offsets.append(len(columns["table"]))
        count, needs = len(theirs["offer"]), len(columns["need_kind"])
        columns["table"].extend([table] * count)
        for name in ("offer", "installed_size", "archive_size", "need_kind"):
            columns[name].extend(theirs[name])
        for name in ("name", "version", "architecture", "source"):
            words[name].extend(part.words[name])
        columns["need_start"].extend(start + needs for start in theirs["need_start"][:count])
        numbers, new = array("I"), []
        architectures, texts = part.words["architecture"], part.words["text"]
        for ask, away in enumerate(theirs["ask_away"]):
            text = texts[theirs["ask_text"][ask]]
            key = (away, text, architectures[theirs["ask_asker"][ask]])
            number = self._asks.setdefault(key, len(self._asks))
            if number == len(columns["ask_text"]):
                columns["ask_text"].append(self._texts.setdefault(text, len(self._texts)))
                new.append(ask)
            numbers.append(number)
        columns["need_ask"].extend(map(numbers.__getitem__, theirs["need_ask"]))
        self._new.append(new)

    def join(self, between: Between) -> None:
        """Tie asks to who meets them, once everything is there."""
        columns = self.columns
        columns["need_start"].append(len(columns["need_kind"]))
        self._asks.clear()
        named: dict[str, array[int]] = {}
        for place, part in enumerate(self._parts):
            self._tie(part, self._met(place, between), self._new[place], named)
        columns["edge_start"].append(len(columns["edge_holder"]))
        for asks in named.values():
            columns["named_start"].append(len(columns["named_ask"]))
            columns["named_ask"].extend(asks)
        columns["named_start"].append(len(columns["named_ask"]))
        self.words["asked_name"] = list(named)
        self.words["text"] = list(self._texts)
        self._turn()
        self._find_again()

    def _met(self, place: int, between: Between) -> "list[tuple[int, int]]":
        """The terms of a part, each with who meets it anywhere, in the order of both."""
        found: list[tuple[int, int]] = []
        for other, offset in enumerate(self._offsets):
            edges = between(place, other)
            found.extend(zip(edges.term, (offset + one for one in edges.holder), strict=True))
        found.sort(key=itemgetter(0))
        return found

    def _tie(
        self, part: OfferPart, met: "list[tuple[int, int]]", asks: Sequence[int],
        named: "dict[str, array[int]]",
    ) -> None:  # fmt: skip
        columns, theirs = self.columns, part.columns
        starts, names, edge = theirs["term_start"], part.words["term"], 0
        for ask in asks:
            number = len(columns["edge_start"])
            columns["edge_start"].append(len(columns["edge_holder"]))
            holders: dict[int, None] = {}
            for at in range(starts[ask], starts[ask + 1]):
                name = names[theirs["term_name"][at]]
                numbers = named.setdefault(name, array("I"))
                if not numbers or numbers[-1] != number:
                    numbers.append(number)
                while edge < len(met) and met[edge][0] < at:
                    edge += 1
                while edge < len(met) and met[edge][0] == at:
                    holders[met[edge][1]] = None
                    edge += 1
                if name.startswith("/") and not theirs["ask_away"][ask]:
                    holders |= dict.fromkeys(self._with_path(name))
            columns["edge_holder"].extend(holders)

    def _with_path(self, path: str) -> Iterator[int]:
        if not self._places:
            places = zip(self.columns["table"], self.columns["offer"], strict=True)
            self._places.update((place, number) for number, place in enumerate(places))
        return (self._places[place] for place in self._owners(path) if place in self._places)

    def _turn(self) -> None:
        """The same edges the other way round: from asks to askers, from packages to their asks."""
        columns = self.columns
        count = len(columns["ask_text"])
        columns["asker_start"], places = _turned(columns["need_ask"], count)
        owners = _owners_of(columns["need_start"])
        columns["asker"].extend(owners[at] for at in places)
        columns["asker_kind"].extend(columns["need_kind"][at] for at in places)
        columns["back_start"], places = _turned(columns["edge_holder"], len(columns["table"]))
        asks = _owners_of(columns["edge_start"])
        columns["back_ask"].extend(asks[at] for at in places)

    def _find_again(self) -> None:
        same: dict[str, list[int]] = {}
        for number, name in enumerate(self.words["name"]):
            same.setdefault(name, []).append(number)
        for numbers in same.values():
            if len(numbers) > 1:
                self.columns["again"].extend(numbers)


def _owners_of(starts: Sequence[int]) -> "array[int]":
    """Of every place between starts, whose it is."""
    owners = array("I")
    for number in range(len(starts) - 1):
        owners.extend([number] * (starts[number + 1] - starts[number]))
    return owners


def _turned(ends: Sequence[int], count: int) -> "tuple[array[int], array[int]]":
    """For each end where its places begin, and the places: a list of edges the other way round."""
    start = array("I", bytes(4 * (count + 1)))
    for end in ends:
        start[end + 1] += 1
    for at in range(count):
        start[at + 1] += start[at]
    free = array("I", start)
    places = array("I", bytes(4 * len(ends)))
    for place, end in enumerate(ends):
        places[free[end]] = place
        free[end] += 1
    return start, places
