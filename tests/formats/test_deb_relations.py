"""The grammar of needs: what is read, what is refused, and a round trip."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.formats.deb.relations import parse_capabilities, parse_needs, parse_term, write_term
from filigree.formats.relation_error import RelationError
from filigree.model.needs import Capability, Comparison, Relation, Term, terms_of


@pytest.mark.parametrize(
    ("text", "term"),
    [
        ("libbrine2", Term("libbrine2")),
        ("libbrine2 (>= 2.1~)", Term("libbrine2", Comparison.AT_LEAST, "2.1~")),
        ("libbrine2(<<1:2)", Term("libbrine2", Comparison.LESS, "1:2")),
        ("a (< 1)", Term("a", Comparison.AT_MOST, "1")),
        ("a (> 1)", Term("a", Comparison.AT_LEAST, "1")),
        ("a (>> 1)", Term("a", Comparison.GREATER, "1")),
        ("dulse:any", Term("dulse", None, None, "any")),
        ("dulse:native (= 3)", Term("dulse", Comparison.EQUAL, "3", "native")),
        ("a [amd64 arm64] <!nocheck>", Term("a")),
    ],
)
def test_terms(text: str, term: Term) -> None:
    assert parse_term(text) == term


def test_a_whole_field() -> None:
    needs = parse_needs("a (>= 1),\n b | c (= 2) , ,d:any", Relation.REQUIRES)
    assert [need.text for need in needs] == ["a (>= 1)", "b | c (= 2)", "d:any"]
    assert [len(list(terms_of(need.condition))) for need in needs] == [1, 2, 1]
    assert all(need.kind is Relation.REQUIRES for need in needs)


@pytest.mark.parametrize("text", ["a (", "a (>= )", "a b", "(>= 1)", "a | ", "a (~ 1)"])
def test_what_is_no_relation_is_refused(text: str) -> None:
    with pytest.raises(RelationError):
        parse_needs(text, Relation.REQUIRES)


def test_a_provided_name_has_a_version_only_where_it_is_exact() -> None:
    found = parse_capabilities("chart-viewer, fathom-api (= 1.4), odd (>= 2)")
    assert found == (
        Capability("chart-viewer"),
        Capability("fathom-api", "1.4"),
        Capability("odd"),
    )


NAMES = st.from_regex(r"[a-z0-9][a-z0-9+.-]{0,15}", fullmatch=True)
# What this field can say: the beginning of a version is another system's.
COMPARISONS = [comparison for comparison in Comparison if comparison is not Comparison.PREFIX]

TERMS = st.builds(
    lambda name, pair, architecture: Term(name, pair and pair[0], pair and pair[1], architecture),
    NAMES,
    st.none()
    | st.tuples(
        st.sampled_from(COMPARISONS), st.from_regex(r"[0-9][0-9a-z.+~:-]{0,9}", fullmatch=True)
    ),
    st.none() | st.sampled_from(["any", "native", "amd64"]),
)


@given(TERMS)
def test_a_term_survives_being_written(term: Term) -> None:
    assert parse_term(write_term(term)) == term


@given(st.lists(st.lists(TERMS, min_size=1, max_size=3), max_size=4))
def test_a_field_survives_being_written(groups: list[list[Term]]) -> None:
    text = ", ".join(" | ".join(write_term(term) for term in group) for group in groups)
    assert [
        list(terms_of(need.condition)) for need in parse_needs(text, Relation.REQUIRES)
    ] == groups


@given(st.text(max_size=60))
def test_any_text_is_needs_or_refused(text: str) -> None:
    try:
        needs = parse_needs(text, Relation.SUGGESTS)
    except RelationError:
        return
    assert all(list(terms_of(need.condition)) and need.text for need in needs)
