"""What a reader says of a part of a file that it could not make sense of."""

from typing import NamedTuple


class Damage(NamedTuple):
    """A part that is not as the format wants it. `line` counts from 1; `why` is a phrase."""

    line: int
    why: str


def text_of(data: bytes) -> str:
    """Bytes as text. What is not UTF-8 survives as lone surrogates (PEP 383)."""
    return data.decode("utf-8", "surrogateescape")
