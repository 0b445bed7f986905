"""Files that a person asked to be written: whole or not at all, and never below the root."""

import os
import tempfile

from filigree.model.errors import BadQuestion

_KEY_LIMIT = 1 << 20


def write_outside(root: str, path: str, content: bytes) -> None:
    """Write a file of the auditor's own. Raises BadQuestion below an audited root, or where it fails."""
    place = os.path.realpath(path)
    above = os.path.realpath(root)
    if above != "/" and os.path.commonpath((above, place)) == above:
        raise BadQuestion("nothing is written below the root that is audited", path, "name another")
    try:
        handle, new = tempfile.mkstemp(dir=os.path.dirname(place), prefix=".new-")
    except OSError as error:
        raise BadQuestion(f"it cannot be written: {error.strerror}", path) from error
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(content)
        os.chmod(new, 0o666 & ~_umask())
        os.replace(new, place)
    except OSError as error:
        os.unlink(new)
        raise BadQuestion(f"it cannot be written: {error.strerror}", path) from error


def read_key(path: str) -> bytes:
    """A file of a key of the auditor's own. Raises BadQuestion where it cannot be read."""
    try:
        with open(path, "rb") as file:
            return file.read(_KEY_LIMIT)
    except OSError as error:
        raise BadQuestion(f"the key cannot be read: {error.strerror}", path) from error


def _umask() -> int:
    current = os.umask(0o077)
    os.umask(current)
    return current


def cache_folder() -> str:
    """The auditor's own folder for what can be made again."""
    from platformdirs import user_cache_dir

    return user_cache_dir("filigree", appauthor=False)
