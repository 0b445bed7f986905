"""Where the database of an `rpm` system is: told without reading any of it."""

from filigree.access.jail import Jail
from filigree.families.rpm import places
from filigree.model.errors import AccessError


def database_paths(jail: Jail) -> list[str]:
    """Every container that the root has, each once, the first of them to be read."""
    found: dict[str, str] = {}
    for folder in places.DATABASES:
        for name in places.CONTAINERS:
            path = f"{folder}/{name}"
            if jail.exists(path):
                try:
                    found.setdefault(jail.real_path(path), path)
                except AccessError:
                    found.setdefault(path, path)
    return list(found.values())
