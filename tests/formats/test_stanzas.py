"""The stanza parser: what it reads, what it calls damage, and that it never fails otherwise."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.formats.damage import Damage
from filigree.formats.stanzas import Stanza, parse_stanza, read_stanzas


def read(text: bytes, piece: int = 7, limit: int = 1 << 20) -> list[Stanza | Damage]:
    return list(read_stanzas((text[at : at + piece] for at in range(0, len(text), piece)), limit))


def test_fields_continuations_and_line_numbers() -> None:
    found = read(
        b"\nPackage: tidegauge\nDescription: reads\n more\n .\n last\n\n\nPackage: foghorn\n"
    )
    assert found == [
        Stanza({"Package": "tidegauge", "Description": "reads\n more\n .\n last"}, 2),
        Stanza({"Package": "foghorn"}, 9),
    ]


def test_known_names_are_spelled_alike_and_unknown_ones_are_kept() -> None:
    (found,) = read(b"PACKAGE: a\ninstalled-size: 4\nX-tide-MARK: high\n")
    assert isinstance(found, Stanza)
    assert found.fields == {"Package": "a", "Installed-Size": "4", "X-tide-MARK": "high"}


@pytest.mark.parametrize(
    ("text", "line", "why"),
    [
        (b"Package: a\nno colon here\n", 2, "a line that is no field"),
        (b" starts with a space\n", 1, "a continuation line without a field"),
        (b"\n\nPackage: a\n\n: no name\n", 5, "a line that is no field"),
    ],
)
def test_a_damaged_stanza_costs_itself(text: bytes, line: int, why: str) -> None:
    found = read(text + b"\nPackage: next\n")
    assert Damage(line, why) in found
    assert isinstance(found[-1], Stanza)
    assert found[-1].fields == {"Package": "next"}


def test_a_field_given_twice_keeps_the_first_and_tells() -> None:
    (found,) = read(b"Package: a\nVersion: 1\nVersion: 2\n more\nArchitecture: all\n")
    assert isinstance(found, Stanza)
    assert found.fields["Version"] == "1"
    assert found.fields["Architecture"] == "all"
    assert found.damages == (Damage(3, "the field Version is given twice"),)


def test_bytes_that_are_not_utf8_survive() -> None:
    (found,) = read(b"Package: \xff\xfe\n")
    assert isinstance(found, Stanza)
    assert found.fields["Package"].encode("utf-8", "surrogateescape") == b"\xff\xfe"


@pytest.mark.parametrize("piece", [1, 3, 64, 4096])
def test_a_stanza_over_the_limit_is_dropped_and_the_next_is_read(piece: int) -> None:
    text = b"Package: a\n\nPackage: big\nField: " + b"x" * 5000 + b"\n\nPackage: b\n"
    found = read(text, piece, limit=1000)
    assert [type(one) for one in found] == [Stanza, Damage, Stanza]
    assert found[1].line == 3
    assert isinstance(found[2], Stanza)
    assert found[2].fields == {"Package": "b"}


NAMES = st.from_regex(r"[A-Za-z][A-Za-z0-9-]{0,12}", fullmatch=True)
VALUES = st.from_regex(r"[!-~](?:[ -~]{0,20}[!-~])?", fullmatch=True)


@given(
    st.lists(
        st.dictionaries(NAMES, VALUES, min_size=1, max_size=5).filter(
            lambda fields: len({name.lower() for name in fields}) == len(fields)
        ),
        max_size=6,
    ),
    st.integers(1, 50),
)
def test_what_was_written_is_read(stanzas: list[dict[str, str]], piece: int) -> None:
    text = "\n".join(
        "".join(f"{name}: {value}\n" for name, value in fields.items()) for fields in stanzas
    )
    found = read(text.encode(), piece)
    values = [list(one.fields.values()) for one in found if isinstance(one, Stanza)]
    assert values == [list(fields.values()) for fields in stanzas]


@given(st.binary(max_size=400), st.integers(1, 40), st.integers(1, 200))
def test_any_bytes_give_stanzas_or_damage(data: bytes, piece: int, limit: int) -> None:
    for found in read(data, piece, limit):
        assert isinstance(found, (Stanza, Damage))
        assert found.line <= data.count(b"\n") + 1


@given(st.binary(max_size=200), st.integers(1, 20), st.integers(21, 60))
def test_the_pieces_do_not_matter(data: bytes, one: int, other: int) -> None:
    assert read(data, one) == read(data, other)


def test_an_empty_block_is_an_empty_stanza() -> None:
    assert parse_stanza(b"") == Stanza({}, 1)
