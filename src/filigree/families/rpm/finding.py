"""Where the database of an `rpm` system is: told without reading any of it."""

from filigree.access.trees.protocol import Tree
from filigree.families.rpm import places
from filigree.model.errors import AccessError


def database_paths(tree: Tree) -> list[str]:
    """Every container that the root has, each once, the first of them to be read."""
    found: dict[str, str] = {}
    for folder in places.DATABASES:
        for name in places.CONTAINERS:
            path = f"{folder}/{name}"
            if tree.exists(path):
                try:
                    found.setdefault(tree.real_path(path), path)
                except AccessError:
                    found.setdefault(path, path)
    return list(found.values())
