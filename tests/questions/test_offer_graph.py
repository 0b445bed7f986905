"""The kept graph against a plain reading of the same packages; impact against walks."""

import sqlite3
from array import array
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from filigree.access.workers import Done
from filigree.families.protocol import Asked, OfferRow, Provided
from filigree.model.needs import Capability, Comparison, Need, Relation, Term, terms_of
from filigree.model.package import Package, State
from filigree.questions.asking.scopes import Scope, looking
from filigree.questions.commands.census import Order, census
from filigree.questions.commands.needs import Layout, needed_by, needs
from filigree.questions.commands.survey import survey
from filigree.questions.dependencies import graph_edges, kept_offer_graph
from filigree.questions.dependencies.graph_parts import GraphRules, OfferNode
from filigree.questions.dependencies.kept_offer_graph import graph_of_offers
from filigree.questions.dependencies.offer_graph import OfferGraph
from filigree.questions.dependencies.offer_graph_builder import built
from filigree.questions.dependencies.ties import HARD
from filigree.questions.offers.catalogue import Catalogue, open_catalogue
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.planning.impact import installed_impact
from filigree.system import open_system
from tests.conftest import Run


@pytest.fixture(params=["heron", "curlew"])
def station(request: pytest.FixtureRequest) -> str:
    return str(request.getfixturevalue(request.param))


def test_the_graph_is_what_the_records_say(station: str, tmp_path: Path) -> None:
    """Every edge, and no other, by judging every package against every other."""
    with (
        open_system(station) as system,
        looking(system, Scope.AVAILABLE, RepositoryOptions(cache=str(tmp_path))) as lookup,
    ):
        offered = lookup.offered
        assert offered is not None
        graph = graph_of_offers(offered)
        packages = [p for name in sorted(offered.names()) for p in offered.called([name])]
        assert len(graph) == len(packages)
        number = {}
        for package in packages:
            at = graph.number(*offered.row_of(package))
            assert at is not None
            number[package] = at
        edges = 0
        for asker in packages:
            asks = [(graph.text(ask), kind, ask) for ask, kind in graph.asks_of(number[asker])]
            wanted = [n for n in offered.records(asker).needs() if n.granted is None]
            assert [(n.text, n.kind) for n in wanted] == [(text, kind) for text, kind, _ in asks]
            for need, (_, kind, ask) in zip(wanted, asks, strict=True):
                assert (number[asker], kind) in set(graph.askers(ask))
                edges += len(graph.holders(ask))
                if not kind.positive:
                    continue
                names = {term.name for term in terms_of(need.condition)}
                simple = "(" not in need.text.replace("(>=", "").replace("(=", "")
                if any(name.startswith("/") for name in names) or not simple:
                    continue
                expected = {
                    number[holder]
                    for holder in packages
                    for capability in offered.records(holder).capabilities()
                    for term in terms_of(need.condition)
                    if capability.name == term.name
                    and system.database.rules.satisfies(
                        Asked(term, asker), Provided(capability, holder)
                    )
                }
                assert set(graph.holders(ask)) == expected, need.text
        assert edges == sum(1 for _ in graph.links(Relation))
        for at in range(len(graph)):
            assert all(at in graph.holders(ask) for ask in graph.met_by(at))


def test_flat_levels_and_tree_tell_the_same_packages(station: str) -> None:
    for scope in (Scope.INSTALLED, Scope.AVAILABLE, Scope.ANY):
        with open_system(station) as system:
            for ask in (needs, needed_by):
                tree = ask(system, ["libbrine2"], None, scope=scope)
                flat = ask(system, ["libbrine2"], None, scope=scope, layout=Layout.FLAT)
                told = {(row.name, row.version, row.architecture) for row in tree.records}
                rows = [(row.name, row.version, row.architecture) for row in flat.records]
                assert set(rows) == told - {("libbrine2", flat.summary.subjects[0].version, None)}
                assert len(rows) == len(set(rows)), "each once"
                depths = [row.depth for row in flat.records]
                assert depths == sorted(depths), "what is nearest comes first"
                shallowest = {
                    row.name: min(r.depth for r in tree.records if r.name == row.name)
                    for row in tree.records
                }
                assert {row.name: row.depth for row in flat.records} == shallowest
                assert flat.summary.packages == tree.summary.packages


