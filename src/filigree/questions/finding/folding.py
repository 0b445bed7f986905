"""Which of many paths belong together: those below one directory, as deep as it holds most of them."""

from collections.abc import Iterable, Sequence

LEAST = 12
"""So many paths below one directory are told as one."""
_DEEP = 3
"""A directory this deep stands for something by itself: `/usr/share/tidetables`."""


def folders(paths: Iterable[str], least: int = LEAST) -> dict[str, list[str]]:
    """The directories that stand for `least` paths or more, each with those below it, in order.

    Each path is in one of them at most. A directory is the deepest one that holds all of a group; one
    that is not deep enough to stand for something is taken apart by what lies in it.
    """
    found: dict[str, list[str]] = {}
    _gather(sorted(paths), least, found)
    return found


def _gather(paths: Sequence[str], least: int, found: dict[str, list[str]]) -> None:
    if len(paths) < least:
        return
    top = _common(paths)
    if top.count("/") >= _DEEP:
        found[top] = list(paths)
        return
    inner: dict[str, list[str]] = {}
    for path in paths:
        rest = path[len(top.rstrip("/")) + 1 :]
        inner.setdefault(rest.partition("/")[0] if "/" in rest else "", []).append(path)
    for name, held in inner.items():
        if name and len(held) < len(paths):
            _gather(held, least, found)
        elif name:  # all of them lie in one: the common directory would have been that
            found[f"{top.rstrip('/')}/{name}"] = list(held)


def _common(paths: Sequence[str]) -> str:
    """The deepest directory that holds all of some sorted paths."""
    first, last = paths[0].split("/")[:-1], paths[-1].split("/")[:-1]
    same = 0
    for one, other in zip(first, last, strict=False):
        if one != other:
            break
        same += 1
    return "/".join(first[:same]) or "/"
