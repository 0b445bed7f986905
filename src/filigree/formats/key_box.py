"""Key boxes: several keys in one file, each in a blob (as GnuPG's own description of the format has it).

    box  = *blob
    blob = length:4 type:1 version:1 flags:2 place-of-key:4 length-of-key:4 …      big-endian

A blob of type 1 is the head of the box, one of type 2 holds an OpenPGP key as it is in a plain file.
"""

import struct
from collections.abc import Iterator

_HEAD = struct.Struct(">IBBHII")
_OPENPGP = 2
BOX_LIMIT = 64 << 20


def is_key_box(data: bytes) -> bool:
    """Whether data is a box: its first blob is a head, with a sign of its own."""
    return data[4:5] == b"\1" and data[8:12] == b"KBXf"


def keys_in(data: bytes) -> Iterator[bytes]:
    """Each OpenPGP key of a box. What is cut off, or leads outside of its blob, is passed over."""
    at = 0
    while at + _HEAD.size <= len(data):
        length, kind, _, _, place, size = _HEAD.unpack_from(data, at)
        if length < _HEAD.size or at + length > len(data):
            return
        if kind == _OPENPGP and place + size <= length:
            yield data[at + place : at + place + size]
        at += length
