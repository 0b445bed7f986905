"""An image, opened: its layers read, and the tree that comes of them.

What a layer told is kept under the digest of what comes out of it, and the tree under those of its
layers: whoever asks again pays for nothing. Kept is only what was as it was said to be; and of a blob
that was looked at before it is asked whether it is the same file still.
"""

import contextlib
import hashlib
import multiprocessing
import os
import sqlite3
import stat
import zlib
from collections.abc import Callable, Sequence
from contextlib import closing
from functools import cached_property
from typing import NamedTuple

from filigree.access.images.layers import LayerPromise, LayerRead, LayerReader
from filigree.access.images.overlay import Overlay, tricks_of
from filigree.access.images.parts import Image, ImageLayer
from filigree.access.images.shelf import LayerShelf
from filigree.access.images.steps import ImageLayers
from filigree.access.images.stores import PartStore, TemporaryBytes
from filigree.access.trees.directories import decoded
from filigree.access.trees.protocol import Borrowed
from filigree.access.trees.recorded import RecordedTree
from filigree.access.trees.recorded_form import Recorded, RecordFile, open_form
from filigree.access.workers import share
from filigree.formats.random_access import Bytes, MemoryBytes
from filigree.formats.unpacking import Unpacked, UnpackError
from filigree.model.errors import AccessError, BadQuestion, Obstacle, words_of

_SKIPPED = 1 << 20
TRICKS_TOLD = 20


class ReadManner(NamedTuple):
    """How layers are read: below which directories contents are kept, by which algorithms contents are
    digested besides SHA-256, and whether names hide others."""

    kept: tuple[str, ...]
    digests: tuple[str, ...] = ()
    layered: bool = True
    progress: Callable[[int, int], None] | None = None

    @property
    def key(self) -> str:
        """What tells it apart from other manners."""
        return hashlib.sha256(
            "\n".join((str(self.layered), *self.digests, *self.kept)).encode()
        ).hexdigest()[:16]

    def keeps(self) -> Callable[[bytes], bool]:
        """Whether the content of a path is kept."""
        fronts = tuple(one.encode("utf-8", "surrogateescape") for one in self.kept)
        return lambda path: path.startswith(fronts)


class ImageContents:
    """The contents of files: kept with a layer's record, or read in the layer again."""

    def __init__(self, store: PartStore, layers: Sequence[ImageLayer]) -> None:
        self._store = store
        self._layers = layers
        self._records: dict[int, sqlite3.Connection] = {}
        self._process = os.getpid()
        self._unsound = {
            one.number: f"layer {one.number} is not what it is said to be"
            for one in layers
            if one.facts.troubles
        }
        self._doubts = dict(self._unsound)
        for cut in (one.number for one in layers if not one.facts.diff_id):
            for below in range(cut):  # nobody knows what it would have hidden or altered
                self._doubts.setdefault(below, f"layer {cut} above it cannot be read to its end")

    def doubt(self, row: Recorded) -> str | None:
        """Why no verdict may rest on a path: its layer is not what it is said to be, or one above it
        cannot be read to its end."""
        return self._doubts.get(row.layer) or self._unsound.get(row.source)

    def lend(self, row: Recorded, path: str) -> Borrowed:
        """A content, to be read in place. Raises AccessError, too of a layer that is not what it is said
        to be."""
        if row.source in self._unsound:
            raise AccessError(Obstacle.FAILED, path, self._unsound[row.source])
        record = self._record(row.source)
        kept = None
        if row.sha256 is not None:
            kept = record.execute(
                "SELECT packed FROM contents WHERE sha256 = ?", (row.sha256,)
            ).fetchone()
        if kept is not None:
            return _Whole(zlib.decompress(kept[0]), path)
        return self._read_again(row, path, record)

    def _read_again(self, row: Recorded, path: str, record: sqlite3.Connection) -> Borrowed:
        found = record.execute("SELECT runs FROM holes WHERE place = ?", (row.place,)).fetchone()
        runs = [(0, row.size)]
        if found is not None:
            runs = [
                (int(start), int(size))
                for start, _, size in (part.partition(",") for part in found[0].split(";") if part)
            ]
        out = TemporaryBytes(path)
        try:
            with closing(self._store.lend(self._layers[row.source].name)) as blob:
                _unpacked_to(blob, row, runs, out)
        except (UnpackError, AccessError) as error:
            out.close()
            raise AccessError(Obstacle.FAILED, path, words_of(error)) from error
        return out

    def _record(self, layer: int) -> sqlite3.Connection:
        if self._process != os.getpid():
            self._records, self._process = {}, os.getpid()
        if layer not in self._records:
            self._records[layer] = open_form(self._layers[layer].record)
        return self._records[layer]

    def close(self) -> None:
        """Let go of what is held open."""
        for record in self._records.values():
            record.close()
        self._records = {}
        self._store.close()


