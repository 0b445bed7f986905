"""The auditor's own list of hosts, and of the keys that vouch for each (TOML 1.0).

[[host]]
name = "heron"
keys = ["keys/heron.asc"]    # files of keys, from where the list is
"""

import tomllib
from typing import NamedTuple

from filigree.formats.office_files import OfficeFileError

_MOST = 1_000_000


class ListedHost(NamedTuple):
    """A host, and the files of the keys that vouch for it."""

    name: str
    keys: tuple[str, ...]


def read_hosts(data: bytes) -> list[ListedHost]:
    """The hosts of a list. Raises OfficeFileError for whatever is not as it is to be."""
    try:
        table = tomllib.loads(data.decode())
    except (ValueError, RecursionError) as error:
        raise OfficeFileError(f"it is no TOML: {error}") from error
    unknown = sorted(table.keys() - {"host"})
    if unknown:
        raise OfficeFileError(f"nothing is called {unknown[0]!r}")
    rows = table.get("host", [])
    if not isinstance(rows, list) or not all(isinstance(row, dict) for row in rows):
        raise OfficeFileError("`host` is to be a list of tables: [[host]]")
    if len(rows) > _MOST:
        raise OfficeFileError(f"more than {_MOST:,} hosts")
    found: dict[str, ListedHost] = {}
    for number, row in enumerate(rows, 1):
        name, keys = row.get("name"), row.get("keys")
        if not isinstance(name, str) or not name.strip():
            raise OfficeFileError(f"host {number}: `name` is to be a text, and not empty")
        if not isinstance(keys, list) or not keys or not all(isinstance(one, str) for one in keys):
            raise OfficeFileError(f"host {number}: `keys` is to be a list of files, and not empty")
        more = sorted(row.keys() - {"name", "keys"})
        if more:
            raise OfficeFileError(f"host {number}: nothing is called {more[0]!r}")
        if name in found:
            raise OfficeFileError(f"host {number}: {name} was named before")
        found[name] = ListedHost(name, tuple(keys))
    return list(found.values())
