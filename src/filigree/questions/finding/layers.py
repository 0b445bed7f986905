"""Which layers of an image speak of a path."""

from collections import Counter
from collections.abc import Iterable

from filigree.system import System


def layers_of(system: System, path: str) -> list[int] | None:
    """The layers that bring, alter or hide a path, the lowest first: the last one decides. None where the
    root is no image."""
    layered = system.tree.layered
    return None if layered is None else list(layered.layers_of(path))


def files_by_layer(system: System, paths: Iterable[str]) -> dict[int, int] | None:
    """Of how many paths each layer has what is there, the lowest first; directories are not counted."""
    layered = system.tree.layered
    if layered is None:
        return None
    found = Counter(layered.layer_of_file(path) for path in paths)
    return {layer: found[layer] for layer in sorted(one for one in found if one is not None)}
