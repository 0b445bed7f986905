"""The graph of everything that is offered, as numbers in arrays: made once, and kept with the indexes.

A package is a number, and so is an ask: what is needed (or kept away), as it is written, by packages
of one architecture. Who meets an ask is worked out once for all that ask the same. Edges lead from
packages to their asks, and from asks to the packages that meet them; and back.
"""

import json
from array import array
from bisect import bisect_left, bisect_right
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from itertools import groupby
from zlib import crc32

from filigree.model.needs import Relation
from filigree.model.package import Package, State
from filigree.questions.dependencies.breadth_first import breadth_first

KINDS = tuple(Relation)
NUMBER_OF = {kind: at for at, kind in enumerate(KINDS)}
ARRAYS = {
    "table": "H", "offer": "I", "installed_size": "q", "archive_size": "q",
    "need_start": "I", "need_kind": "B", "need_ask": "I", "ask_text": "I",
    "edge_start": "I", "edge_holder": "I",
    "named_start": "I", "named_ask": "I",
    "asker_start": "I", "asker": "I", "asker_kind": "B",
    "back_start": "I", "back_ask": "I", "again": "I",
}  # fmt: skip
TEXTS = ("name", "version", "architecture", "source", "text", "asked_name")


SUM = "sum"


def sum_of(blobs: Mapping[str, bytes]) -> bytes:
    """A checksum over all blobs but itself."""
    total = 0
    for name in sorted(blobs.keys() - {SUM}):
        total = crc32(blobs[name], crc32(name.encode(), total))
    return total.to_bytes(4, "big")


def is_whole(blobs: Mapping[str, bytes]) -> bool:
    """Whether a graph is as it was when it was made."""
    return blobs.get(SUM) == sum_of(blobs)


