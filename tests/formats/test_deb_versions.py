"""The order of versions: a table of hard pairs, and that it is a total order."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.formats.deb.versions import compare_versions, version_key

OLDER_NEWER = [
    ("1.0", "1.1"),
    ("1.9", "1.10"),
    ("1.0", "1.0.1"),
    ("1.0~rc1", "1.0"),
    ("1.0~~", "1.0~"),
    ("1.0~~a", "1.0~"),
    ("1.0~", "1.0"),
    ("1.0", "1.0a"),
    ("1.0a", "1.0b"),
    ("1.0a", "1.0+"),
    ("1.0", "1.0+b1"),
    ("1.0-1", "1.0-1+b1"),
    ("1.0-1", "1.0-1.1"),
    ("1.0-1~bpo1", "1.0-1"),
    ("9", "1:1"),
    ("1:9", "2:0"),
    ("1.0-9", "1.0.0-1"),
    ("1.0z", "1.0."),
    ("1.0Z", "1.0a"),
    ("2.0-1-1", "2.0-1-2"),
    ("0", "0a"),
    ("1a1", "1a2"),
    ("1.2.3", "1.2.3-1"),
    ("99999999999999999998", "99999999999999999999"),
    ("1.0.4-2", "1.0.10-1"),
    ("7.6-0", "7.6p2-4"),
]
SAME = [
    ("1.0", "1.0"),
    ("1.0", "0:1.0"),
    ("1.0", "1.0-0"),
    ("1.00", "1.0"),
    ("1.0-01", "1.0-1"),
    ("0", ""),
    ("1.0", "1."),
    ("1.0-0", "1.0-"),
    ("00000000000000000000001", "1"),
]


@pytest.mark.parametrize(("older", "newer"), OLDER_NEWER)
def test_known_pairs(older: str, newer: str) -> None:
    assert compare_versions(older, newer) == -1
    assert compare_versions(newer, older) == 1


@pytest.mark.parametrize(("one", "other"), SAME)
def test_versions_that_are_the_same(one: str, other: str) -> None:
    assert compare_versions(one, other) == 0


VERSIONS = st.text(st.sampled_from("0019aZ~+.-:"), max_size=9)


@given(VERSIONS, VERSIONS, VERSIONS)
def test_the_order_is_total(a: str, b: str, c: str) -> None:
    assert compare_versions(a, b) == -compare_versions(b, a)
    if compare_versions(a, b) <= 0 and compare_versions(b, c) <= 0:
        assert compare_versions(a, c) <= 0
    if compare_versions(a, b) == 0:
        assert compare_versions(a, c) == compare_versions(b, c)


@given(st.text(max_size=20), st.text(max_size=20))
def test_any_text_has_its_place(a: str, b: str) -> None:
    assert compare_versions(a, b) == -compare_versions(b, a)
    assert (compare_versions(a, b) == 0) == (version_key(a) == version_key(b))


def test_a_run_of_ten_thousand_digits_is_no_trouble() -> None:
    assert compare_versions("1" * 10_000, "2" + "0" * 9_999) == -1
