"""The graph of everything that is offered, as numbers in arrays: made once, and kept with the indexes.

A package is a number, and so is an ask: what is needed (or kept away), as it is written, by packages
of one architecture. Who meets an ask is worked out once for all that ask the same. Edges lead from
packages to their asks, and from asks to the packages that meet them, each with the alternative that it
is by; and back.
"""

import json
from array import array
from bisect import bisect_left, bisect_right
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from itertools import groupby
from typing import Any, NamedTuple
from zlib import crc32

from filigree.model.needs import Capability, Condition, Join, Need, Relation, Term
from filigree.model.package import Package
from filigree.questions.planning.world import Rules

LOOKS = 20_000_000
"""So often a need is held against what may meet it; 66,000 packages of a main suite take 113,000."""
_KINDS = tuple(Relation)
_NUMBER_OF = {kind: at for at, kind in enumerate(_KINDS)}
_ARRAYS = {
    "table": "H", "offer": "I", "installed_size": "q", "archive_size": "q",
    "need_start": "I", "need_kind": "B", "need_ask": "I", "ask_text": "I",
    "edge_start": "I", "edge_holder": "I", "edge_alternative": "B",
    "named_start": "I", "named_ask": "I",
    "asker_start": "I", "asker": "I", "asker_kind": "B",
    "back_start": "I", "back_ask": "I", "again": "I",
}  # fmt: skip
_TEXTS = ("name", "version", "architecture", "source", "text", "asked_name")


class Told(NamedTuple):
    """One offer, as it goes into the graph: the number of its index, and its own in there."""

    table: int
    offer: int
    package: Package
    needs: Sequence[Need]
    capabilities: Sequence[Capability]


def meeting_terms(condition: Condition) -> Iterator[Term]:
    """The terms by which a package can meet a condition: not those that only say when it arises."""
    if isinstance(condition, Term):
        yield condition
    elif condition.join in (Join.IF, Join.UNLESS):
        yield from meeting_terms(condition.parts[0])
        for part in condition.parts[2:]:
            yield from meeting_terms(part)
    elif condition.join is Join.WITHOUT:
        yield from meeting_terms(condition.parts[0])
    else:
        for part in condition.parts:
            yield from meeting_terms(part)


def weave(
    told: Iterable[Told], rules: Rules, owners: Callable[[str], Iterable[tuple[int, int]]]
) -> Iterator[tuple[str, bytes]]:
    """The graph as named bytes. `owners` gives index and number of what is offered with a path.

    Of whom something is asked counts by its architecture alone: that is all that rules go by. Raises
    ValueError where an index is made so that it would never end.
    """
    loom = _Loom(rules)
    for one in told:
        loom.take(one)
    loom.tie(owners)
    yield from loom.woven()


