"""Opens the graph of offers: as it was kept, or made anew of what each index brings.

What a large index brings is kept under the digest of that index, and so is who meets what between two of
them: where one index of several is another one, only that is read, and held against the others.
"""

import hashlib
from array import array
from collections.abc import Callable, Iterable, Iterator, Sequence
from functools import cached_property
from itertools import repeat
from typing import NamedTuple

from filigree.access.workers import processors, share
from filigree.families.protocol import OfferRow, Report
from filigree.model.answer import Gap
from filigree.model.repositories import IndexKind
from filigree.questions.dependencies.graph_edges import (
    EdgesBetween,
    Looks,
    edges_between,
    read_edges,
    spoken_of,
)
from filigree.questions.dependencies.graph_parts import (
    OfferNode,
    OfferPart,
    packed,
    part_of,
    read_part,
)
from filigree.questions.dependencies.offer_graph import OfferGraph, is_whole
from filigree.questions.dependencies.offer_graph_builder import built, joined
from filigree.questions.offers.catalogue import Catalogue

KEPT_FROM = 2000
"""An index of fewer packages is read as soon as what was kept of it; so it is with edges."""
SHARED_FROM = 16_000
"""An index of so many packages is read in slices, by as many processes as there are processors."""
_WHAT = "the graph"


def graph_of_offers(offered: Catalogue) -> OfferGraph:
    """The graph of all that is offered, kept under the digests of all indexes that it is made of.

    Without any edge where making it broke off: that is a gap, and nothing is known to be tied.
    """
    blobs = offered.indexes.blobs(
        _key(offered), _WHAT, lambda report: _built(offered, report), is_whole
    )
    if not blobs:
        blobs = dict(built((), offered.indexes.system.database.rules, lambda _: ()))
    return OfferGraph(blobs)


def _key(offered: Catalogue) -> str:
    """What the graph depends on, as a digest."""
    tables = offered.indexes.tables
    files = [repository.copy.listed for repository, _ in tables if repository.copy]
    told = [file.digest or "" for file in files if file is not None]
    # Who holds a path that is needed is told by indexes of paths.
    told += (
        f"{file.path} {file.digest}"
        for repository, _ in tables
        for file in (repository.copy.files if repository.copy else ())
        if file.kind is IndexKind.PATHS
    )
    return _digest(offered, *told)


def _digest(offered: Catalogue, *told: str) -> str:
    system = offered.indexes.system
    text = "\n".join((*told, system.family.name + str(system.database.architecture)))
    return hashlib.sha256(text.encode("utf-8", "surrogateescape")).hexdigest()


def _built(offered: Catalogue, report: Report) -> Iterator[tuple[str, bytes]]:
    making = _GraphMaking(offered)
    with offered.indexes.system.heard() as gaps:
        parts = [(one.table, part) for one, part in making.parts.items()]
    for gap in gaps:
        report(gap)

    def owners(path: str) -> Iterator[tuple[int, int]]:
        return (offered.row_of(package) for _, package in offered.paths.at(path))

    yield from joined(parts, making.between, owners)


class _Slice(NamedTuple):
    """Some offers of one index: from which, to before which, by their order; and the index's digest."""

    table: int
    first: int
    end: int
    digest: str


class _Read(NamedTuple):
    """What came of reading a slice, and what could not be read."""

    blobs: dict[str, bytes]
    gaps: tuple[Gap, ...]


class _Tied(NamedTuple):
    """What came of tying two slices: the edges, or why there are none; and how many looks it took."""

    edges: EdgesBetween | None
    looks: int
    why: str = ""


