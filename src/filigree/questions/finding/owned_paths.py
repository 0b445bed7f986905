"""Whose every path is: what is on record, with the links on the way resolved."""

from collections.abc import Collection, Sequence

from filigree.access.trees.protocol import Tree
from filigree.model.errors import AccessError
from filigree.model.package import Package
from filigree.system import System


def owned_paths(
    system: System,
    tops: Sequence[str],
    present: bool = False,
    names: Collection[str] | None = None,
) -> dict[str, list[Package]]:
    """The real paths on record below some directories, each with the packages that it is from; of those
    alone that are `present` where that is asked for, and of paths alone that are called one of `names`.

    A path that is moved aside for another package stands where it is moved to.
    """
    real: dict[str, str] = {}
    fronts = tuple(f"{top.rstrip('/')}/" for top in tops)
    found: dict[str, list[Package]] = {}
    for package, listing in system.database.listings():
        if present and not package.state.present:
            continue
        moved = _moved(system, package.name)
        for path in listing:
            folder, _, name = path.rpartition("/")
            if names is not None and name not in names and path not in moved:
                continue
            place = real.get(folder)
            if place is None:
                place = real[folder] = _real(system.tree, folder)
            whole = f"{place}/{name}" if name else place or "/"
            if whole.startswith(fronts):
                found.setdefault(moved.get(path, whole), []).append(package)
    return found


def _moved(system: System, package: str) -> dict[str, str]:
    return {one.original: one.moved_to for one in system.relocations if one.keeper != package}


def _real(tree: Tree, folder: str) -> str:
    if not folder:
        return ""
    try:
        return tree.real_path(folder).rstrip("/")
    except AccessError:
        return folder
