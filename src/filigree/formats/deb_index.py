"""The index of a `deb` repository: the stanzas of every package, read as they come, fast.

A list of tens of thousands of stanzas is split here without looking at each line twice; what does not fit
the simple form is left to the careful reader.
"""

from collections.abc import Iterable, Iterator, Mapping

from filigree.formats.damage import Damage, text_of
from filigree.formats.stanzas import STANZA_LIMIT, parse_stanza


def read_index(pieces: Iterable[bytes]) -> Iterator[Mapping[str, str] | Damage]:
    """The fields of each package; a Damage, whose line counts stanzas, in the place of a damaged one."""
    count = 0
    for block in _blocks(pieces):
        count += 1
        if len(block) > STANZA_LIMIT:
            yield Damage(count, f"a stanza of more than {STANZA_LIMIT} bytes")
            continue
        lines = text_of(block).replace("\n ", "\0 ").split("\n")
        pairs = [line.split(": ", 1) for line in lines]
        if all(len(pair) == 2 for pair in pairs):
            yield dict(pairs)
            continue
        stanza = parse_stanza(block)
        yield Damage(count, stanza.why) if isinstance(stanza, Damage) else stanza.fields


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