class _Loom:
    """The graph in the making."""

    def __init__(self, rules: Rules) -> None:
        self._rules = rules
        self._columns = {name: array(form) for name, form in _ARRAYS.items()}
        self._names: dict[str, list[str]] = {name: [] for name in _TEXTS}
        self._asks: dict[tuple[int, str, str], int] = {}
        self._asked: list[tuple[Need, Package]] = []
        self._providers: dict[str, list[tuple[int, Package, Capability]]] = {}
        self._places: dict[tuple[int, int], int] = {}
        self._texts: dict[str, int] = {}
        self._looks = 0

    def take(self, one: Told) -> None:
        """Add a package, and what it asks for."""
        package, columns, names = one.package, self._columns, self._names
        number = len(columns["table"])
        self._places[one.table, one.offer] = number
        columns["table"].append(one.table)
        columns["offer"].append(one.offer)
        columns["installed_size"].append(_size(package.installed_size))
        columns["archive_size"].append(_size(package.archive_size))
        names["name"].append(package.name)
        names["version"].append(package.version)
        names["architecture"].append(package.architecture)
        names["source"].append("" if package.source == package.name else package.source or "")
        columns["need_start"].append(len(columns["need_kind"]))
        for need in one.needs:
            if need.granted is None:
                columns["need_kind"].append(_NUMBER_OF[need.kind])
                columns["need_ask"].append(self._ask(need, package))
        for capability in one.capabilities:
            found = self._providers.setdefault(capability.name, [])
            found.append((number, package, capability))

    def _ask(self, need: Need, package: Package) -> int:
        away = 0 if need.kind.positive else _NUMBER_OF[need.kind] + 1
        key = (away, need.text, package.architecture)
        ask = self._asks.get(key)
        if ask is None:
            ask = self._asks[key] = len(self._asked)
            self._asked.append((need, package))
            texts = self._texts
            self._columns["ask_text"].append(texts.setdefault(need.text, len(texts)))
        return ask

    def tie(self, owners: Callable[[str], Iterable[tuple[int, int]]]) -> None:
        """Find who meets each ask, once everything is there."""
        columns = self._columns
        columns["need_start"].append(len(columns["need_kind"]))
        by_name: dict[str, dict[int, None]] = {}
        for ask, (need, asker) in enumerate(self._asked):
            columns["edge_start"].append(len(columns["edge_holder"]))
            met: dict[int, int] = {}
            for at, term in enumerate(meeting_terms(need.condition)):
                by_name.setdefault(term.name, {})[ask] = None
                for number in self._meeting(need.kind, term, asker, owners):
                    met.setdefault(number, min(at, 255))
            columns["edge_holder"].extend(met)
            columns["edge_alternative"].extend(met.values())
        columns["edge_start"].append(len(columns["edge_holder"]))
        for name, asks in by_name.items():
            self._names["asked_name"].append(name)
            columns["named_start"].append(len(columns["named_ask"]))
            columns["named_ask"].extend(asks)
        columns["named_start"].append(len(columns["named_ask"]))
        self._turn()
        same: dict[str, list[int]] = {}
        for number, name in enumerate(self._names["name"]):
            same.setdefault(name, []).append(number)
        for numbers in same.values():
            if len(numbers) > 1:
                columns["again"].extend(numbers)

    def _turn(self) -> None:
        """The same edges the other way round: from asks to askers, from packages to their asks."""
        columns = self._columns
        owners = array("I")
        for number in range(len(columns["table"])):
            count = columns["need_start"][number + 1] - columns["need_start"][number]
            owners.extend([number] * count)
        columns["asker_start"], places = _turned(columns["need_ask"], len(self._asked))
        columns["asker"].extend(owners[at] for at in places)
        columns["asker_kind"].extend(columns["need_kind"][at] for at in places)
        asks = array("I")
        for ask in range(len(self._asked)):
            asks.extend([ask] * (columns["edge_start"][ask + 1] - columns["edge_start"][ask]))
        columns["back_start"], places = _turned(columns["edge_holder"], len(columns["table"]))
        columns["back_ask"].extend(asks[at] for at in places)

    def _meeting(
        self, kind: Relation, term: Term, asker: Package, owners: Callable[[str], Iterable[Any]]
    ) -> Iterator[int]:
        providers = self._providers.get(term.name, ())
        self._looks += len(providers)
        if self._looks > LOOKS:
            raise ValueError(f"it takes more than {LOOKS:,} looks to see who meets what")
        for number, holder, capability in providers:
            if _ties(self._rules, kind, term, asker, holder, capability):
                yield number
        if term.name.startswith("/") and kind.positive:
            yield from (self._places[place] for place in owners(term.name) if place in self._places)

    def woven(self) -> Iterator[tuple[str, bytes]]:
        """Everything as bytes, and a sum over them."""
        self._names["text"] = list(self._texts)
        blobs = {column: values.tobytes() for column, values in self._columns.items()}
        blobs |= {column: json.dumps(words).encode() for column, words in self._names.items()}
        yield from blobs.items()
        yield SUM, _sum_of(blobs)