def test_counting_is_walking(station: str) -> None:
    with open_system(station) as system:
        for scope in (Scope.INSTALLED, Scope.AVAILABLE):
            whole = needed_by(system, ["libbrine2"], None, scope=scope, layout=Layout.FLAT).summary
            counted = needed_by(system, ["libbrine2"], None, scope=scope, layout=Layout.COUNT)
            assert counted.records == []
            for key in ("packages", "installed_size", "fetch_size", "deepest"):
                assert getattr(counted.summary, key) == getattr(whole, key), key


def test_impact_is_how_many_a_walk_reaches(station: str) -> None:
    with open_system(station) as system:
        for package, count in installed_impact(system):
            answer = needed_by(system, [package.label], None, HARD)
            assert count == answer.summary.packages, package.label
        (record,) = survey(system).records
        top = census(system, order=Order.IMPACT, limit=5).records
        assert [(one.name, one.impact) for one in record.most_needed] == [
            (row.name, row.impact) for row in top
        ]
        impacts = [row.impact or 0 for row in census(system, order=Order.IMPACT).records]
        assert impacts == sorted(impacts, reverse=True)
        offered = census(system, order=Order.IMPACT, scope=Scope.AVAILABLE, limit=3).records
        assert offered[0].impact
        assert census(system, limit=1).records[0].impact is None


def test_the_graph_is_kept_and_made_anew_when_an_index_changes(
    own_heron: Path, tmp_path: Path, run: Run
) -> None:
    def ask() -> list[str]:
        done = run("needed-by", "libbrine2", "--available", "--flat", "--root", str(own_heron),
                   XDG_CACHE_HOME=str(tmp_path))  # fmt: skip
        return [line.split("\t")[0] for line in done.stdout.splitlines()]

    first = ask()
    kept = list((tmp_path / "filigree").glob("blobs-*"))
    assert len(kept) == 1
    assert ask() == first
    kept[0].write_bytes(kept[0].read_bytes()[:2000])
    assert ask() == first, "a damaged graph is made anew"
    with sqlite3.connect(kept[0]) as table:
        table.execute("UPDATE blobs SET data = zeroblob(length(data)) WHERE name = 'back_ask'")
    table.close()
    assert ask() == first, "and so is one of which a part is another"


@pytest.fixture
def shared(monkeypatch: pytest.MonkeyPatch) -> None:
    """Small indexes are made as large ones are: in slices, by several processes, each part kept."""
    monkeypatch.setattr(kept_offer_graph, "KEPT_FROM", 1)
    monkeypatch.setattr(kept_offer_graph, "SHARED_FROM", 2)
    monkeypatch.setattr(kept_offer_graph, "processors", lambda: 3)


def kept_graph(root: str, cache: Path | None) -> tuple[OfferGraph, list[str]]:
    """The graph of a root's offers, and what could not be read of them."""
    options = RepositoryOptions(cache=str(cache) if cache else None)
    with open_system(root) as system, open_catalogue(system, options) as offered:
        graph = graph_of_offers(offered)
        return graph, [gap.what for gap in system.gaps]


def same(one: OfferGraph, other: OfferGraph) -> bool:
    return one._blobs == other._blobs


@pytest.mark.parametrize("name", ["heron", "curlew", "plover", "dunlin", "sanderling"])
def test_in_slices_by_several_and_out_of_what_was_kept_it_is_the_same(
    name: str, request: pytest.FixtureRequest, tmp_path: Path
) -> None:
    root = str(request.getfixturevalue(name))
    plain, _ = kept_graph(root, None)
    request.getfixturevalue("shared")
    assert same(kept_graph(root, tmp_path)[0], plain)
    assert len(list(tmp_path.glob("blobs-*"))) > 4
    forget_the_whole(tmp_path)
    assert same(kept_graph(root, tmp_path)[0], plain)
    # What is damaged of it is made anew.
    forget_the_whole(tmp_path)
    parts = sorted(tmp_path.glob("blobs-*"))
    for path in parts[::2]:
        path.write_bytes(path.read_bytes()[:1000])
    assert same(kept_graph(root, tmp_path)[0], plain)


def forget_the_whole(cache: Path) -> None:
    """Take away the graph itself, and no part of it."""
    for path in cache.glob("blobs-*"):
        with closing(sqlite3.connect(path)) as table:
            names = {name for (name,) in table.execute("SELECT name FROM blobs")}
        if "back_ask" in names:
            path.unlink()


