"""Needs of `slackware` packages, as some repositories and archives tell them.

    list     = need *( "," need )            in a field; in a file a need a line, `#` starts a remark
    need     = choice *( "|" choice )
    choice   = name [ operator version ]     ( "<" | "<=" | "=" | ">=" | ">" )

A version may be written as in a label, `version-architecture-build`: the architecture is left out of it.
"""

import re
from collections.abc import Iterator

from filigree.formats.slackware.names import split_label
from filigree.model.needs import Comparison, Condition, Term, any_of

_CHOICE = re.compile(r"([^\s<>=|,]+)\s*(?:(<=|>=|==|=|<|>)\s*([^\s<>=|,]+))?")
_LIMIT = 4096


class NeedError(ValueError):
    """A need that does not parse."""


def parse_need(text: str) -> Condition:
    """One need. Raises NeedError.

    >>> str(parse_need("dulse | pebbles >= 9.0-x86_64-2"))
    '(dulse or pebbles (>= 9.0-2))'
    """
    if len(text) > _LIMIT:
        raise NeedError("a need that is unreasonably long")
    found = []
    for choice in text.split("|"):
        match = _CHOICE.fullmatch(choice.strip())
        if match is None:
            raise NeedError(f"a need that makes no sense: {text[:80]!r}")
        name, operator, version = match.groups()
        comparison = Comparison(operator.replace("==", "=")) if operator else None
        found.append(Term(name, comparison, _version(version) if version else None))
    return any_of(tuple(found))


def split_field(text: str) -> Iterator[str]:
    """The needs of a field, as they are written."""
    return filter(None, (part.strip() for part in text.split(",")))


def split_file(text: str) -> Iterator[str]:
    """The needs of a file, as they are written."""
    for line in text.split("\n"):
        yield from split_field(line.partition("#")[0])


def _version(text: str) -> str:
    label = split_label(f"x-{text}")
    return label.full_version if label is not None and label.name == "x" else text