def _unpacked_to(
    blob: Bytes, row: Recorded, runs: Sequence[tuple[int, int]], out: TemporaryBytes
) -> None:
    stream = Unpacked(blob, 0, blob.size)
    while stream.position < row.place:
        if not stream.read(min(_SKIPPED, row.place - stream.position)):
            raise UnpackError("it ends before the file begins")
    for start, size in (*runs, (row.size, 0)):
        while out.size < start:
            out.write(bytes(min(_SKIPPED, start - out.size)))
        left = size
        while left:
            piece = stream.read(min(_SKIPPED, left))
            if not piece:
                raise UnpackError("it ends before the file does")
            out.write(piece)
            left -= len(piece)


class _Whole(MemoryBytes):
    """A content in memory, lent."""

    def __init__(self, data: bytes, path: str) -> None:
        super().__init__(data)
        self.path = path

    def close(self) -> None:
        """Nothing is held open."""


class ImageTree(RecordedTree):
    """The tree of an image, and what only an image can tell."""

    def __init__(
        self, root: str, file: str, image: Image, layers: Sequence[ImageLayer],
        contents: ImageContents, shelf: LayerShelf, only: int | None = None,
    ) -> None:  # fmt: skip
        super().__init__(root, RecordFile(file), contents)
        self.file = file
        self.image = image
        self.layers = tuple(layers)
        self._shelf = shelf  # what is kept for this once goes with it
        self._told = ImageLayers(self, file, image, self.layers, contents, shelf, only)
        self.layered = self._told

    def close(self) -> None:
        """Let go of the record, of its contents, and of what was kept for this once."""
        self._told.close()
        super().close()
        self._shelf.close()

    @cached_property
    def troubles(self) -> list[tuple[str, str]]:  # type: ignore[override]
        """What is not as it is said to be: what, and why. It is bad news at every question."""
        found = [(self.root, why) for why in self.image.troubles]
        for one in self.layers:
            found += ((f"layer {one.number} ({one.name})", why) for why in one.facts.troubles)
        tricks = self.tricks
        found += (
            (f"{decoded(path) or '/'} in layer {layer}", f"not taken: {why}")
            for layer, path, why in tricks[:TRICKS_TOLD]
        )
        if len(tricks) > TRICKS_TOLD:
            found.append(
                (self.root, f"{len(tricks):,} paths of its layers were not taken as they say")
            )
        return found

    @property
    def tricks(self) -> list[tuple[int, bytes, str]]:
        """The paths of layers that were told, and not taken as they say."""
        return tricks_of(self.file)


