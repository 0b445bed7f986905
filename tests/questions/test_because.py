"""Why a package is here, and what is left over."""

from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.model.needs import Relation
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.because import BecauseRow, StayStatus, because
from filigree.questions.commands.leftover import leftover
from filigree.questions.dependencies.ties import HARD
from filigree.system import open_system
from tests.making import DebRoot

AUTOMATIC = "/var/lib/apt/extended_states"


def automatic(root: DebRoot, *names: str) -> None:
    root.write(
        AUTOMATIC,
        "".join(f"Package: {n}\nArchitecture: amd64\nAuto-Installed: 1\n\n" for n in names),
    )


def why(root: str, *subjects: str, **options: object) -> list[BecauseRow]:
    with open_system(root) as system:
        return because(system, subjects, **options).records  # type: ignore[arg-type]


def chains(row: BecauseRow) -> list[str]:
    return [" ".join(step.name for step in chain.steps) for chain in row.chains]


@pytest.fixture
def several(deb_root: DebRoot) -> str:
    deb_root.package("chosen1", Depends="middle")
    deb_root.package("chosen2", Depends="other | nothing")
    deb_root.package("middle", Depends="low (>= 1)")
    deb_root.package("other", Pre_Depends="low")
    deb_root.package("low")
    deb_root.package("far", Depends="middle")
    deb_root.package("wished")
    deb_root.package("wisher", Recommends="wished")
    deb_root.package("hinted")
    deb_root.package("hinter", Suggests="hinted")
    deb_root.package("loose", Depends="below")
    deb_root.package("below")
    deb_root.package("ring1", Depends="ring2")
    deb_root.package("ring2", Depends="ring1")
    deb_root.package("base", Essential="yes")
    automatic(
        deb_root, "middle", "other", "low", "wished", "hinted", "loose", "below", "ring1", "ring2",
        "base",
    )  # fmt: skip
    return deb_root.path


def test_chains_are_independent_and_the_shortest_first(several: str) -> None:
    (row,) = why(several, "low")
    assert chains(row) == ["chosen1 middle low", "chosen2 other low"]
    assert row.words == "2 independent chains lead to it"
    steps = row.chains[1].steps
    assert [(s.name, s.kind, s.requirement) for s in steps] == [
        ("chosen2", "requires", "other | nothing"),
        ("other", "requires-first", "low"),
        ("low", None, None),
    ]
    (row,) = why(several, "low", limit=1)
    assert row.more
    assert row.words == "more than 1 independent chains lead to it"


@pytest.mark.parametrize(
    ("subject", "status", "words"),
    [
        ("chosen1", StayStatus.CHOSEN, "it was chosen itself"),
        (
            "wished",
            StayStatus.WISHED,
            "it is only recommended: nothing that was chosen requires it",
        ),
        ("hinted", StayStatus.WISHED, "it is only suggested: nothing that was chosen requires it"),
        ("loose", StayStatus.LEFT_OVER, "nothing needs it any more"),
        ("below", StayStatus.LEFT_OVER, "only loose needs it, which nothing chosen stands on"),
        ("ring1", StayStatus.LEFT_OVER, "only ring2 needs it, which nothing chosen stands on"),
        ("base", StayStatus.PROTECTED, "it is protected, and no chosen package needs it"),
    ],
)
def test_in_words(several: str, subject: str, status: StayStatus, words: str) -> None:
    (row,) = why(several, subject)
    assert (row.status, row.words) == (status, words)


def test_what_is_not_installed(heron: Path) -> None:
    with open_system(str(heron)) as system:
        (row,) = because(system, ["kittiwake"], scope=Scope.ANY).records
    assert row.status is StayStatus.NOT_INSTALLED
    assert chains(row) == ["tidegauge kittiwake"]
    assert row.chains[0].steps[0].kind is Relation.RECOMMENDS


def test_what_is_not_installed_is_found_unasked(heron: Path, several: str) -> None:
    (row,) = why(str(heron), "kittiwake")
    assert row.status is StayStatus.NOT_INSTALLED
    assert chains(row) == ["tidegauge kittiwake"]
    # Without any repository the name alone does.
    (row,) = why(several, "nothing")
    assert chains(row) == ["chosen2 nothing"]
    assert (row.version, row.status) == ("", StayStatus.NOT_INSTALLED)
    assert why(several, "nobody-names-this") == []


def test_at_curlew_what_is_wanted_backwards_keeps_too(curlew: Path) -> None:
    (row,) = why(str(curlew), "libbrine2")
    assert row.status is StayStatus.NEEDED
    assert all(chain.steps[-1].name == "libbrine2" for chain in row.chains)


def test_what_is_left_over_hangs_together(several: str) -> None:
    with open_system(several) as system:
        answer = leftover(system)
        rows = {row.name: row for row in answer.records}
        assert set(rows) == {"loose", "below", "ring1", "ring2"}
        assert rows["loose"].leaf
        assert rows["below"].needed_by == ["loose"]
        assert rows["loose"].cluster == rows["below"].cluster != rows["ring1"].cluster
        assert rows["ring1"].island
        assert rows["ring2"].island
        assert not rows["below"].island
        assert answer.summary.clusters == 2
        assert [row.name for row in leftover(system, leaf=True).records] == ["loose"]
        # By what is required alone, wishes keep nothing.
        names = {row.name for row in leftover(system, HARD).records}
        assert names == {"loose", "below", "ring1", "ring2", "wished", "hinted"}


