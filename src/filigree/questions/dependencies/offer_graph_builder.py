"""Makes the graph of offers: takes one offer after the other, and ties them once all are there."""

import json
from array import array
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple, Protocol

from filigree.families.protocol import Asked, Provided
from filigree.model.needs import Capability, Need, Relation, Term
from filigree.model.package import Package
from filigree.questions.dependencies.offer_graph import ARRAYS, NUMBER_OF, SUM, TEXTS, sum_of
from filigree.questions.dependencies.satisfaction import Forbids, Satisfies, meeting_terms

LOOKS = 20_000_000
"""So often a need is held against what may meet it; 66,000 packages of a main suite take 113,000."""


_NOTHING: Mapping[str, str] = {}


class GraphRules(Satisfies, Forbids, Protocol):
    """By which rules packages go together."""

    @property
    def marks(self) -> frozenset[str]:
        """The fields of a record that they go by."""
        ...


class OfferNode(NamedTuple):
    """One offer, as it goes into the graph: the number of its index, and its own in there."""

    table: int
    offer: int
    package: Package
    needs: Sequence[Need]
    capabilities: Sequence[Capability]


def built(
    told: Iterable[OfferNode], rules: GraphRules, owners: Callable[[str], Iterable[tuple[int, int]]]
) -> Iterator[tuple[str, bytes]]:
    """The graph as named bytes. `owners` gives index and number of what is offered with a path.

    Of whom something is asked counts by its architecture alone: that is all that rules go by. Raises
    ValueError where an index is made so that it would never end.
    """
    builder = _Builder(rules)
    for one in told:
        builder.take(one)
    builder.tie(owners)
    yield from builder.packed()


class _Builder:
    """The graph in the making."""

    def __init__(self, rules: GraphRules) -> None:
        self._rules = rules
        self._columns = {name: array(form) for name, form in ARRAYS.items()}
        self._names: dict[str, list[str]] = {name: [] for name in TEXTS}
        self._asks: dict[tuple[int, str, str], int] = {}
        self._asked: list[tuple[Need, Package]] = []
        self._providers: dict[str, list[tuple[int, Package, Capability]]] = {}
        self._places: dict[tuple[int, int], int] = {}
        self._texts: dict[str, int] = {}
        self._looks = 0

    def take(self, one: OfferNode) -> None:
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
        package = self._bare(package)
        for need in one.needs:
            if need.granted is None:
                columns["need_kind"].append(NUMBER_OF[need.kind])
                columns["need_ask"].append(self._ask(need, package))
        for capability in one.capabilities:
            found = self._providers.setdefault(capability.name, [])
            found.append((number, package, capability))

    def _bare(self, package: Package) -> Package:
        """What rules go by of a package: all others of its words are not held until the graph is made."""
        fields = package.fields
        marks = {name: fields[name] for name in self._rules.marks if name in fields}
        return Package(
            package.name, package.version, package.architecture, package.family, package.state,
            fields=marks or _NOTHING,
        )  # fmt: skip

    def _ask(self, need: Need, package: Package) -> int:
        away = 0 if need.kind.positive else NUMBER_OF[need.kind] + 1
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
            met: dict[int, None] = {}
            for term in meeting_terms(need.condition):
                by_name.setdefault(term.name, {})[ask] = None
                met |= dict.fromkeys(self._satisfying(need.kind, term, asker, owners))
            columns["edge_holder"].extend(met)
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

    def _satisfying(
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

    def packed(self) -> Iterator[tuple[str, bytes]]:
        """Everything as bytes, and a sum over them."""
        self._names["text"] = list(self._texts)
        blobs = {column: values.tobytes() for column, values in self._columns.items()}
        blobs |= {column: json.dumps(words).encode() for column, words in self._names.items()}
        yield from blobs.items()
        yield SUM, sum_of(blobs)


def _ties(
    rules: GraphRules,
    kind: Relation,
    term: Term,
    asker: Package,
    holder: Package,
    capability: Capability,
) -> bool:
    if kind.positive or kind is Relation.REPLACES:
        return rules.satisfies(Asked(term, asker), Provided(capability, holder))
    # Whoever asks the same has another name: that none is against itself is seen to later.
    nobody = Package("", "", asker.architecture, asker.family, asker.state)
    return rules.forbids(kind, Asked(term, nobody), Provided(capability, holder))


def _size(size: int | None) -> int:
    return -1 if size is None else min(size, 2**62)


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
