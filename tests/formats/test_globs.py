"""Globs out of the files of a system, as the shell's own manual tells them (glob(7))."""

import pytest

from filigree.formats.patterns import PatternError, Patterns, glob


def matches(pattern: str, text: str, parts: bool = False) -> bool:
    return Patterns([glob(pattern, parts)]).last(text) is not None


@pytest.mark.parametrize(
    ("pattern", "taken", "left"),
    [
        ("gull", ["gull"], ["gulls", "agull", "GULL", ""]),
        ("gull*", ["gull", "gulls", "gull/a"], ["agull"]),
        ("gul?", ["gull", "gul/"], ["gul", "gulls"]),
        ("[abc]x", ["ax", "cx"], ["dx", "x", "abcx"]),
        ("[!abc]x", ["dx", "!x"], ["ax", "cx", "x"]),
        ("[^abc]x", ["dx"], ["ax", "bx"]),
        ("[a-c]x", ["ax", "bx"], ["dx", "-x"]),
        ("[!a-c]x", ["dx", "-x"], ["bx"]),
        ("[]a]x", ["]x", "ax"], ["bx"]),
        ("[!]a]x", ["bx"], ["]x", "ax"]),
        ("[a-]x", ["ax", "-x"], ["bx"]),
        ("a.b+c", ["a.b+c"], ["axb+c", "a.bbc"]),
        ("ü*", ["über"], ["uber"]),
    ],
)
def test_what_a_glob_takes_and_leaves(pattern: str, taken: list[str], left: list[str]) -> None:
    assert [text for text in (*taken, *left) if matches(pattern, text)] == taken


def test_signs_stop_at_a_slash_where_that_is_asked() -> None:
    assert matches("/usr/*", "/usr/a/b")
    assert not matches("/usr/*", "/usr/a/b", parts=True)
    assert matches("/usr/*/b", "/usr/a/b", parts=True)
    assert not matches("/usr?a", "/usr/a", parts=True)


def test_the_last_that_matches_counts() -> None:
    asked = Patterns([glob("gull*"), glob("gulls"), glob("g*")])
    assert asked.last("gulls") == 2
    assert asked.last("heron") is None


def test_a_glob_that_is_too_long_is_none() -> None:
    with pytest.raises(PatternError):
        glob("a" * 100_000)