class _GraphMaking:
    """The parts of a graph, and the edges between them: as they were kept, or made and kept."""

    def __init__(self, offered: Catalogue) -> None:
        self._offered = offered
        self._indexes = offered.indexes
        self._rules = offered.indexes.system.database.rules
        self._looks = Looks()
        self._read: dict[_Slice, _Read] = {}
        self._tied: dict[tuple[_Slice, _Slice], EdgesBetween] = {}

    @cached_property
    def parts(self) -> dict[_Slice, OfferPart]:
        """What each slice of an index brings, in their order."""
        return {
            one: self._part(one, slices)
            for slices in map(self._slices, range(len(self._indexes.tables)))
            for one in slices
        }

    def _slices(self, at: int) -> list[_Slice]:
        repository, table = self._indexes.tables[at]
        count = table.count()
        listed = repository.copy.listed if repository.copy else None
        digest = (listed.digest or "") if listed is not None and count >= KEPT_FROM else ""
        step = -(-count // processors()) if count >= SHARED_FROM else max(count, 1)
        return [_Slice(at, first, first + step, digest) for first in range(0, count, step)]

    def _part(self, one: _Slice, slices: Sequence[_Slice]) -> OfferPart:
        family = self._indexes.system.family.name
        if not one.digest:
            return read_part(family, self._slice_read(one).blobs)

        def make(report: Report) -> Iterator[tuple[str, bytes]]:
            if one not in self._read:
                self._read_all(slices)
            told = self._read.pop(one)
            for gap in told.gaps:
                report(gap)
            yield from told.blobs.items()

        return read_part(family, self._kept(("part", *_named(one)), make))

    def _read_all(self, slices: Sequence[_Slice]) -> None:
        """Read slices at once, each in a process of its own."""

        def counted() -> Iterator[None]:
            for done in share(slices, self._slice_read, in_hand=1):
                one = slices[done.place]
                self._read[one] = done.result or self._slice_read(one)
                yield from repeat(None, one.end - one.first)

        for _ in self._indexes.watched("making the graph", counted(), slices[-1].end):
            pass

    def _slice_read(self, one: _Slice) -> _Read:
        with self._indexes.system.heard() as gaps:
            part = part_of(self._nodes(one), self._rules)
        return _Read(dict(part.packed()), tuple(gaps))

    def _nodes(self, one: _Slice) -> Iterator[OfferNode]:
        sources = self._indexes.sources
        repository, table = self._indexes.tables[one.table]
        for offer in table.between(one.first, one.end):
            package = sources.package(offer.record, repository.identity, False)
            if package is not None:
                row = OfferRow(package, offer.record)
                yield OfferNode(
                    one.table, offer.number, package, sources.needs(row), sources.capabilities(row)
                )

    def between(self, one: int, other: int) -> EdgesBetween:
        """The edges from the asks of one part to the packages of another, by their places."""
        slices = list(self.parts)
        asking, holding = slices[one], slices[other]
        spoken = spoken_of(self.parts[asking], self.parts[holding])
        if len(spoken) < KEPT_FROM or not (asking.digest and holding.digest):
            return self._edges((asking, holding), spoken, self._looks)

        def make(_: Report) -> Iterator[tuple[str, bytes]]:
            if (asking, holding) not in self._tied:
                self._tie_all(asking.table, holding.table)
            return packed(self._tied.pop((asking, holding)).columns(), {})

        return read_edges(self._kept(("edges", *_named(asking), *_named(holding)), make))

    def _tie_all(self, asking: int, holding: int) -> None:
        """Tie all slices of one index to all of another at once."""
        pairs = [
            (one, other)
            for one in self.parts if one.table == asking
            for other in self.parts if other.table == holding
        ]  # fmt: skip
        for done in share(pairs, self._tie, in_hand=1):
            tied = done.result or self._tie(pairs[done.place])
            if tied.edges is None:
                raise ValueError(tied.why)
            # Of all pairs together it counts, too.
            self._looks.add(tied.looks)
            self._tied[pairs[done.place]] = tied.edges

    def _tie(self, pair: tuple[_Slice, _Slice]) -> _Tied:
        asking, holding = (self.parts[one] for one in pair)
        looks = Looks()
        try:
            edges = self._edges(pair, spoken_of(asking, holding), looks)
        except ValueError as error:
            return _Tied(None, looks.count, str(error))
        return _Tied(edges, looks.count)

    def _edges(
        self, pair: tuple[_Slice, _Slice], spoken: "array[int]", looks: Looks
    ) -> EdgesBetween:
        asking, holding = (self.parts[one] for one in pair)
        return edges_between(asking, holding, spoken, self._rules, looks)

    def _kept(
        self, what: tuple[str, ...], make: Callable[[Report], Iterable[tuple[str, bytes]]]
    ) -> dict[str, bytes]:
        """Raises ValueError where making it broke off."""
        blobs = self._indexes.blobs(_digest(self._offered, *what), _WHAT, make, is_whole)
        if not blobs:
            raise ValueError("a part of it could not be made")
        return blobs


def _named(one: _Slice) -> tuple[str, str]:
    return one.digest, f"{one.first} {one.end}"
