"""Walks over the needs: direct, nested, in reverse; cycles, folds, alternatives."""

from collections import deque
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.model.needs import Relation
from filigree.questions.commands.needs import NeedRow, needed_by, needs
from filigree.questions.dependencies.ties import HARD
from filigree.system import System, open_system
from tests.making import DebRoot


def told(rows: list[NeedRow]) -> list[tuple[str | None, int, str, str | None]]:
    return [(row.name, row.depth, row.via, row.repeat) for row in rows]


@pytest.fixture
def web(deb_root: DebRoot) -> System:
    deb_root.package("a", Depends="b (>= 1), c | d, v", Recommends="e, missing")
    deb_root.package("b", "1.0", Depends="c")
    deb_root.package("c", Depends="f")
    deb_root.package("d", Provides="v (= 2)")
    deb_root.package("e", Depends="gone (>= 3)", Provides="v")
    deb_root.package("f", Depends="a")
    deb_root.package("left", Depends="b", status="deinstall ok config-files")
    return open_system(deb_root.path)


def test_direct_needs_name_everything_that_meets_them(web: System) -> None:
    answer = needs(web, ["a"])
    assert [(r.requirement, r.name, r.status) for r in answer.records] == [
        ("b (>= 1)", "b", "met"),
        ("c | d", "c", "met"),
        ("c | d", "d", "met"),
        ("v", "d", "met"),
        ("v", "e", "met"),
    ]
    assert answer.exit_status == 0


def test_deep_needs_fold_repeats_and_mark_cycles(web: System) -> None:
    answer = needs(web, ["a"], depth=None)
    assert told(answer.records) == [
        ("b", 1, "a", None),
        ("c", 2, "b", "folded"),
        ("c", 1, "a", None),
        ("f", 2, "c", None),
        ("a", 3, "f", "cycle"),
        ("d", 1, "a", None),
        ("d", 1, "a", None),
        ("e", 1, "a", None),
        (None, 2, "e", None),
    ]
    assert answer.summary.unmet == 1
    assert answer.exit_status == 1


@pytest.mark.parametrize(("depth", "deepest"), [(1, 1), (2, 2), (3, 3), (9, 3)])
def test_depth_is_a_limit(web: System, depth: int, deepest: int) -> None:
    assert max(row.depth for row in needs(web, ["a"], depth=depth).records) == deepest


def test_kinds_choose_the_ties(web: System) -> None:
    answer = needs(web, ["a"], kinds=frozenset({Relation.RECOMMENDS}))
    assert [(r.requirement, r.status) for r in answer.records] == [
        ("e", "met"),
        ("missing", "unmet"),
    ]
    assert answer.exit_status == 0  # what is only recommended may be missing


def test_an_unmet_need_is_bad_news(web: System) -> None:
    answer = needs(web, ["e"])
    assert [(r.name, r.requirement, r.status) for r in answer.records] == [
        (None, "gone (>= 3)", "unmet")
    ]
    assert answer.exit_status == 1


def test_needed_by_leaves_out_what_is_not_installed(web: System) -> None:
    answer = needed_by(web, ["b"])
    assert told(answer.records) == [("a", 1, "b", None)]


def test_needed_by_to_the_end(web: System) -> None:
    answer = needed_by(web, ["f"], depth=None)
    assert told(answer.records) == [
        ("c", 1, "f", None),
        ("a", 2, "c", None),
        ("f", 3, "a", "cycle"),
        ("b", 2, "c", None),
        ("a", 3, "b", "folded"),
    ]
    assert answer.summary.packages == 3


def test_several_subjects_are_told_apart(web: System) -> None:
    answer = needs(web, ["b", "c", "nobody"])
    assert [(s.name, s.records) for s in answer.summary.subjects] == [("b", 1), ("c", 1)]
    assert answer.exit_status == 1


def test_a_subject_that_is_not_installed_is_told(web: System) -> None:
    assert needs(web, ["left"]).notes == ["left is not installed"]


def test_a_long_chain_and_a_large_cycle(deb_root: DebRoot) -> None:
    for number in range(1500):
        deb_root.append(
            "var/lib/dpkg/status",
            f"Package: p{number}\nStatus: install ok installed\nVersion: 1\nArchitecture: all\n"
            f"Depends: p{(number + 1) % 1500}\n\n",
        )
    answer = needs(open_system(deb_root.path), ["p0"], depth=None)
    assert len(answer.records) == 1500
    assert answer.records[-1].repeat == "cycle"
    assert answer.summary.deepest == 1500


GRAPHS = st.dictionaries(
    st.integers(0, 8), st.lists(st.integers(0, 8), max_size=4, unique=True), min_size=1, max_size=9
)


@given(graph=GRAPHS)
def test_a_walk_reaches_what_a_plain_search_reaches(
    graph: dict[int, list[int]], tmp_path_factory: pytest.TempPathFactory
) -> None:
    root = DebRoot(tmp_path_factory.mktemp("graph"))
    for number, ends in graph.items():
        known = ", ".join(f"p{end}" for end in ends if end in graph)
        root.package(f"p{number}", Depends=known)
    start = min(graph)
    distance = {start: 0}
    queue = deque([start])
    while queue:
        here = queue.popleft()
        for end in graph[here]:
            if end in graph and end not in distance:
                distance[end] = distance[here] + 1
                queue.append(end)
    answer = needs(open_system(root.path), [f"p{start}"], depth=None)
    nearest: dict[str, int] = {}
    for row in answer.records:
        assert row.name is not None
        nearest[row.name] = min(row.depth, nearest.get(row.name, 99))
    nearest.pop(f"p{start}", None)
    assert nearest == {f"p{n}": steps for n, steps in distance.items() if n != start}
    for row in answer.records:
        assert row.name is not None
        assert int(row.name[1:]) in graph[int(row.via[1:])]


def test_the_station_stands_on_its_own_needs(heron: Path) -> None:
    system = open_system(str(heron))
    unmet = {
        (row.via, row.requirement)
        for package in system.packages
        if package.state.present
        for row in needs(system, [f"{package.name}:{package.architecture}"], kinds=HARD).records
        if row.status == "unmet"
    }
    assert unmet == {("lockgate-firmware", "libsluice3 (>= 3.2)")}
