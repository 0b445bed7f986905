"""Hostile text is made fit to show, and nothing of it is lost."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.views.text import (
    count_words,
    decodable,
    escaped,
    listed,
    size_words,
    unescaped,
)

ANY = st.text(
    st.characters() | st.characters(categories=["Cs"]) | st.sampled_from("\\xu\x1b\n\udcff")
)


@pytest.mark.parametrize(
    ("hostile", "shown"),
    [
        ("plain", "plain"),
        ("\x1b[2J\x1b]0;owned\x07", "\\x1b[2J\\x1b]0;owned\\x07"),
        ("line\nend\ttab\r", "line\\x0aend\\x09tab\\x0d"),
        ("byte \udcff", "byte \\xff"),
        ("\u202egnp.exe", "\\u202egnp.exe"),
        ("zero\u200bwidth", "zero\\u200bwidth"),
        ("\x9b31m", "\\u009b31m"),
        ("unit\\x2dname", "unit\\\\x2dname"),
        ("back\\slash", "back\\slash"),
        ("[bold]not markup[/bold]", "[bold]not markup[/bold]"),
        ("żółw 漢字 é", "żółw 漢字 é"),
    ],
)
def test_what_is_shown(hostile: str, shown: str) -> None:
    assert escaped(hostile) == shown


@given(ANY)
def test_nothing_is_lost(text: str) -> None:
    assert unescaped(escaped(text)) == text
    assert unescaped(decodable(text)) == text


@given(ANY)
def test_nothing_dangerous_is_left(text: str) -> None:
    shown = escaped(text)
    assert shown.isprintable()
    decodable(text).encode("utf-8")


@pytest.mark.parametrize(
    ("size", "words"),
    [
        (None, ""),
        (0, "0 B"),
        (1023, "1023 B"),
        (1024, "1.0 KiB"),
        (150 * 1024, "150 KiB"),
        (5 * 1024**2, "5.0 MiB"),
        (3 * 1024**4, "3.0 TiB"),
    ],
)
def test_sizes(size: int | None, words: str) -> None:
    assert size_words(size) == words


def test_words() -> None:
    assert count_words(1, "path") == "1 path"
    assert count_words(12040, "path") == "12,040 paths"
    assert count_words(2, "is", "are") == "2 are"
    assert listed(["a", "b", "c"]) == "a, b and c"
    assert listed(["a"]) == "a"
