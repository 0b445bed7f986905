"""Relations between `deb` packages.

    needs  = group *("," group)
    group  = term *("|" term)
    term   = name [":" qualifier] ["(" operator version ")"] ["[" … "]"] *("<" … ">")

Follows the Debian Policy Manual, sections 7.1 (syntax) and 7.5 (virtual packages). The old
operators `<` and `>` mean `<=` and `>=`.
"""

import re
from functools import lru_cache

from filigree.formats.relation_error import RelationError
from filigree.model.limits import NAME_LIMIT, VERSION_LIMIT
from filigree.model.needs import Capability, Comparison, Need, Relation, Term, any_of, terms_of

_TERM = re.compile(
    r"\s*(?P<name>[^\s()\[\]<>:|,]+)(?::(?P<qualifier>[A-Za-z0-9-]+))?"
    r"\s*(?:\(\s*(?P<operator><<|<=|=|>=|>>|<|>)\s*(?P<version>[^\s()<>=|,]+)\s*\))?"
    r"\s*(?:\[[^\]]*\])?\s*(?:<[^>]*>\s*)*"
)
_COMPARISONS = {
    "<<": Comparison.LESS,
    "<=": Comparison.AT_MOST,
    "<": Comparison.AT_MOST,
    "=": Comparison.EQUAL,
    ">=": Comparison.AT_LEAST,
    ">": Comparison.AT_LEAST,
    ">>": Comparison.GREATER,
}
_OPERATORS = {
    Comparison.LESS: "<<",
    Comparison.AT_MOST: "<=",
    Comparison.EQUAL: "=",
    Comparison.AT_LEAST: ">=",
    Comparison.GREATER: ">>",
}


def parse_needs(text: str, kind: Relation) -> tuple[Need, ...]:
    """A whole field: the needs in their order, each with its text as written."""
    found = []
    for group in text.split(","):
        written = " ".join(group.split())
        if "|" in written:
            terms = tuple(parse_term(term) for term in written.split("|"))
            found.append(Need(kind, any_of(terms), written))
        elif written:
            found.append(Need(kind, parse_term(written), written))
    return tuple(found)


@lru_cache(maxsize=1 << 16)
def parse_term(text: str) -> Term:
    """One term of a group."""
    match = _TERM.fullmatch(text) if len(text) <= NAME_LIMIT + VERSION_LIMIT else None
    if match is None:
        raise RelationError(f"not a relation: {text.strip()[:80]!r}")
    operator = match["operator"]
    comparison = _COMPARISONS[operator] if operator else None
    return Term(match["name"], comparison, match["version"], match["qualifier"])


def parse_capabilities(text: str) -> tuple[Capability, ...]:
    """What a field of provided names offers; a version counts only where it is given with `=`."""
    found = []
    for need in parse_needs(text, Relation.REQUIRES):
        for term in terms_of(need.condition):
            exact = term.comparison is Comparison.EQUAL
            found.append(Capability(term.name, term.version if exact else None))
    return tuple(found)


def write_term(term: Term) -> str:
    """A term in the field's own notation: `parse_term` gives it back."""
    name = f"{term.name}:{term.architecture}" if term.architecture else term.name
    return f"{name} ({_OPERATORS[term.comparison]} {term.version})" if term.comparison else name