class OfferGraph:
    """The graph, read back."""

    def __init__(self, blobs: Mapping[str, bytes]) -> None:
        self._blobs = blobs
        for name, form in ARRAYS.items():
            column = array(form)
            column.frombytes(blobs[name])
            setattr(self, f"_{name}", column)

    _table: "array[int]"
    _offer: "array[int]"
    _installed_size: "array[int]"
    _archive_size: "array[int]"
    _need_start: "array[int]"
    _need_kind: "array[int]"
    _need_ask: "array[int]"
    _ask_text: "array[int]"
    _edge_start: "array[int]"
    _edge_holder: "array[int]"
    _named_start: "array[int]"
    _named_ask: "array[int]"
    _asker_start: "array[int]"
    _asker: "array[int]"
    _asker_kind: "array[int]"
    _back_start: "array[int]"
    _back_ask: "array[int]"
    _again: "array[int]"

    def __len__(self) -> int:
        return len(self._table)

    @cached_property
    def names(self) -> list[str]:
        """The name of each package."""
        return list(json.loads(self._blobs["name"]))

    @cached_property
    def _texts(self) -> list[str]:
        return list(json.loads(self._blobs["text"]))

    @cached_property
    def _versions(self) -> list[str]:
        return list(json.loads(self._blobs["version"]))

    @cached_property
    def _sources(self) -> list[str]:
        return list(json.loads(self._blobs["source"]))

    @cached_property
    def architectures(self) -> list[str]:
        return list(json.loads(self._blobs["architecture"]))

    @cached_property
    def _asks_by_name(self) -> dict[str, int]:
        return {name: at for at, name in enumerate(json.loads(self._blobs["asked_name"]))}

    @cached_property
    def called(self) -> dict[str, list[int]]:
        """The numbers of each name."""
        found: dict[str, list[int]] = {}
        for number, name in enumerate(self.names):
            found.setdefault(name, []).append(number)
        return found

    def offered_again(self) -> Iterator[list[int]]:
        """The numbers of each name that is offered more than once."""
        return (list(same) for _, same in groupby(self._again, key=self.names.__getitem__))

    def number(self, table: int, offer: int) -> int | None:
        """The number of an offer, by that of its index and its own in there."""
        start = bisect_left(self._table, table)
        number = bisect_left(self._offer, offer, start, bisect_right(self._table, table))
        same = number < len(self) and self.place(number) == (table, offer)
        return number if same else None

    def place(self, number: int) -> tuple[int, int]:
        """The number of the index that offers a package, and its own in there."""
        return self._table[number], self._offer[number]

    def package(self, number: int, family: str, repository: str) -> Package:
        """A package as far as the graph knows it."""
        installed, archive = self._installed_size[number], self._archive_size[number]
        return Package(
            self.names[number], self._versions[number], self.architectures[number], family,
            State.AVAILABLE, source=self._sources[number] or self.names[number],
            installed_size=None if installed < 0 else installed,
            archive_size=None if archive < 0 else archive, repository=repository,
        )  # fmt: skip

    def identity(self, number: int) -> tuple[str, str]:
        """The version and architecture of a package."""
        return self._versions[number], self.architectures[number]

    def sizes(self, number: int) -> tuple[int, int]:
        """What a package takes once installed, and to fetch; 0 where that is not told."""
        return max(0, self._installed_size[number]), max(0, self._archive_size[number])

    def text(self, ask: int) -> str:
        """What is asked, as it is written."""
        return self._texts[self._ask_text[ask]]

    def asks_for(self, name: str) -> Sequence[int]:
        """Every ask that speaks of a name."""
        at = self._asks_by_name.get(name)
        return (
            () if at is None else self._named_ask[self._named_start[at] : self._named_start[at + 1]]
        )

    def met_by(self, number: int) -> Sequence[int]:
        """Every ask that a package meets, or is kept away by."""
        return self._back_ask[self._back_start[number] : self._back_start[number + 1]]

    def holders(self, ask: int) -> Sequence[int]:
        """Every package that meets an ask."""
        return self._edge_holder[self._edge_start[ask] : self._edge_start[ask + 1]]

    def askers(self, ask: int) -> Iterator[tuple[int, Relation]]:
        """Every package that asks so, and how."""
        for at in range(self._asker_start[ask], self._asker_start[ask + 1]):
            yield self._asker[at], KINDS[self._asker_kind[at]]

    def reached(
        self, first: int, kinds: Iterable[Relation], passed_over: Iterable[int], depth: int | None
    ) -> Iterator[tuple[int, int, int, Relation, int]]:
        """Who asks for a package, over any number of steps: each once, what is nearest first.

        Asker, whom it asks, by which ask, how, and how far away; never one of `passed_over`.
        """
        wanted = frozenset(NUMBER_OF[kind] for kind in kinds)
        heard = bytearray(len(self._ask_text))
        starts, askers, kind_of = self._asker_start, self._asker, self._asker_kind

        def onward(number: int) -> Iterator[tuple[tuple[int, int, int], int]]:
            for ask in self.met_by(number):
                # Whoever asks the same is told already, by the first that meets it.
                if not heard[ask]:
                    heard[ask] = 1
                    for at in range(starts[ask], starts[ask + 1]):
                        if kind_of[at] in wanted:
                            yield (number, ask, kind_of[at]), askers[at]

        for (number, ask, kind), asker, away in breadth_first(
            [first], onward, depth, set(passed_over)
        ):
            assert asker is not None
            yield asker, number, ask, KINDS[kind], away

    def asks_of(self, number: int) -> Iterator[tuple[int, Relation]]:
        """Every ask of a package, and how."""
        for need in range(self._need_start[number], self._need_start[number + 1]):
            yield self._need_ask[need], KINDS[self._need_kind[need]]

    def links(self, kinds: Iterable[Relation]) -> Iterator[tuple[int, int]]:
        """Every pair of a package and another that meets a need of it, of some kinds."""
        wanted = {NUMBER_OF[kind] for kind in kinds}
        starts, holders, asks, kind_of = (
            self._edge_start, self._edge_holder, self._need_ask, self._need_kind,
        )  # fmt: skip
        for number in range(len(self)):
            for need in range(self._need_start[number], self._need_start[number + 1]):
                if kind_of[need] in wanted:
                    ask = asks[need]
                    for holder in holders[starts[ask] : starts[ask + 1]]:
                        yield number, holder
