"""Relations between `arch` packages: a name, perhaps at versions, perhaps with what it is good for.

relation = name [operator version] [": " purpose]
operator = "<" | "<=" | "=" | ">=" | ">"
"""

import re
from typing import NamedTuple

from filigree.formats.relation_error import RelationError
from filigree.model.needs import Comparison, Term

_RELATION = re.compile(r"(?P<name>[^<>=\s]+)(?:(?P<operator><=|>=|=|<|>)(?P<version>[^<>=\s]\S*))?")


class OptionalNeed(NamedTuple):
    """A term, and what it is good for, None where that is not told."""

    term: Term
    purpose: str | None


def parse_relation(text: str) -> Term:
    """What a relation asks for. Raises RelationError.

    >>> str(parse_relation("brine>=2.1-1"))
    'brine (>= 2.1-1)'
    """
    match = _RELATION.fullmatch(text.strip())
    if match is None:
        raise RelationError(f"it is no relation: {text[:80]!r}")
    if match["operator"] is None:
        return Term(match["name"])
    return Term(match["name"], Comparison(match["operator"]), match["version"])


def parse_wish(text: str) -> OptionalNeed:
    """An optional relation: what stands behind the first colon and space is its purpose."""
    front, colon, purpose = text.partition(": ")
    return OptionalNeed(parse_relation(front.removesuffix(":")), purpose.strip() if colon else None)