def _ties(
    rules: Rules,
    kind: Relation,
    term: Term,
    asker: Package,
    holder: Package,
    capability: Capability,
) -> bool:
    if kind.positive or kind is Relation.REPLACES:
        return rules.meets(term, asker, holder, capability)
    # Whoever asks the same has another name: that none is against itself is seen to later.
    nobody = Package("", "", asker.architecture, asker.family, asker.state)
    return rules.forbids(kind, term, nobody, holder, capability)


def _size(size: int | None) -> int:
    return -1 if size is None else min(size, 2**62)


SUM = "sum"


def _sum_of(blobs: Mapping[str, bytes]) -> bytes:
    total = 0
    for name in sorted(blobs.keys() - {SUM}):
        total = crc32(blobs[name], crc32(name.encode(), total))
    return total.to_bytes(4, "big")


def is_whole(blobs: Mapping[str, bytes]) -> bool:
    """Whether a graph is as it was when it was made."""
    return blobs.get(SUM) == _sum_of(blobs)


class Web:
    """The graph, read back."""

    def __init__(self, blobs: Mapping[str, bytes]) -> None:
        self._blobs = blobs
        for name, form in _ARRAYS.items():
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
    _edge_alternative: "array[int]"
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

    @property
    def edges(self) -> int:
        """How many edges there are, from needs to what meets them."""
        return sum(self._edge_start[ask + 1] - self._edge_start[ask] for ask in self._need_ask)

    @property
    def needs(self) -> int:
        """How many needs there are, of every kind."""
        return len(self._need_kind)

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
        from filigree.model.package import State

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
            yield self._asker[at], _KINDS[self._asker_kind[at]]

    def reached(
        self, first: int, kinds: Iterable[Relation], passed_over: Iterable[int], depth: int | None
    ) -> Iterator[tuple[int, int, int, Relation, int]]:
        """Who asks for a package, over any number of steps: each once, what is nearest first.

        Asker, whom it asks, by which ask, how, and how far away; never one of `passed_over`.
        """
        wanted = frozenset(_NUMBER_OF[kind] for kind in kinds)
        seen, heard = bytearray(len(self)), bytearray(len(self._ask_text))
        for number in (first, *passed_over):
            seen[number] = 1
        starts, askers, kind_of = self._asker_start, self._asker, self._asker_kind
        front, away = [first], 0
        while front and (depth is None or away < depth):
            away += 1
            ahead = []
            for number in front:
                for ask in self.met_by(number):
                    # Whoever asks the same is told already, by the first that meets it.
                    if heard[ask]:
                        continue
                    heard[ask] = 1
                    for at in range(starts[ask], starts[ask + 1]):
                        asker = askers[at]
                        if not seen[asker] and kind_of[at] in wanted:
                            seen[asker] = 1
                            ahead.append(asker)
                            yield asker, number, ask, _KINDS[kind_of[at]], away
            front = ahead

    def asks_of(self, number: int) -> Iterator[tuple[int, Relation]]:
        """Every ask of a package, and how."""
        for need in range(self._need_start[number], self._need_start[number + 1]):
            yield self._need_ask[need], _KINDS[self._need_kind[need]]

    def links(self, kinds: Iterable[Relation]) -> Iterator[tuple[int, int]]:
        """Every pair of a package and another that meets a need of it, of some kinds."""
        wanted = {_NUMBER_OF[kind] for kind in kinds}
        starts, holders, asks, kind_of = (
            self._edge_start, self._edge_holder, self._need_ask, self._need_kind,
        )  # fmt: skip
        for number in range(len(self)):
            for need in range(self._need_start[number], self._need_start[number + 1]):
                if kind_of[need] in wanted:
                    ask = asks[need]
                    for holder in holders[starts[ask] : starts[ask + 1]]:
                        yield number, holder


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
