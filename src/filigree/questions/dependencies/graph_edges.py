"""Who meets what, between the asks of one index and the packages of another (or of itself)."""

from array import array
from collections.abc import Mapping
from functools import cache, lru_cache
from typing import NamedTuple

from filigree.families.protocol import Asked, Provided
from filigree.model.needs import Capability, Relation, Term
from filigree.model.package import Package, State
from filigree.questions.dependencies.graph_parts import GraphRules, OfferPart
from filigree.questions.dependencies.offer_graph import KINDS

LOOKS = 20_000_000
"""So often a need is held against what may meet it; 66,000 packages of a main suite take 113,000."""
EDGE_ARRAYS = {"term": "I", "holder": "I"}
_AT_ONCE = 1 << 14


class Looks:
    """How often needs were held against what may meet them, in all indexes together."""

    def __init__(self) -> None:
        self.count = 0

    def add(self, count: int) -> None:
        """So many more are to come. Raises ValueError where it would never end."""
        self.count += count
        if self.count > LOOKS:
            raise ValueError(f"it takes more than {LOOKS:,} looks to see who meets what")


class EdgesBetween(NamedTuple):
    """Edges from terms of one part's asks, by their places in its columns, to packages of another part:
    in the order of the terms, and of the packages."""

    term: "array[int]"
    holder: "array[int]"

    def columns(self) -> "dict[str, array[int]]":
        """By the names of EDGE_ARRAYS."""
        return {"term": self.term, "holder": self.holder}


def read_edges(blobs: Mapping[str, bytes]) -> EdgesBetween:
    """Edges as they were kept."""
    found = EdgesBetween(array("I"), array("I"))
    found.term.frombytes(blobs["term"])
    found.holder.frombytes(blobs["holder"])
    return found


def spoken_of(asking: OfferPart, holding: OfferPart) -> "array[int]":
    """The terms of one part that speak of a name under which somebody in another answers."""
    places = holding.places
    wanted = bytearray(name in places for name in asking.words["term"])
    names = asking.columns["term_name"]
    return array("I", (at for at, name in enumerate(names) if wanted[name]))


def edges_between(
    asking: OfferPart, holding: OfferPart, spoken: "array[int]", rules: GraphRules, looks: Looks
) -> EdgesBetween:
    """Who meets each of these terms. Raises ValueError where it would never end."""
    found = EdgesBetween(array("I"), array("I"))
    columns, ask = asking.columns, 0
    starts, kinds, askers = columns["term_start"], columns["ask_away"], columns["ask_asker"]
    architectures, answers = asking.words["architecture"], holding.columns["answer_start"]
    holder_of = lru_cache(_AT_ONCE)(holding.holder)
    # Rules go by the architecture of who asks alone; that none is against itself is seen to later.
    asker_of = cache(lambda one: Package("", "", one, asking.family, State.AVAILABLE))
    for at in spoken:
        while starts[ask + 1] <= at:
            ask += 1
        term, asker = asking.term(at), asker_of(architectures[askers[ask]])
        kind = KINDS[kinds[ask] - 1] if kinds[ask] else None
        place = holding.places[term.name]
        looks.add(answers[place + 1] - answers[place])
        for number, capability in holding.answering(place):
            if _ties(rules, kind, term, asker, holder_of(number), capability):
                found.term.append(at)
                found.holder.append(number)
    return found


def _ties(
    rules: GraphRules, kind: Relation | None, term: Term, asker: Package, holder: Package,
    capability: Capability,
) -> bool:  # fmt: skip
    """`kind` is how somebody is kept away; None where somebody is wanted."""
    asked, provided = Asked(term, asker), Provided(capability, holder)
    if kind is None or kind is Relation.REPLACES:
        return rules.satisfies(asked, provided)
    return rules.forbids(kind, asked, provided)
