"""Words that are sought: where they are found, in which order, and what is said where nothing is."""

from pathlib import Path

import pytest

from filigree.model.errors import BadQuestion
from filigree.questions.commands.seek import FoundIn, seek
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import open_system
from tests.conftest import Run
from tests.making import DebRoot


@pytest.mark.parametrize("station", ["heron", "curlew"])
def test_the_name_goes_before_what_is_said_of_it(
    station: str, request: pytest.FixtureRequest
) -> None:
    with open_system(str(request.getfixturevalue(station))) as system:
        rows = seek(system, ["tide"]).records
        names = [row.name for row in rows]
        assert names[0] == "tidegauge"
        assert [row.rank for row in rows] == sorted(row.rank for row in rows)
        assert {"tide-essentials", "tidetables-calc"} < set(names[:5])
        assert names.index("quayside") > names.index("tide-essentials")
        by_name = {row.name: row for row in rows}
        assert by_name["tidetables"].candidate == "2026.3-1"
        assert by_name["tidegauge"].candidate is None
        assert not by_name["tide-essentials"].installed
        assert by_name["quayside"].rank == FoundIn.SUMMARY
        for row in rows:
            for find in row.matched:
                part = find.text[find.start : find.start + find.length]
                assert part.casefold() == "tide"


def test_every_word_must_be_found(heron: Path) -> None:
    with open_system(str(heron)) as system:
        assert [row.name for row in seek(system, ["window", "letters"]).records] == ["kittiwake"]
        assert [row.name for row in seek(system, ["WINDOW", "mudflat"]).records] == [
            "mudflat-window"
        ]
        assert seek(system, ["window", "halibut"]).exit_status == 1


def test_names_that_are_provided(heron: Path) -> None:
    with open_system(str(heron)) as system:
        rows = seek(system, ["mail-courier"], names_only=True).records
    assert {row.name: row.installed for row in rows} == {"gullpost": True, "kittiwake": False}
    assert {find.place for row in rows for find in row.matched} == {"a name that it provides"}


def test_only_names_only_what_is_installed_and_expressions(heron: Path) -> None:
    with open_system(str(heron)) as system:
        assert seek(system, ["window"], names_only=True).summary.count == 1
        here = seek(system, ["chart"], installed=True)
        assert all(row.installed for row in here.records)
        assert here.summary.scope == "installed"
        found = seek(system, ["^tide.*s$"], names_only=True, regex=True).records
        assert [row.name for row in found] == ["tidetables", "tide-essentials"]
        assert len(seek(system, ["tide"], limit=2).records) == 2
        with pytest.raises(BadQuestion):
            seek(system, ["("], regex=True)
        with pytest.raises(BadQuestion):
            seek(system, [" "])


def test_a_description_that_is_kept_apart_is_looked_into(heron: Path, curlew: Path) -> None:
    for root in (heron, curlew):
        with open_system(str(root)) as system:
            rows = seek(system, ["as the office ships it", "kittiwake"]).records
            assert [row.name for row in rows] == ["kittiwake"]
            assert rows[0].rank == FoundIn.DESCRIPTION
            (said,) = [find for find in rows[0].matched if find.place == "description"]
            assert said.text.startswith("This is kittiwake as the office ships it")


@pytest.mark.parametrize("word", ["tidegague", "kitiwake", "tide-esentials"])
def test_a_misspelt_word(heron: Path, word: str) -> None:
    with open_system(str(heron)) as system:
        answer = seek(system, [word])
    assert answer.exit_status == 1
    expected = {"tidegague": "tidegauge", "kitiwake": "kittiwake"}.get(word, "tide-essentials")
    assert f"did you mean {expected}" in answer.notes[0]


def test_signs_and_letters_of_any_kind(deb_root: DebRoot) -> None:
    deb_root.package("a%b", Description="Ebbe und Überflutung")
    deb_root.package("axb", Description="ebb_tide")
    with open_system(deb_root.path) as system:

        def names(*words: str) -> list[str]:
            return [row.name for row in seek(system, words).records]

        assert names("a%b") == ["a%b"]
        assert names("überflutung") == ["a%b"]
        assert names("b_t") == ["axb"]
        assert sorted(names("ebb")) == ["a%b", "axb"]


def test_it_is_marked_without_colour_too(run: Run, heron: Path, tmp_path: Path) -> None:
    done = run("seek", "weirgate", "--root", str(heron), "--format", "table",
               XDG_CACHE_HOME=str(tmp_path))  # fmt: skip
    assert done.stdout.startswith("«weirgate»")
    assert "0 of them installed" in done.stdout
    coloured = run("seek", "weirgate", "--root", str(heron), "--format", "table", "--color",
                   "always", XDG_CACHE_HOME=str(tmp_path))  # fmt: skip
    assert coloured.stdout.startswith("\x1b[1mweirgate\x1b[0m")


def test_the_cache_gives_the_same(heron: Path, tmp_path: Path) -> None:
    with open_system(str(heron)) as system:
        answers = [
            seek(system, ["tide"], options=RepositoryOptions(cache=cache)).records
            for cache in (None, str(tmp_path), str(tmp_path))
        ]
    assert answers[0] == answers[1] == answers[2]
