"""Opens the graph of offers: as it was kept, or made anew."""

import hashlib
from collections.abc import Iterator

from filigree.families.protocol import OfferRow
from filigree.model.repositories import IndexKind
from filigree.questions.dependencies.offer_graph import OfferGraph, is_whole
from filigree.questions.dependencies.offer_graph_builder import OfferNode, built
from filigree.questions.offers.catalogue import Catalogue


def graph_of_offers(offered: Catalogue) -> OfferGraph:
    """The graph of all that is offered, kept under the digests of all indexes that it is made of.

    Without any edge where making it broke off: that is a gap, and nothing is known to be tied.
    """
    blobs = offered.indexes.blobs(_key(offered), "the graph", lambda: _built(offered), is_whole)
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
    system = offered.indexes.system
    told.append(system.family.name + str(system.database.architecture))
    return hashlib.sha256("\n".join(told).encode("utf-8", "surrogateescape")).hexdigest()


def _built(offered: Catalogue) -> Iterator[tuple[str, bytes]]:
    indexes = offered.indexes
    sources = indexes.sources

    def nodes() -> Iterator[OfferNode]:
        for at, (repository, table) in enumerate(indexes.tables):
            for offer in table.offers():
                package = sources.package(offer.record, repository.identity, False)
                if package is not None:
                    row = OfferRow(package, offer.record)
                    yield OfferNode(
                        at, offer.number, package, sources.needs(row), sources.capabilities(row)
                    )

    def owners(path: str) -> Iterator[tuple[int, int]]:
        return (offered.row_of(package) for _, package in offered.paths.at(path))

    count = sum(table.count() for _, table in indexes.tables)
    watched = indexes.watched("making the graph", nodes(), count)
    return built(watched, indexes.system.database.rules, owners)