class ImageReader:
    """Reads the layers of an image, each by a process of its own, and lays them over each other."""

    def __init__(
        self, store: PartStore, shelf: LayerShelf, manner: ReadManner, identity: str
    ) -> None:
        self._store = store
        self._shelf = shelf
        self._manner = manner
        self._identity = identity

    def tree(self, root: str, image: Image, only: int | None = None) -> ImageTree:
        """The tree of an image, or of one layer alone. Raises BadQuestion where it has none such."""
        layers = self._layers(image)
        if only is not None and not 0 <= only < len(layers):
            raise BadQuestion(f"it has no layer {only}: there are {len(layers)}, from 0 on", root)
        laid = layers if only is None else [layers[only]]
        sound = not any(one.facts.troubles for one in laid)
        told = (self._manner.key, *(one.facts.diff_id for one in laid))
        key = hashlib.sha256("\n".join(told).encode()).hexdigest()
        file = self._shelf.kept("tree", key) if sound else None
        if file is None:
            file = self._shelf.new()
            overlay = Overlay(file)
            for one in laid:
                overlay.lay(one.number, one.record)
            overlay.finish()
            if sound:
                file = self._shelf.keep(file, "tree", key)
        return ImageTree(
            root, file, image, layers, ImageContents(self._store, layers), self._shelf, only
        )

    def _layers(self, image: Image) -> list[ImageLayer]:
        steps = (
            [one for one in image.configuration.history if not one.empty]
            if image.configuration
            else []
        )
        wanted = list(enumerate(image.layers))
        found: dict[int, tuple[str, LayerRead]] = {}
        for number, (name, promise) in wanted:
            known = self._known(name, promise)
            if known is not None:
                found[number] = known
        missing = [one for one in wanted if one[0] not in found]
        told = self._told_by([name for _, (name, _) in missing])
        for done in share(missing, lambda one: self._read(*one[1], told(one[1][0]))):
            number, (name, promise) = missing[done.place]
            if done.result is None:
                raise AccessError(Obstacle.FAILED, name, done.failure)
            path, facts = done.result
            found[number] = (self._put(name, path, facts), facts)
        layers = []
        for number, (name, promise) in wanted:
            step = steps[number] if len(steps) == len(wanted) else None
            layers.append(ImageLayer(
                number, name, promise, *found[number],
                made_at=step.made_at.isoformat() if step and step.made_at else None,
                made_by=step.made_by if step else None,
            ))  # fmt: skip
        return layers

    def _known(self, name: str, promise: LayerPromise) -> tuple[str, LayerRead] | None:
        """What is kept of a layer, where its blob is the one that was read, and is as it is promised."""
        facts = self._shelf.recall(self._blob(name))
        if facts is None or not _fits(promise, facts):
            return None
        path = self._shelf.kept("layer", self._key(facts))
        return None if path is None else (path, facts)

    def _told_by(self, names: Sequence[str]) -> Callable[[str], Callable[[int], None]]:
        """For each blob what is called when more of it was read, in whichever process that is."""
        progress = self._manner.progress
        if progress is None:
            return lambda _: lambda _: None
        total = 0
        for name in names:
            with contextlib.suppress(AccessError), closing(self._store.lend(name)) as blob:
                total += blob.size
        read = multiprocessing.RawArray("q", len(names))

        def told(name: str) -> Callable[[int], None]:
            def more(place: int) -> None:
                read[names.index(name)] = place
                progress(sum(read), total)

            return more

        return told

    def _read(
        self, name: str, promise: LayerPromise, told: Callable[[int], None]
    ) -> tuple[str, LayerRead]:
        path = self._shelf.new()
        manner = self._manner
        reader = LayerReader(path, manner.keeps(), manner.digests, manner.layered)
        try:
            with closing(self._store.lend(name)) as blob:
                return path, reader.read(blob, promise, told)
        except AccessError as error:
            facts = reader.read(MemoryBytes(b""), promise)
            why = f"it cannot be read: {error.what}"
            return path, facts._replace(troubles=(why,))

    def _put(self, name: str, path: str, facts: LayerRead) -> str:
        if facts.troubles:
            return path
        kept = self._shelf.keep(path, "layer", self._key(facts))
        self._shelf.remember(self._blob(name), facts)
        return kept

    def _key(self, facts: LayerRead) -> str:
        return f"{facts.diff_id.replace(':', '-')}-{self._manner.key}"

    def _blob(self, name: str) -> str:
        """What tells a blob apart from every other, and from itself once it was changed."""
        return hashlib.sha256(
            f"{self._identity}\n{name}".encode("utf-8", "surrogateescape")
        ).hexdigest()


def _fits(promise: LayerPromise, facts: LayerRead) -> bool:
    told = ((promise.digest, facts.digest), (promise.diff_id, facts.diff_id))
    return promise.size in (None, facts.size) and all(one in (None, other) for one, other in told)


def identity_of(path: str) -> str:
    """What tells a file apart from others, and from itself once it was changed: as the kernel knows it.

    Of a folder, of all that lies in it.
    """
    seen = os.stat(path)
    told = [_stated(path, seen)]
    if stat.S_ISDIR(seen.st_mode):
        for above, folders, files in os.walk(path):
            folders.sort()
            told += (_stated(os.path.join(above, name)) for name in sorted(files))
    return hashlib.sha256("\n".join(told).encode("utf-8", "surrogateescape")).hexdigest()


def _stated(path: str, seen: os.stat_result | None = None) -> str:
    seen = seen or os.lstat(path)
    return (
        f"{path} {seen.st_dev} {seen.st_ino} {seen.st_size} {seen.st_mtime_ns} {seen.st_ctime_ns}"
    )
