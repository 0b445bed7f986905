"""The paths of two recorded trees, held against each other as they stand: which are another, and in what.

Where one of the two holds no digest, size and time of change are all that tells.
"""

import stat
from collections.abc import Callable, Iterator, Sequence
from typing import Any, NamedTuple

from filigree.access.trees.directories import decoded
from filigree.access.trees.recorded import RecordedTree
from filigree.access.trees.recorded_form import PathForm
from filigree.model.files import Aspect


class PathPair(NamedTuple):
    """One path in both roots; None where it is not."""

    path: str
    before: PathForm | None
    after: PathForm | None


class _Ahead:
    """The forms of one tree, in order, many at a time."""

    def __init__(self, tree: RecordedTree) -> None:
        self._batches = tree.forms()
        self._rows: list[tuple[Any, ...]] = []
        self._at = 0

    def rows(self) -> list[tuple[Any, ...]]:
        """What comes next; nothing at the end."""
        while self._at >= len(self._rows):
            batch = next(self._batches, None)
            if batch is None:
                return []
            self._rows, self._at = batch, 0
        if self._at:
            self._rows, self._at = self._rows[self._at :], 0
        return self._rows

    def first(self) -> tuple[Any, ...] | None:
        rows = self.rows()
        return rows[0] if rows else None

    def skip(self, count: int) -> None:
        """Go on behind so many of what comes next."""
        self._at += count


def differing(
    before: RecordedTree,
    after: RecordedTree,
    alike: Callable[[Sequence[tuple[Any, ...]]], None] = lambda _: None,
) -> Iterator[PathPair]:
    """The paths that are not the same in both, in the order of their directories; `alike` is told of
    those that are."""
    ours, theirs = _Ahead(before), _Ahead(after)
    while True:
        here, there = ours.rows(), theirs.rows()
        same = _same(here, there)
        if same:
            alike(here[:same])
            ours.skip(same)
            theirs.skip(same)
        one, other = ours.first(), theirs.first()
        if one is None and other is None:
            return
        if one is not None and (other is None or one[:2] <= other[:2]):
            ours.skip(1)
        if other is not None and (one is None or other[:2] <= one[:2]):
            theirs.skip(1)
        if one is not None and other is not None and one[:2] != other[:2]:
            one, other = (one, None) if one[:2] < other[:2] else (None, other)
        if one != other:
            forms = [None if row is None else PathForm._make(row) for row in (one, other)]
            told = forms[0] or forms[1]
            assert told is not None
            yield PathPair(_path(told), forms[0], forms[1])
        elif one is not None:
            alike([one])


def _same(here: list[tuple[Any, ...]], there: list[tuple[Any, ...]]) -> int:
    """How many rows at the beginning are the same in both: whole stretches are compared at once."""
    end = min(len(here), len(there))
    if here[:end] == there[:end]:
        return end
    low, high = 0, end  # the first `low` are the same, the first `high` are not
    while high - low > 1:
        middle = (low + high) // 2
        if here[low:middle] == there[low:middle]:
            low = middle
        else:
            high = middle
    return low


def _path(form: PathForm) -> str:
    return decoded(form.parent + b"/" + form.name) if form.name else "/"


def aspects_of(before: PathForm | None, after: PathForm | None) -> list[Aspect]:
    """In what a path is another. A time of change alone counts where no digest tells more."""
    if before is None or after is None:
        return [Aspect.PRESENCE]
    if stat.S_IFMT(before.mode) != stat.S_IFMT(after.mode):
        return [Aspect.KIND]
    found: list[Aspect] = []
    if stat.S_ISREG(after.mode):
        found += _content(before, after)
        if (before.capabilities or b"") != (after.capabilities or b""):
            found.append(Aspect.CAPABILITIES)
    pairs = (
        (Aspect.MODE, before.mode, after.mode), (Aspect.OWNER, before.uid, after.uid),
        (Aspect.GROUP, before.gid, after.gid), (Aspect.LINK_TARGET, before.target, after.target),
        (Aspect.DEVICE, before.device, after.device),
    )  # fmt: skip
    return found + [aspect for aspect, was, is_ in pairs if was != is_]


def _content(before: PathForm, after: PathForm) -> list[Aspect]:
    for was, is_ in (
        (before.sha256, after.sha256), (before.sha1, after.sha1), (before.md5, after.md5),
    ):  # fmt: skip
        if was is not None and is_ is not None:
            return [Aspect.CONTENT] if was != is_ else []
    if before.size != after.size:
        return [Aspect.CONTENT]
    return [Aspect.MODIFIED] if before.modified != after.modified else []