def test_of_whose_reason_nothing_tells_it_is_taken_as_chosen(deb_root: DebRoot) -> None:
    deb_root.package("a")
    with open_system(deb_root.path) as system:
        answer = leftover(system)
        assert answer.records == []
        assert answer.summary.reasons_unknown == 1
        (row,) = because(system, ["a"]).records
        assert row.words == "the records do not say why it is here"


edges = st.lists(st.tuples(st.integers(0, 7), st.integers(0, 7)), max_size=18)


@given(edges, st.sets(st.integers(0, 7), max_size=4))
def test_left_over_and_kept_is_everything_and_chains_are_real(
    tmp_path_factory: pytest.TempPathFactory, links: list[tuple[int, int]], chosen: set[int]
) -> None:
    root = DebRoot(tmp_path_factory.mktemp("root"))
    needs = {n: {other for one, other in links if one == n and other != n} for n in range(8)}
    for number in range(8):
        root.package(f"p{number}", Depends=", ".join(f"p{other}" for other in needs[number]))
    automatic(root, *(f"p{number}" for number in range(8) if number not in chosen))
    kept, front = set(chosen), list(chosen)
    while front:
        for other in needs[front.pop()]:
            if other not in kept:
                kept.add(other)
                front.append(other)
    with open_system(root.path) as system:
        names = {int(row.name[1:]) for row in leftover(system).records}
        assert names == set(range(8)) - kept
        for row in because(system, [f"p{number}" for number in range(8)], 9).records:
            number = int(row.subject[1:])
            assert (row.status is StayStatus.LEFT_OVER) is (number in names)
            seen: list[int] = []
            for chain in row.chains:
                steps = [int(step.name[1:]) for step in chain.steps]
                assert steps[0] in chosen
                assert steps[-1] == number
                assert all(b in needs[a] for a, b in pairwise(steps))
                seen += steps[:-1]
            assert len(seen) == len(set(seen)), "the chains share nothing on the way"


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("", set()),
        ('APT::AutoRemove::RecommendsImportant "false";', {"wished"}),
        ('Apt { AutoRemove { SuggestsImportant "no"; }; };', {"hinted"}),
        ('APT::AutoRemove { RecommendsImportant "0"; SuggestsImportant "off"; };', {"wished", "hinted"}),
        ('APT::AutoRemove::SuggestsImportant "true";', set()),
    ],
)  # fmt: skip
def test_the_systems_own_settings_say_what_keeps(
    several: str, text: str, expected: set[str]
) -> None:
    always = {"loose", "below", "ring1", "ring2"}
    folder = Path(several) / "etc/apt/apt.conf.d"
    folder.mkdir(parents=True)
    (folder / "20keep").write_text(text)
    (folder / "20keep.save").write_text('APT::AutoRemove::RecommendsImportant "false";')
    with open_system(several) as system:
        answer = leftover(system)
        assert {row.name for row in answer.records} == always | expected
        assert answer.summary.by_default


def test_what_is_never_left_over(several: str) -> None:
    folder = Path(several) / "etc/apt"
    folder.mkdir(parents=True)
    (folder / "apt.conf").write_text(
        'APT { NeverAutoRemove { "^loo"; "("; }; };\nAPT::NeverAutoRemove:: "ring1$";\n'
    )
    with open_system(several) as system:
        answer = leftover(system)
        assert answer.records == []
        assert [gap.what for gap in answer.gaps] == [
            "which packages are never left over by ( in the settings"
        ]


@pytest.mark.parametrize("pattern", [r"(a)\1*", "(?=a*)b", "(?<!b)a", "a" * 1100])
def test_a_pattern_that_is_not_matched_in_one_look_is_a_gap(
    deb_root: DebRoot, pattern: str
) -> None:
    deb_root.package("a" * 60)
    automatic(deb_root, "a" * 60)
    deb_root.write("/etc/apt/apt.conf", f'APT::NeverAutoRemove:: "{pattern}";\n')
    with open_system(deb_root.path) as system:
        answer = leftover(system)
        assert [row.name for row in answer.records] == ["a" * 60]
        (gap,) = answer.gaps
        assert "cannot be matched in one look" in gap.why or "more than 1,024" in gap.why


@pytest.mark.parametrize("pattern", ["(a+)+$", "(a|a)*$", "a*a*a*a*a*a*a*$"])
@pytest.mark.usefixtures("ended_in_time")
def test_a_pattern_that_others_would_try_without_end_is_matched(
    deb_root: DebRoot, pattern: str
) -> None:
    for name in ("a" * 60, "a" * 60 + "b"):
        deb_root.package(name)
    automatic(deb_root, "a" * 60, "a" * 60 + "b")
    deb_root.write("/etc/apt/apt.conf", f'APT::NeverAutoRemove:: "^{pattern}";\n')
    with open_system(deb_root.path) as system:
        assert [row.name for row in leftover(system).records] == ["a" * 60 + "b"]
