"""Texts and identities of tables: reversible, and the same for the same alone."""

import os

from hypothesis import given
from hypothesis import strategies as st

from filigree.fleet.asked import like_of
from filigree.fleet.form import BY_NAME, PARTS, TABLES
from filigree.fleet.identity import identity_of, number_of, path_of, text_of

PATHS = st.binary(max_size=40).map(os.fsdecode) | st.text(max_size=40)


@given(PATHS)
def test_a_text_is_undone_by_path_of_and_any_engine_takes_it(path: str) -> None:
    text = text_of(path)
    assert path_of(text) == path
    assert text.encode().decode() == text  # it is UTF-8
    assert all(ord(sign) >= 32 for sign in text)


@given(PATHS, PATHS)
def test_no_two_paths_have_one_text(one: str, other: str) -> None:
    assert (text_of(one) == text_of(other)) is (one == other)


def test_what_stands_in_a_path_as_it_is_read_back_is_no_other_path() -> None:
    assert text_of(r"/srv/\x80") != text_of("/srv/\udc80")
    assert text_of("/srv/\udc80") == r"/srv/\x80"


@given(st.lists(st.tuples(st.text(max_size=5), st.integers() | st.none()), max_size=5))
def test_an_identity_is_of_rows_in_their_order(rows: list[tuple[str, int | None]]) -> None:
    assert identity_of(rows) == identity_of(list(rows))
    assert identity_of([*rows, ("", None)]) != identity_of(rows)


def test_rows_that_only_look_alike_have_other_identities() -> None:
    told: list[list[tuple[str | None, ...]]] = [
        [("a", "b")],
        [("ab",)],
        [("a",), ("b",)],
        [('a","b',)],
        [("a", None)],
        [("a", "null")],
    ]
    assert len({identity_of(list(rows)) for rows in told}) == len(told)


@given(st.integers())
def test_numbers_are_of_64_bits_or_none(number: int) -> None:
    held = -(1 << 63) < number < 1 << 63
    assert number_of(number) == (number if held else None)


def test_every_table_is_declared_as_it_is_used() -> None:
    for table in TABLES:
        assert table.key in table.names
        assert set(table.order) <= set(table.names)
        assert len(set(table.names)) == len(table.names)
        assert all(one.means for one in table.columns)
    assert set(PARTS) <= set(BY_NAME)
    assert set(PARTS) <= set(BY_NAME["snapshots"].names)


def test_a_glob_is_a_pattern_in_which_everything_else_stands_for_itself() -> None:
    assert like_of("100%_!*?") == "100!%!_!!%_"
