"""Tables fit the window, and lose nothing."""

import re

from hypothesis import given
from hypothesis import strategies as st

from filigree.views.page import Column, Ink, Piece, Style, cells, line

COLUMNS = (Column("name", wrap=True), Column("size", right=True), Column("summary", wrap=True))
ROWS = [["tidegauge", "200 KiB", "Reads the tide gauge and writes what it says"], ["a", "1 B", ""]]


def table(width: int, colour: bool = False) -> list[str]:
    return list(Ink(colour, width).table(COLUMNS, ROWS))


def test_a_wide_window() -> None:
    assert table(200) == [
        "name          size  summary",
        "tidegauge  200 KiB  Reads the tide gauge and writes what it says",
        "a              1 B",
    ]


def test_a_narrow_window_breaks_at_words() -> None:
    assert table(42) == [
        "name          size  summary",
        "tidegauge  200 KiB  Reads the tide gauge",
        "                    and writes what it",
        "                    says",
        "a              1 B",
    ]


def test_a_path_breaks_behind_a_slash() -> None:
    ink = Ink(False, 24)
    shown = list(ink.table((Column("", wrap=True),), [["/usr/share/tidetables/spring-01.tbl"]]))
    assert shown == ["/usr/share/tidetables/", "spring-01.tbl"]


def test_colour_says_nothing_that_words_do_not() -> None:
    row: list[str | Piece] = [Piece("altered", Style.BAD), "x", Piece("y", Style.FAINT)]
    plain = list(Ink(False, 80).table(COLUMNS, [row]))
    coloured = list(Ink(True, 80).table(COLUMNS, [row]))
    assert any("\x1b[" in text for text in coloured)
    assert [re.sub(r"\x1b\[[0-9;]*m", "", text).rstrip() for text in coloured] == plain


def test_wide_signs_take_two_cells() -> None:
    assert cells("漢字") == 4
    assert cells("e\u0301") == 1
    shown = list(Ink(False, 80).table((Column("a"), Column("b")), [["漢字", "x"], ["abcd", "y"]]))
    assert shown == ["a     b", "漢字  x", "abcd  y"]


TEXTS = st.text(st.characters(codec="utf-8", exclude_characters=" /\u3000"), max_size=30)


@given(st.lists(st.tuples(TEXTS, TEXTS), min_size=1, max_size=5), st.integers(30, 90))
def test_any_cells_fit_and_survive(rows: list[tuple[str, str]], width: int) -> None:
    ink = Ink(False, width)
    columns = (Column("one", wrap=True), Column("two", wrap=True))
    shown = list(ink.table(columns, rows))
    assert all(cells(text) <= width for text in shown)
    from filigree.views.text import escaped

    sizes = sum(len(escaped(cell).replace(" ", "")) for row in rows for cell in row)
    assert sum(len(text.replace(" ", "")) for text in shown[1:]) == sizes


@given(st.text(max_size=80), st.integers(20, 60))
def test_flowed_lines_fit_where_words_do(text: str, width: int) -> None:
    shown = list(Ink(False, width).flowed(line("  ", text), 4))
    longest = max((cells(word) for part in shown for word in part.split(" ")), default=0)
    assert all(cells(part) <= max(width, longest + 4) for part in shown)


def test_names_are_broken_last_and_at_their_own_joints() -> None:
    columns = (Column("", wrap=True), Column("", wrap=True), Column(""), Column("", wrap=True))
    words = "it would be taken by the rules of the repository of the coast"
    rows = [
        ["coast-certificates", "20260115-1", "", words],
        ["libmussel5", "5.36.1~rc2-1+fix1", "", words],
    ]
    out = list(Ink(False, 60).table(columns, rows))
    assert all(cells(line) <= 60 for line in out)
    # A column in which nothing stands takes no room, unless it has a title.
    assert out[0].startswith("coast-certificates  20260115-1         it would be")
    narrow = "\n".join(Ink(False, 30).table(columns[:2], [row[:2] for row in rows]))
    whole = ("coast-certificates", "20260115-1", "libmussel5", "5.36.1~rc2-1+fix1")
    for part in narrow.split():
        assert part[-1] in "-+~." or any(one.endswith(part) for one in whole), narrow
    assert {"coast-", "certificates"} <= set(narrow.split())
