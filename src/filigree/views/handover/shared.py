"""What the open formats share: texts that any reader takes, licences, digests, identifiers."""

import json
import uuid
from collections.abc import Iterator
from datetime import UTC, datetime
from functools import cache
from typing import Any, NamedTuple

from filigree.model.files import FileRecord, Kind
from filigree.views.text import decodable

_SPACE = uuid.UUID("5b1b0a5e-6f3c-5e0b-9d55-0f2d9c1c7a11")
"""Below which the identifiers of documents are made: any one will do, as long as it stays."""


class Digest(NamedTuple):
    """A digest: the algorithm as the product calls it, and its hexadecimal digits."""

    algorithm: str
    hexadecimal: str


class Handed(NamedTuple):
    """What a document says of its making: which product made it, in which version, and when."""

    product: str
    version: str
    made_at: datetime


def stamp(at: datetime) -> str:
    """A time as RFC 3339 has it, in UTC, to the second."""
    return f"{at.astimezone(UTC):%Y-%m-%dT%H:%M:%SZ}"


def identifier_of(*parts: str) -> str:
    """An identifier that is the same for the same parts: a UUID of version 5 (RFC 9562)."""
    return str(uuid.uuid5(_SPACE, "\n".join(map(decodable, parts))))


def digest_of(text: str | None) -> Digest | None:
    """A digest out of `algorithm:hex`."""
    algorithm, _, digits = (text or "").partition(":")
    return Digest(algorithm, digits) if digits else None


def is_file(record: FileRecord) -> bool:
    """Whether a path on record is one that inventories list: no directory, and no link."""
    return record.kind not in (Kind.DIRECTORY, Kind.LINK)


def json_lines(document: Any) -> Iterator[str]:
    """A document as JSON of which every text is UTF-8, a line for each element of its lists."""
    yield from json.dumps(_plain(document), ensure_ascii=False, indent=1).split("\n")


def _plain(value: Any) -> Any:
    if isinstance(value, str):
        return decodable(value)
    if isinstance(value, dict):
        return {name: _plain(one) for name, one in value.items()}
    return [_plain(one) for one in value] if isinstance(value, list) else value


@cache
def licence_expression(text: str) -> str | None:
    """A licence as an expression of known identifiers, as it is to be written; None for other words.
    Source: SPDX 2.3, annex D."""
    from license_expression import ExpressionError, get_spdx_licensing

    licensing = _licensing(get_spdx_licensing)
    try:
        parsed = licensing.parse(text, validate=True, strict=True)
    except (ExpressionError, AttributeError, ValueError, TypeError, RecursionError):
        return None
    # A name by which people call a licence is not its identifier: nothing is guessed.
    told = None if parsed is None else str(parsed)
    return told if told is not None and _words(told) == _words(text) else None


def _words(text: str) -> list[str]:
    return text.replace("(", " ").replace(")", " ").lower().split()


@cache
def _licensing(make: Any) -> Any:
    return make()
