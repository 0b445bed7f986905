"""Key files of whatever kind: what they hold is told by their contents."""

from filigree.formats.openpgp_keys import read_keys
from filigree.formats.public_keys import holds_public_keys, read_public_keys
from filigree.model.keys import Key


def read_key_file(data: bytes, file: str) -> list[Key]:
    """The keys of a file, OpenPGP or bare. Raises ValueError where it holds none, or none can be read."""
    return read_public_keys(data, file) if holds_public_keys(data) else read_keys(data, file)
