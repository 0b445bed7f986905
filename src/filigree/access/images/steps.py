"""An image, a layer after the other: what each changes, and the tree as it is then."""

import os
import sqlite3
import stat
from collections.abc import Iterator, Sequence
from functools import cached_property

from filigree.access.images.overlay import Overlay, RowChange
from filigree.access.images.parts import Image, ImageLayer
from filigree.access.images.shelf import LayerShelf
from filigree.access.trees.directories import decoded, encoded
from filigree.access.trees.protocol import Borrowed, LayerStep, PathChange
from filigree.access.trees.recorded import Contents, RecordedTree
from filigree.access.trees.recorded_form import Recorded, RecordFile, open_form, split
from filigree.access.trees.recorded_rows import capabilities_of, observed
from filigree.model.errors import AccessError
from filigree.model.files import Observation
from filigree.model.images import ImageFacts, LayerFacts


class _LentContents:
    """Contents that others let go of."""

    def __init__(self, contents: Contents) -> None:
        self._contents = contents

    def lend(self, row: Recorded, path: str) -> Borrowed:
        return self._contents.lend(row, path)

    def doubt(self, row: Recorded) -> str | None:
        return self._contents.doubt(row)

    def close(self) -> None:
        """They are held on to."""


class ImageLayers:
    """The layers of an image; `only` one of them, where one alone was opened."""

    def __init__(
        self, whole: RecordedTree, file: str, image: Image, layers: Sequence[ImageLayer],
        contents: Contents, shelf: LayerShelf, only: int | None,
    ) -> None:  # fmt: skip
        self._whole = whole
        self._file = file
        self._image = image
        self._layers = layers if only is None else [layers[only]]
        self._contents = _LentContents(contents)
        self._shelf = shelf
        self._records: list[tuple[int, sqlite3.Connection]] = []
        self._process = 0

    def close(self) -> None:
        """Let go of the records."""
        for _, record in self._records:
            record.close()
        self._records = []

    @cached_property
    def facts(self) -> ImageFacts:
        """What the image says of itself, and how large it is."""
        image = self._image
        told = image.configuration
        read = [one.facts for one in self._layers]
        with open_form(self._file) as record:
            (effective,) = record.execute(
                "SELECT coalesce(sum(size), 0) FROM (SELECT DISTINCT source, place, size FROM entries"
                f" WHERE (mode & {0o170000}) = {stat.S_IFREG})"
            ).fetchone()
        return ImageFacts(
            names=image.names, platform=str(image.platform) if image.platform else None,
            digest=image.digest, made_at=told.made_at if told else None,
            user=told.user if told else None, entry_point=told.entry_point if told else (),
            command=told.command if told else (), ports=told.ports if told else (),
            environment=told.environment if told else (), layers=len(self._layers),
            size=sum(one.size for one in read), unpacked=sum(one.unpacked for one in read),
            effective=effective,
        )  # fmt: skip

    @property
    def layers(self) -> Sequence[LayerFacts]:
        """Every layer, the lowest first, as the image tells of it."""
        return [one.told for one in self._layers]

    def steps(self) -> Iterator[LayerStep]:
        """Every layer, the lowest first. They are laid over each other anew."""
        path = self._shelf.new()
        overlay = Overlay(path, journal=True)
        try:
            for one in self._layers:
                overlay.lay(one.number, one.record)
                tree = RecordedTree(self._whole.root, RecordFile(path), self._contents)
                try:
                    yield LayerStep(one.told, map(_told, overlay.changes()), tree)
                finally:
                    tree.close()
        finally:
            overlay.close()
            os.unlink(path)

    def layers_of(self, path: str) -> Sequence[int]:
        """The layers that speak of a path, as it is asked for or by its real name."""
        spellings = {self._plain(path)}
        last = -1
        try:
            real = self._plain(self._whole.real_path(path, follow=False))
            spellings.add(real)
            row = self._whole.row(real)
            last = row.layer if row is not None else -1
        except AccessError:
            pass
        found = {last} if last >= 0 else set()
        for number, record in self._opened():
            if any(_speaks(record, one) for one in spellings):
                found.add(number)
        return sorted(found)

    def layer_of_file(self, path: str) -> int | None:
        """The layer that has what is at a path as it is; None of directories, and of nothing."""
        try:
            row = self._whole.row(self._plain(self._whole.real_path(path, follow=False)))
        except AccessError:
            return None
        return None if row is None or stat.S_ISDIR(row.mode) else row.layer

    def _plain(self, path: str) -> bytes:
        try:
            parts = [part for part in encoded(path).split(b"/") if part not in (b"", b".")]
        except (AccessError, FileNotFoundError):
            return b"/\0"
        return b"".join(b"/" + part for part in parts)

    def _opened(self) -> list[tuple[int, sqlite3.Connection]]:
        if self._process != os.getpid():
            self._records, self._process = [], os.getpid()
        if not self._records:
            self._records = [(one.number, open_form(one.record)) for one in self._layers]
        return self._records


_SPOKEN: tuple[str, ...] = (
    "SELECT 1 FROM entries WHERE parent = ? AND name = ?",
    "SELECT 1 FROM joined WHERE parent = ? AND name = ?",
)
_HIDDEN = "SELECT 1 FROM hidden WHERE parent = ? AND name IN (?, x'')"


def _speaks(record: sqlite3.Connection, path: bytes) -> bool:
    """Whether a layer brings a path, or hides it or a directory that it lies in."""
    if any(record.execute(asked, split(path)).fetchone() for asked in _SPOKEN):
        return True
    while path:
        if record.execute(_HIDDEN, split(path)).fetchone():
            return True
        path = split(path)[0]
    return False


def _told(change: RowChange) -> PathChange:
    before, after = (None if row is None else _seen(row) for row in (change.before, change.after))
    over = None if change.before is None else change.before.layer
    return PathChange(decoded(change.path) or "/", before, after, over, change.hides)


def _seen(row: Recorded) -> Observation:
    digest = None if row.sha256 is None else f"sha256:{row.sha256.hex()}"
    carried = capabilities_of(row.capabilities) if stat.S_ISREG(row.mode) else None
    return observed(row, digest, carried)
