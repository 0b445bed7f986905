"""Relations between `apk` packages: a name, perhaps at versions, of a tag, or to be absent.

    relation = ["!"] name ["@" tag] [comparison version] ["@" tag]
    comparison = "<" | "<=" | "=" | ">=" | ">" | "~" | "=~" | "~=" | "><"

They stand in one line with blanks between. The last comparison is with the identity of a package (its
digest as it stands on record), and not with a version.
"""

import re
from collections.abc import Iterator
from typing import NamedTuple

from filigree.formats.relation_error import RelationError
from filigree.model.needs import Comparison, Term

_RELATION = re.compile(
    r"(?P<away>!?)(?P<name>[^\s<>=~@!]+)(?:@(?P<early>[^\s<>=~@]+))?"
    r"(?:(?P<sign>><|=~|~=|<=|>=|[<>=~])(?P<version>[^\s<>=~@][^\s@]*))?(?:@(?P<tag>[^\s@]+))?"
)
_IDENTITY = "><"
_LIMIT = 4096
"""Signs of one relation."""


class PackageRelation(NamedTuple):
    """What a relation asks for; `away` is whether it must be absent, `tag` the repositories' that it may
    come from, `identity` the digest of the one package that it can be."""

    term: Term
    away: bool = False
    tag: str | None = None
    identity: str | None = None


def parse_relation(text: str) -> PackageRelation:
    """What a relation asks for. Raises RelationError.

    >>> parse_relation("brine@shoal>=2.1").term
    Term(name='brine', comparison=<Comparison.AT_LEAST: '>='>, version='2.1', architecture=None)
    """
    match = _RELATION.fullmatch(text) if len(text) <= _LIMIT else None
    if match is None:
        raise RelationError(f"it is no relation: {text[:80]!r}")
    tag = match["tag"] or match["early"]
    sign, version = match["sign"], match["version"]
    if sign == _IDENTITY:
        return PackageRelation(Term(match["name"]), bool(match["away"]), tag, version)
    if sign is None:
        return PackageRelation(Term(match["name"]), bool(match["away"]), tag)
    comparison = Comparison.PREFIX if "~" in sign else Comparison(sign)
    return PackageRelation(Term(match["name"], comparison, version), bool(match["away"]), tag)


def relations_in(text: str) -> Iterator[PackageRelation | RelationError]:
    """Every relation of a line, or of a file; a RelationError in the place of one that does not parse."""
    for word in text.split():
        try:
            yield parse_relation(word)
        except RelationError as error:
            yield error
