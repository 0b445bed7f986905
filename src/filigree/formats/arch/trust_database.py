"""The database of trust beside a key ring: which keys it holds for valid, by who certified them.

Records of 40 bytes; the first says `gpg`. As the notes on data formats that come with the ring's own
program describe them:

    12  a key: fingerprint (20), trust in its owner, depth, least trust, flags, first validity record (4)
    13  a validity: digest of an identity (20), validity, next validity record (4), counts

The levels: 2 undefined, 3 never, 4 marginal, 5 full, 6 ultimate; 128 beside one is a key that is
disabled.
"""

from collections.abc import Iterator
from typing import NamedTuple

from filigree.formats.damage import Damage

RECORD = 40
_FIRST, _KEY, _VALIDITY = 1, 12, 13
_LEVELS = {2: "undefined", 3: "never", 4: "marginal", 5: "full", 6: "ultimate"}
_DISABLED = 128
_FULL = 5
_IDENTITIES = 1000


class Trusted(NamedTuple):
    """What is said of one key, by its fingerprint in lower case; `validity` is the best of its
    identities.

    `counts` is whether a signature by it is accepted: None where nothing was worked out yet.
    """

    fingerprint: str
    validity: str | None
    counts: bool | None
    disabled: bool


def read_trust(data: bytes) -> Iterator[Trusted | Damage]:
    """Every key that the database speaks of. `line` of a damage is the number of the record, from 1."""
    if data[:4] != bytes([_FIRST]) + b"gpg":
        yield Damage(1, "it is no database of trust")
        return
    if len(data) % RECORD:
        yield Damage(len(data) // RECORD + 1, "a record that is cut off")
    for number in range(1, len(data) // RECORD):
        record = data[number * RECORD : (number + 1) * RECORD]
        if record[0] != _KEY:
            continue
        owner, first = record[22], int.from_bytes(record[26:30])
        levels, broken = _validities(data, first)
        if broken:
            yield Damage(number + 1, "a chain of validities that leads nowhere, or in a circle")
        best = max(levels, default=0)
        if owner & 0x0F == max(_LEVELS):
            best = max(_LEVELS)
        counts = None if not best else best >= _FULL and not owner & _DISABLED
        yield Trusted(
            record[2:22].hex(),
            _LEVELS.get(best),
            counts if not broken else False,
            bool(owner & _DISABLED),
        )


def _validities(data: bytes, first: int) -> tuple[list[int], bool]:
    """The levels of a chain of validity records, and whether it breaks."""
    levels: list[int] = []
    at = first
    while at:
        record = data[at * RECORD : (at + 1) * RECORD]
        if len(record) < RECORD or record[0] != _VALIDITY or len(levels) >= _IDENTITIES:
            return levels, True
        levels.append(record[22] & 0x0F)
        at = int.from_bytes(record[23:27])
    return levels, False
