"""Fetching the index of an `apk` repository, verified before it is kept."""

import struct
from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from filigree.access.web import FetchError
from filigree.families.apk.offers import INDEX_LIMIT, built_seconds, open_index
from filigree.families.protocol import Fetch
from filigree.families.shared.indexes import older_than
from filigree.families.shared.signatures import why_refused
from filigree.formats.apk.binary import BinaryError
from filigree.formats.damage import Damage
from filigree.formats.members import PayloadError
from filigree.formats.random_access import MemoryBytes
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import moment_of
from filigree.model.keys import Key
from filigree.model.repositories import Refreshed


def refresh(
    address: str, place: str, fetch: Fetch, keys: Sequence[Key], seen: Sequence[datetime | None]
) -> Refreshed:
    """Fetch an index, and keep it at a place among the copies. Raises FetchError.

    An index tells no time of its own: that of the newest package in it stands for it.
    """
    got = fetch.get(address, INDEX_LIMIT)
    try:
        index = open_index(MemoryBytes(Path(got).read_bytes()))
        signature = index.signature(keys)
        times = [
            built
            for one in index.records()
            if not isinstance(one, Damage) and (built := built_seconds(one)) is not None
        ]
    except (UnpackError, PayloadError, BinaryError, struct.error) as error:
        fetch.forget(address)
        raise FetchError(f"what came is no index: {error}", address) from error
    made = moment_of(max(times, default=None))
    why = why_refused(signature, True) or older_than(made, seen)
    if why is not None:
        fetch.forget(address)
        return Refreshed(signature, made, None, why)
    fetch.keep(got, place)
    return Refreshed(signature, made, None, None)
