"""Census and survey: filters, order, counts, totals."""

from datetime import UTC, datetime
from pathlib import Path

import pytest

from filigree import paths
from filigree.model.errors import BadQuestion
from filigree.model.package import Reason, State
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.census import (
    CensusSummary,
    Filter,
    Matching,
    Order,
    census,
    name_filter,
)
from filigree.questions.commands.survey import survey
from filigree.system import open_system
from tests.making import DebRoot

NAMES = ["tide", "tide-data", "tidetables", "libtide2", "Low-Tide", "foghorn"]


@pytest.mark.parametrize(
    ("match", "patterns", "found"),
    [
        (
            Matching.SUBSTRING,
            ("tide",),
            ["tide", "tide-data", "tidetables", "libtide2", "Low-Tide"],
        ),
        (Matching.WORD, ("tide",), ["tide", "tide-data", "Low-Tide"]),
        (Matching.EXACT, ("tide", "foghorn"), ["tide", "foghorn"]),
        (Matching.GLOB, ("tide*",), ["tide", "tide-data", "tidetables"]),
        (Matching.GLOB, ("*tide",), ["tide"]),
        (Matching.GLOB, ("tide-[a-d]*",), ["tide-data"]),
        (Matching.REGEX, ("^tide$|horn$",), ["tide", "foghorn"]),
        (Matching.REGEX, ("[0-9]",), ["libtide2"]),
        (Matching.SUBSTRING, ("t.de",), []),
        (Matching.SUBSTRING, (), NAMES),
    ],
)
def test_patterns(match: Matching, patterns: tuple[str, ...], found: list[str]) -> None:
    fits = name_filter(patterns, match)
    assert [name for name in NAMES if fits(name)] == found


def test_a_pattern_that_does_not_parse_is_a_bad_question() -> None:
    with pytest.raises(BadQuestion):
        name_filter(("(",), Matching.REGEX)


@pytest.fixture
def station(deb_root: DebRoot) -> DebRoot:
    deb_root.package("a", Installed_Size="10", Section="net")
    deb_root.package("b", Installed_Size="30", Section="science", status="hold ok installed")
    deb_root.package("c", Installed_Size="20", Section="net/web", architecture="all")
    deb_root.package("d", Installed_Size="20", status="install ok half-configured")
    deb_root.package("e", Installed_Size="99", status="deinstall ok config-files")
    deb_root.package("f", status="purge ok not-installed")
    deb_root.write(
        "var/lib/apt/extended_states", "Package: b\nArchitecture: amd64\nAuto-Installed: 1\n\n"
    )
    return deb_root


@pytest.mark.parametrize(
    ("wanted", "found"),
    [
        (Filter(), "abcd"),
        (Filter(reason=Reason.DEPENDENCY), "b"),
        (Filter(reason=Reason.CHOSEN), "acd"),
        (Filter(held=True), "b"),
        (Filter(states=frozenset({State.CONFIGURATION_LEFT})), "e"),
        (Filter(states=frozenset({State.HALF_CONFIGURED, State.NOT_INSTALLED})), "df"),
        (Filter(sections=("net*",)), "ac"),
        (Filter(sections=("net",)), "a"),
        (Filter(architectures=("all",)), "c"),
        (Filter(patterns=("b",), held=True), "b"),
    ],
)
def test_filters(station: DebRoot, wanted: Filter, found: str) -> None:
    answer = census(open_system(station.path), wanted)
    assert "".join(row.name for row in answer.records) == found
    assert answer.summary.count == len(found)
    assert not answer.bad_news


@pytest.mark.parametrize(
    ("order", "reverse", "found"),
    [
        (Order.NAME, False, "abcd"),
        (Order.NAME, True, "dcba"),
        (Order.SIZE, False, "bcda"),
        (Order.SIZE, True, "acdb"),
        (Order.SECTION, False, "dacb"),
    ],
)
def test_orders(station: DebRoot, order: Order, reverse: bool, found: str) -> None:
    answer = census(open_system(station.path), Filter(), order, reverse)
    assert "".join(row.name for row in answer.records) == found


def test_totals_count_all_even_where_few_are_shown(station: DebRoot) -> None:
    answer = census(open_system(station.path), limit=1)
    assert len(answer.records) == 1
    assert answer.summary == CensusSummary(
        count=4,
        shown=1,
        installed_size=80 * 1024,
        states={"installed": 3, "half-configured": 1},
        reasons={"chosen": 3, "dependency": 1},
        held=1,
        configuration_left=1,
        scope=Scope.INSTALLED,
    )


def test_no_match_is_bad_news(station: DebRoot) -> None:
    answer = census(open_system(station.path), Filter(patterns=("nothing",)))
    assert answer.exit_status == 1


def test_a_survey_of_the_station(heron: Path) -> None:
    system = open_system(str(heron))
    now = datetime(2026, 2, 28, 21, 30, tzinfo=UTC)
    (found,) = survey(system, now).records
    assert found.label == "Sallow Coast Tide Office, station heron"
    assert (found.family, found.architecture) == ("deb", "amd64")
    assert sum(found.states.values()) == len(system.packages)
    assert found.held_packages == ["foghorn"]
    assert found.troubled_packages == ["gullpost", "lockgate-firmware"]
    assert found.age_days == 26
    assert len(found.biggest) == 10
    sizes = [weight.installed_size or 0 for weight in found.biggest]
    assert sizes == sorted(sizes, reverse=True)
    assert survey(system).exit_status == 1


def test_the_survey_counts_paths_as_the_lists_do(heron: Path) -> None:
    lines = [
        line
        for path in (heron / "var/lib/dpkg/info").glob("*.list")
        for line in path.read_text().splitlines()
    ]
    (found,) = survey(open_system(str(heron))).records
    assert (found.paths, found.distinct_paths) == (len(lines), len(set(lines)))


def test_of_very_many_paths_as_many_are_counted(
    heron: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Some of them at a time, and by their hashes."""
    with open_system(str(heron)) as system:
        usual = system.paths.count()
    for at_once in (1, 7, usual[1] - 1, usual[1]):
        monkeypatch.setattr(paths, "_AT_ONCE", at_once)
        with open_system(str(heron)) as system:
            assert system.paths.count() == usual