@pytest.mark.usefixtures("shared")
def test_only_the_index_that_is_new_is_read(
    own_heron: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    kept_graph(str(own_heron), tmp_path)
    lists = own_heron / "var/lib/apt/lists"
    for path in lists.glob("*saltmarsh-urgent*"):
        path.unlink()
    read: list[int] = []
    inner = kept_offer_graph._GraphMaking._slice_read

    def noted(making: Any, one: Any) -> Any:
        read.append(one.table)
        return inner(making, one)

    monkeypatch.setattr(kept_offer_graph._GraphMaking, "_slice_read", noted)
    monkeypatch.setattr(kept_offer_graph, "processors", lambda: 1)
    fewer, _ = kept_graph(str(own_heron), tmp_path / "of its own")
    assert read
    read.clear()
    monkeypatch.setattr(kept_offer_graph, "processors", lambda: 3)
    extended, _ = kept_graph(str(own_heron), tmp_path)
    assert read == [], "the others were kept"
    assert same(extended, fewer)
    # Another index of as many packages is another one.
    sliced = kept_offer_graph._GraphMaking._slices

    def changed(making: Any, at: int) -> Any:
        return [one._replace(digest=one.digest + "0" * (at == 1)) for one in sliced(making, at)]

    monkeypatch.setattr(kept_offer_graph._GraphMaking, "_slices", changed)
    monkeypatch.setattr(kept_offer_graph, "share", plainly)
    forget_the_whole(tmp_path)
    assert same(kept_graph(str(own_heron), tmp_path)[0], fewer)
    assert set(read) == {1}


def plainly(jobs: Any, work: Any, **_: Any) -> Iterator[Done[Any]]:
    """Shared with nobody: what is read can be seen here."""
    return (Done(place, work(job), None) for place, job in enumerate(jobs))


def test_what_could_not_be_read_is_told_each_time(heron: Path, tmp_path: Path) -> None:
    """Also by whoever finds the graph as it was kept, and by a process that read a slice."""
    kept_graph(str(heron), tmp_path)
    for path in tmp_path.glob("offers-*"):
        with closing(sqlite3.connect(path)) as table, table:
            table.execute(
                "UPDATE offers SET record = replace(record, 'Depends: libbrine2', 'Depends: (')"
            )
    for path in tmp_path.glob("blobs-*"):
        path.unlink()
    first, told = kept_graph(str(heron), tmp_path)
    assert [what for what in told if what.startswith("the needs of")]
    again, told_again = kept_graph(str(heron), tmp_path)
    assert set(told) == set(told_again)
    assert same(first, again)


@pytest.mark.usefixtures("shared")
def test_a_process_that_reads_a_slice_tells_what_it_could_not_read(
    heron: Path, tmp_path: Path
) -> None:
    test_what_could_not_be_read_is_told_each_time(heron, tmp_path)


def test_unmet_needs_say_who_offers_what_would_do(heron: Path) -> None:
    with open_system(str(heron)) as system:
        rows = needs(system, ["lockgate-firmware"]).records
        unmet = next(row for row in rows if row.status == "unmet")
        assert [(one.name, one.version) for one in unmet.would_meet] == [("libsluice3", "3.2.0-1")]
        assert unmet.would_meet[0].archive_size


def test_what_is_missing(heron: Path) -> None:
    with open_system(str(heron)) as system:
        kinds = HARD | {Relation.RECOMMENDS}
        answer = needs(system, ["tide-essentials"], None, kinds, Scope.ANY, missing=True)
        assert answer.records
        assert all(row.status in ("available", "unmet") for row in answer.records)
        present = {p.name for p in system.packages if p.state.present}
        assert not present & {row.name for row in answer.records}


def test_only_what_was_chosen(station: str) -> None:
    with open_system(station) as system:
        every = needed_by(system, ["libbrine2"], None, layout=Layout.FLAT).records
        options = needed_by(system, ["libbrine2"], None, chosen_only=True).records
        assert [r.name for r in options] == [r.name for r in every if r.chosen]
        assert options


class Whole:
    """The rules of a system, by which every field of a record is held."""

    marks = frozenset({"Multi-Arch", "Depends", "Provides", "Section", "Priority", "Essential"})

    def __init__(self, rules: GraphRules) -> None:
        self.satisfies = rules.satisfies
        self.forbids = rules.forbids


@pytest.mark.parametrize("name", ["heron", "curlew", "plover", "dunlin", "sanderling"])
def test_what_rules_do_not_go_by_is_not_held_and_changes_nothing(
    request: pytest.FixtureRequest, name: str
) -> None:
    """Whoever goes by another field some day has to say so, or the graph would be another one."""
    root = str(request.getfixturevalue(name))
    with open_system(root) as system, looking(system, Scope.AVAILABLE) as lookup:
        assert lookup.offered is not None
        rules = system.database.rules
        nodes = list(_nodes(lookup.offered))
        assert nodes
        bare = dict(built(nodes, rules, lambda _: ()))
        assert bare == dict(built(nodes, Whole(rules), lambda _: ()))
        seen: set[str] = set()

        class Looking(Whole):
            marks = rules.marks

            def __init__(self) -> None:
                super().__init__(rules)
                inner = self.satisfies

                def satisfies(asked: Asked, provided: Provided) -> bool:
                    seen.update(provided.holder.fields)
                    assert provided.holder.description is None
                    return inner(asked, provided)

                self.satisfies = satisfies

        assert dict(built(nodes, Looking(), lambda _: ())) == bare
        assert seen <= rules.marks


@pytest.mark.parametrize(("serves", "edges"), [("foreign", 1), ("same", 0)])
def test_what_rules_go_by_is_held(heron: Path, serves: str, edges: int) -> None:
    """A package of another architecture that says that it serves every one."""
    need = Need(Relation.REQUIRES, Term("shoal", None, None), "shoal")
    asker = Package("wader", "1", "amd64", "deb", State.AVAILABLE)
    holder = Package("shoal", "1", "arm64", "deb", State.AVAILABLE, fields={"Multi-Arch": serves})
    nodes = [
        OfferNode(0, 1, asker, (need,), (Capability("wader", "1"),)),
        OfferNode(0, 2, holder, (), (Capability("shoal", "1"),)),
    ]
    with open_system(str(heron)) as system:
        graph = OfferGraph(dict(built(nodes, system.database.rules, lambda _: ())))
    ((ask, _),) = graph.asks_of(0)
    assert len(graph.holders(ask)) == edges


def _nodes(offered: Catalogue) -> Iterator[OfferNode]:
    sources = offered.indexes.sources
    for at, (repository, table) in enumerate(offered.indexes.tables):
        for offer in table.offers():
            package = sources.package(offer.record, repository.identity, False)
            assert package is not None
            row = OfferRow(package, offer.record)
            yield OfferNode(
                at, offer.number, package, sources.needs(row), sources.capabilities(row)
            )


class Anything:
    """Rules by which every version differs."""

    marks: frozenset[str] = frozenset()

    def satisfies(self, asked: Asked, provided: Provided) -> bool:
        return asked.term.version == provided.capability.version

    def forbids(self, *_: object) -> bool:
        return False


def hostile(count: int) -> Iterator[OfferNode]:
    """Everything provides one name, and asks for another version of it than all the others."""
    for number in range(count):
        package = Package(f"p{number}", "1", "amd64", "deb", State.AVAILABLE)
        term = Term("v", Comparison.EQUAL, str(number))
        need = Need(Relation.REQUIRES, term, f"v (= {number})")
        yield OfferNode(0, number + 1, package, (need,), (Capability("v", str(count - number)),))


def test_an_index_that_would_never_end_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(graph_edges, "LOOKS", 10_000)
    with pytest.raises(ValueError, match="more than 10,000 looks"):
        dict(built(hostile(200), Anything(), lambda _: ()))
    graph = OfferGraph(dict(built(hostile(90), Anything(), lambda _: ())))
    assert len(graph) == sum(len(list(graph.asks_of(one))) for one in range(90)) == 90
    assert [graph.holders(ask) for ask, _ in graph.asks_of(30)] == [array("I", [60])]


@pytest.mark.parametrize("looks", [3, 40])
@pytest.mark.parametrize("how", ["anew", "shared"])
def test_a_graph_that_could_not_be_made_is_a_gap(
    heron: Path, monkeypatch: pytest.MonkeyPatch, request: pytest.FixtureRequest,
    tmp_path: Path, how: str, looks: int,
) -> None:  # fmt: skip
    """Also where each of several processes takes a part of the looks that are allowed."""
    if how == "shared":
        request.getfixturevalue("shared")
    monkeypatch.setattr(graph_edges, "LOOKS", looks)
    options = RepositoryOptions(cache=str(tmp_path) if how == "shared" else None)
    with open_system(str(heron)) as system:
        answer = needed_by(
            system, ["libbrine2"], None, scope=Scope.AVAILABLE, layout=Layout.FLAT, options=options
        )
        assert answer.records == []
        assert any(gap.what == "the graph" for gap in answer.gaps)
        assert (
            needed_by(system, ["libbrine2"], scope=Scope.AVAILABLE, layout=Layout.COUNT).exit_status
            == 3
        )
