"""The index of a `deb` repository: the stanzas of every package, read as they come, fast.

A list of tens of thousands of stanzas is split here without looking at each line twice; what does not fit
the simple form is left to the careful reader.
"""

from collections.abc import Iterable, Iterator, Mapping
from typing import NamedTuple

from filigree.formats.damage import Damage, text_of
from filigree.formats.stanzas import STANZA_LIMIT, parse_stanza


class IndexEntry(NamedTuple):
    """One stanza: its fields, in which a line's end is `\0`, and the text itself."""

    fields: Mapping[str, str]
    text: str


def read_index(pieces: Iterable[bytes]) -> Iterator[IndexEntry | Damage]:
    """Each package; a Damage, whose line counts stanzas, in the place of a damaged one."""
    count = 0
    for block in _blocks(pieces):
        count += 1
        if len(block) > STANZA_LIMIT:
            yield Damage(count, f"a stanza of more than {STANZA_LIMIT} bytes")
            continue
        text = text_of(block)
        lines = text.replace("\n ", "\0 ").split("\n")
        pairs = [line.split(": ", 1) for line in lines]
        try:
            entry = IndexEntry(dict(pairs), text)
            if "Package" in entry.fields:
                yield entry
                continue
        except ValueError:  # a line that is no simple field
            pass
        stanza = parse_stanza(block)
        if isinstance(stanza, Damage):
            yield Damage(count, stanza.why)
        else:
            yield IndexEntry(stanza.fields, text)


def fields_of(text: str) -> Mapping[str, str] | Damage:
    """The fields of a stanza's text, lines of a value as they stand there."""
    pairs = [line.split(": ", 1) for line in text.replace("\n ", "\0 ").split("\n")]
    try:
        found = dict(pairs)
    except ValueError:
        found = {}
    if "Package" not in found:
        stanza = parse_stanza(text.encode("utf-8", "surrogateescape"))
        return stanza if isinstance(stanza, Damage) else stanza.fields
    if "\0" in "".join(found.values()):
        return {name: value.replace("\0", "\n") for name, value in found.items()}
    return found


def _blocks(pieces: Iterable[bytes]) -> Iterator[bytes]:
    """The text between empty lines."""
    rest = b""
    for piece in pieces:
        *blocks, rest = (rest + piece).split(b"\n\n")
        for block in blocks:
            if block := block.strip(b"\n"):
                yield block
        if len(rest) > 2 * STANZA_LIMIT:
            # It is told when it ends; until then no more of it is kept.
            rest = rest[: STANZA_LIMIT + 1] + rest[-1:]
    if rest := rest.strip(b"\n"):
        yield rest
