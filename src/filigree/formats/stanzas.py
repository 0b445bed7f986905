"""Stanzas of `Field: value` lines, divided by blank lines.

Follows the Debian Policy Manual, section 5.1 (syntax of control files). A line that starts with a
space or a tab goes on with the field above; ` .` stands for an empty line. Field names do not
depend on case.
"""

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from filigree.formats.damage import Damage, text_of

STANZA_LIMIT = 16 << 20
"""Bytes that one stanza may have: a hundred times the largest known."""


_SPELLINGS = (
    "Package Status Priority Section Installed-Size Origin Maintainer Bugs Architecture Multi-Arch "
    "Source Version Replaces Provides Depends Pre-Depends Recommends Suggests Breaks Conflicts "
    "Enhances Conffiles Description Homepage Essential Protected Auto-Installed"
).split()
_KNOWN = frozenset(_SPELLINGS)
_BY_FOLDED = {name.lower(): name for name in _SPELLINGS}


class Stanza(NamedTuple):
    """The fields of one stanza by name; continuation lines keep their first space.

    The names that readers ask for are spelled as the Policy spells them, the others as written.
    """

    fields: dict[str, str]
    line: int
    damages: tuple[Damage, ...] = ()


def read_stanzas(chunks: Iterable[bytes], limit: int = STANZA_LIMIT) -> Iterator[Stanza | Damage]:
    """The stanzas of a file that comes in pieces, each with the line where it starts.

    A stanza over `limit` bytes, or with a line that is no field, is a Damage in its place.
    """
    for block, line, whole in text_blocks(chunks, limit):
        if not whole:
            yield Damage(line, f"a stanza of more than {limit} bytes")
        elif block.strip():
            yield parse_stanza(block, line)


def read_remarked_stanzas(data: bytes) -> Iterator[Stanza | Damage]:
    """The stanzas of a file in which lines that start with `#` are remarks, wherever they stand."""
    block: list[bytes] = []
    start = 1
    for number, line in enumerate([*data.split(b"\n"), b""], 1):
        if line.strip():
            if not line.startswith(b"#"):
                start = start if block else number
                block.append(line)
        elif block:
            yield parse_stanza(b"\n".join(block), start)
            block = []


def parse_stanza(block: bytes, line: int = 1) -> Stanza | Damage:
    """One stanza. A name given twice keeps its first value, and is told among the damages."""
    fields: dict[str, str] = {}
    damages: list[Damage] = []
    lines = text_of(block).split("\n")
    name = ""
    value: list[str] = []
    for number, text in enumerate(lines, line):
        if text[:1] in (" ", "\t"):
            if not name:
                return Damage(number, "a continuation line without a field")
            value.append(text)
            continue
        if not text:
            continue
        if len(value) > 1:
            fields[name] = "\n".join(value)
        name, colon, first = text.partition(":")
        if not colon or not name:
            return Damage(number, "a line that is no field")
        if name not in _KNOWN:
            name = _BY_FOLDED.get(name.lower(), name)
        if name in fields:
            damages.append(Damage(number, f"the field {name} is given twice"))
            value = []
            continue
        first = first.strip()
        fields[name] = first
        value = [first]
    if len(value) > 1:
        fields[name] = "\n".join(value)
    return Stanza(fields, line, tuple(damages))


def text_blocks(chunks: Iterable[bytes], limit: int) -> Iterator[tuple[bytes, int, bool]]:
    """The text between blank lines: (bytes, first line's number, whether it is whole)."""
    rest = b""
    line = 1
    dropping = False
    start = 1
    for chunk in chunks:
        data = rest + chunk
        blocks = data.split(b"\n\n")
        rest = blocks.pop()
        for block in blocks:
            if dropping:
                yield b"", start, False
                dropping = False
            else:
                yield from _sized(block, line, limit)
            line += block.count(b"\n") + 2
        if len(rest) > limit:
            if not dropping:
                start = line
            dropping = True
            # The last byte may be the first half of the blank line that ends the stanza.
            line += rest.count(b"\n", 0, -1)
            rest = rest[-1:]
    if dropping:
        yield b"", start, False
    else:
        yield from _sized(rest, line, limit)


def _sized(block: bytes, line: int, limit: int) -> Iterator[tuple[bytes, int, bool]]:
    lead = len(block) - len(block.lstrip(b"\n"))
    if len(block) > limit:
        yield b"", line, False
    else:
        yield block[lead:], line + lead, True
