"""Relations with flags and rich expressions: what they say, and what is none."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from filigree.formats.relation_error import RelationError
from filigree.formats.rpm.relations import EQUAL, GREATER, LESS, condition_of, parse_rich, written
from filigree.model.needs import Combined, Comparison, Condition, Join, Term, terms_of

A, B, C = Term("a"), Term("b"), Term("c")


@pytest.mark.parametrize(
    ("text", "condition"),
    [
        ("(a)", A),
        ("(a and b)", Combined(Join.AND, (A, B))),
        ("( a  or b or c )", Combined(Join.OR, (A, B, C))),
        ("(a if b)", Combined(Join.IF, (A, B))),
        ("(a if b else c)", Combined(Join.IF, (A, B, C))),
        ("(a unless b else c)", Combined(Join.UNLESS, (A, B, C))),
        ("(a with b)", Combined(Join.WITH, (A, B))),
        ("(a without b)", Combined(Join.WITHOUT, (A, B))),
        (
            "(a >= 1:2-3 and (b or c))",
            Combined(
                Join.AND,
                (Term("a", Comparison.AT_LEAST, "1:2-3"), Combined(Join.OR, (B, C))),
            ),
        ),
        (
            "(libx.so.1()(64bit) or config(x) < 2)",
            Combined(
                Join.OR,
                (Term("libx.so.1()(64bit)"), Term("config(x)", Comparison.LESS, "2")),
            ),
        ),
        ("(pkgconfig(x and) or b)", None),
        ("(android or b)", Combined(Join.OR, (Term("android"), B))),
    ],
)
def test_rich_expressions(text: str, condition: Condition | None) -> None:
    if condition is None:
        with pytest.raises(RelationError):
            parse_rich(text)
    else:
        assert parse_rich(text) == condition


@pytest.mark.parametrize(
    "text",
    ["", "a", "(", "()", "(a", "(a b)", "(a and)", "(a and b or c)", "(a if b if c)", "(a) b",
     "(a >= )", "(a else b)", "(" * 60 + "a" + ")" * 60, "(a and b))"],
)  # fmt: skip
def test_what_is_no_expression(text: str) -> None:
    with pytest.raises(RelationError):
        parse_rich(text)


@pytest.mark.parametrize(
    ("flags", "version", "text", "term"),
    [
        (0, "", "a", A),
        (GREATER | EQUAL, "1", "a >= 1", Term("a", Comparison.AT_LEAST, "1")),
        (LESS, "1", "a < 1", Term("a", Comparison.LESS, "1")),
        (EQUAL, "", "a", A),
        (EQUAL | 1 << 28, "1-2", "a = 1-2", Term("a", Comparison.EQUAL, "1-2")),
    ],
)
def test_flags_and_versions(flags: int, version: str, text: str, term: Term) -> None:
    assert written("a", flags, version) == text
    assert condition_of("a", flags, version) == term


NAMES = st.from_regex(r"[a-z][a-z0-9.+-]{0,8}(\([a-z0-9-]{0,5}\)){0,2}", fullmatch=True).filter(
    lambda name: name not in {*Join, "else"}
)
# What this field can say: the beginning of a version is another system's.
COMPARISONS = [comparison for comparison in Comparison if comparison is not Comparison.PREFIX]

TERMS = st.builds(
    lambda name, how, version: Term(name, how, version) if how else Term(name),
    NAMES,
    st.none() | st.sampled_from(COMPARISONS),
    st.from_regex(r"[0-9][0-9a-z.~^-]{0,6}", fullmatch=True),
)


def joined(inner: st.SearchStrategy[Condition]) -> st.SearchStrategy[Condition]:
    many = st.sampled_from([Join.AND, Join.OR, Join.WITH, Join.WITHOUT])
    few = st.sampled_from([Join.IF, Join.UNLESS])
    return st.builds(
        Combined, many, st.lists(inner, min_size=2, max_size=4).map(tuple)
    ) | st.builds(Combined, few, st.lists(inner, min_size=2, max_size=3).map(tuple))


@given(joined(st.recursive(TERMS, joined, max_leaves=8)))
def test_what_is_written_is_read_again(condition: Condition) -> None:
    assert parse_rich(_text(condition)) == condition


def _text(condition: Condition) -> str:
    if isinstance(condition, Term):
        version = f" {condition.comparison} {condition.version}" if condition.comparison else ""
        return condition.name + version
    words = [_text(part) for part in condition.parts]
    if condition.join in (Join.IF, Join.UNLESS):
        other = f" else {words[2]}" if len(words) > 2 else ""
        return f"({words[0]} {condition.join} {words[1]}{other})"
    return f"({f' {condition.join} '.join(words)})"


@given(st.text(alphabet="ab() <=>1ndorifwthuesl", max_size=60))
def test_any_text_is_a_condition_or_an_error(text: str) -> None:
    try:
        condition = parse_rich(text)
    except RelationError:
        return
    assert list(terms_of(condition))
