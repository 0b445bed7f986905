"""What a file or a folder holds of images, and which one is meant.

Told by contents: a layout (`index.json` beside `oci-layout`), what an engine saved (`manifest.json`), or
else a tar that is a whole root. Every blob of JSON is held against the digest that leads to it.
"""

import contextlib
import hashlib
import os
from collections.abc import Iterator
from contextlib import closing
from typing import NamedTuple

from filigree.access.images.image import (
    ImageReader,
    ImageTree,
    ReadManner,
    identity_of,
)
from filigree.access.images.layers import LayerPromise
from filigree.access.images.parts import Image
from filigree.access.images.shelf import LayerShelf
from filigree.access.images.stores import FolderStore, Hopping, PartStore, TarStore, Window
from filigree.access.trees.directory import DirectoryTree
from filigree.access.trees.protocol import Borrowed
from filigree.formats.images.descriptors import (
    JSON_LIMIT,
    Configuration,
    Descriptor,
    ImageError,
    Platform,
    SavedImage,
    blob_path,
    read_configuration,
    read_index,
    read_manifest,
    read_saved,
)
from filigree.formats.members import PayloadError
from filigree.formats.random_access import MemoryBytes
from filigree.formats.tar_stream import tar_members
from filigree.formats.unpacking import Unpacked, UnpackError, compression_of
from filigree.model.errors import AccessError, BadQuestion, NoSystem, words_of
from filigree.model.hints import Hint

_LAYOUT, _INDEX, _SAVED = "oci-layout", "index.json", "manifest.json"
_DEEPEST = 4
_HEAD = 1 << 16
_WHOLE = "the root"


class ImageChoice(NamedTuple):
    """Which image is meant, where there are several; None where that was not said."""

    name: str | None = None
    platform: str | None = None


ANY_IMAGE = ImageChoice()


def open_image(
    path: str, shelf: LayerShelf, manner: ReadManner, choice: ImageChoice = ANY_IMAGE,
    only: int | None = None,
) -> ImageTree:  # fmt: skip
    """The tree of the image at a path. Raises NoSystem where there is none, BadQuestion where it is not
    plain which one is meant."""
    whole = not os.path.isdir(path)
    try:
        identity = identity_of(path)
        source = (
            DirectoryTree(os.path.dirname(path) or "/").lend(f"/{os.path.basename(path)}")
            if whole
            else None
        )
        store: PartStore = FolderStore(path) if source is None else _store_of(source)
        names = store.names()
        if isinstance(store, _RootStore):
            image = Image((), None, None, None, ((_WHOLE, LayerPromise()),))
        else:
            image = _chosen(list(_images(store, names)), choice, path)
        manner = manner._replace(layered=not isinstance(store, _RootStore))
        return ImageReader(store, shelf, manner, identity).tree(path, image, only)
    except (AccessError, ImageError, PayloadError, UnpackError, OSError) as error:
        raise NoSystem(
            f"it is no image that can be read: {words_of(error)}", path, Hint.NAME_A_ROOT
        ) from error


class _RootStore:
    """A tar that is a whole root: the one layer that there is."""

    def __init__(self, source: Borrowed) -> None:
        self._source = source

    def lend(self, name: str) -> Borrowed:
        return Window(self._source, 0, self._source.size, name)

    def names(self) -> list[str]:
        return []

    def close(self) -> None:
        self._source.close()


def _store_of(source: Borrowed) -> PartStore:
    """What is packed in a tar: an image, or a root as a whole."""
    if source.size == 0:
        raise ImageError("it is empty")
    if compression_of(source.at(0, 8)) != "none" and not _begins_as_image(source):
        return _RootStore(source)
    try:
        store = TarStore(source)
    except PayloadError:
        next(tar_members(Hopping(source)))  # what does not even begin as a tar is none
        return _RootStore(source)
    names = store.names()
    if _INDEX in names or (_SAVED in names and _saved(store) is not None):
        return store
    return _RootStore(source)


def _begins_as_image(source: Borrowed) -> bool:
    """Whether a packed tar begins as an image does: whoever packs one puts nothing else in it."""
    head = MemoryBytes(Unpacked(source, 0, source.size).read(_HEAD))
    top = ""
    with contextlib.suppress(PayloadError):
        for info, _ in tar_members(Hopping(head)):
            top = info.name.removeprefix("./").strip("/").partition("/")[0]
            if top not in ("", "."):
                break
    plain = top.removesuffix(".json").removesuffix(".tar")
    if len(plain) == 64 and all(sign in "0123456789abcdef" for sign in plain):
        return True
    return top in ("blobs", _LAYOUT, _INDEX, _SAVED, "repositories")


# -- which images there are ---------------------------------------------------------------------


def _images(store: PartStore, names: list[str]) -> Iterator[Image]:
    if _INDEX in names:
        index = read_index(_small(store, _INDEX))
        yield from _indexed(store, index, 0)
        return
    saved = _saved(store) if _SAVED in names else None
    if saved is None:
        raise ImageError("it has no list of images")
    for one in saved:
        configuration, troubles = _configuration(store, one.config, None)
        if "/" in one.config or len(one.config) == 69:
            digest = one.config.rpartition("/")[2].removesuffix(".json")
            found = hashlib.sha256(_small(store, one.config)).hexdigest()
            if len(digest) == 64 and digest != found:
                troubles = (
                    *troubles,
                    f"its configuration has the digest sha256:{found}, and is called sha256:{digest}",
                )
        yield _image(
            one.names,
            None,
            None,
            configuration,
            [(name, None, None) for name in one.layers],
            troubles,
        )


def _saved(store: PartStore) -> list[SavedImage] | None:
    try:
        return read_saved(_small(store, _SAVED))
    except AccessError:
        return None


def _indexed(
    store: PartStore, index: list[Descriptor], depth: int, above: tuple[str, ...] = ()
) -> Iterator[Image]:
    for one in index:
        names = one.names or above
        if one.attests:
            continue
        if one.is_index:
            if depth >= _DEEPEST:
                raise ImageError(f"indexes within each other, more than {_DEEPEST} deep")
            data, troubles = _blob(store, one)
            yield from (
                image._replace(troubles=(*troubles, *image.troubles))
                for image in _indexed(store, read_index(data), depth + 1, names)
            )
            continue
        image = _manifested(store, one, names)
        if image is not None:
            yield image


def _manifested(store: PartStore, one: Descriptor, names: tuple[str, ...]) -> Image | None:
    try:
        data, troubles = _blob(store, one)
    except AccessError as error:
        if error.absent:  # of a machine that was not taken along
            return None
        raise
    manifest = read_manifest(data)
    if manifest is None:
        return None
    configuration, more = _configuration(store, blob_path(manifest.config.digest), manifest.config)
    layers: list[tuple[str, str | None, int | None]] = [
        (blob_path(layer.digest), layer.digest, layer.size) for layer in manifest.layers
    ]
    return _image(names, one.platform, one.digest, configuration, layers, (*troubles, *more))


def _image(
    names: tuple[str, ...], platform: Platform | None, digest: str | None,
    configuration: Configuration, layers: list[tuple[str, str | None, int | None]],
    troubles: tuple[str, ...],
) -> Image:  # fmt: skip
    diff_ids = configuration.diff_ids
    if len(diff_ids) != len(layers):
        why = f"its configuration tells of {len(diff_ids)} layers, and it has {len(layers)}"
        troubles = (*troubles, why)
    promised = [
        (name, LayerPromise(told, size, diff_ids[at] if at < len(diff_ids) else None))
        for at, (name, told, size) in enumerate(layers)
    ]
    return Image(
        names, platform or configuration.platform, digest, configuration, tuple(promised), troubles
    )


def _configuration(
    store: PartStore, name: str, promise: Descriptor | None
) -> tuple[Configuration, tuple[str, ...]]:
    if promise is None:
        return read_configuration(_small(store, name)), ()
    data, troubles = _blob(store, promise)
    return read_configuration(data), troubles


def _blob(store: PartStore, promise: Descriptor) -> tuple[bytes, tuple[str, ...]]:
    """A blob of JSON, and why it is not what it is said to be."""
    data = _small(store, blob_path(promise.digest))
    algorithm = promise.digest.partition(":")[0]
    found = f"{algorithm}:{hashlib.new(algorithm, data).hexdigest()}"
    troubles = []
    if found != promise.digest:
        troubles.append(
            f"a part of it has the digest {found}, and is said to have {promise.digest}"
        )
    if len(data) != promise.size:
        troubles.append(
            f"{promise.digest} has {len(data)} bytes, and is said to have {promise.size}"
        )
    return data, tuple(troubles)


def _small(store: PartStore, name: str) -> bytes:
    with closing(store.lend(name)) as part:
        if part.size > JSON_LIMIT:
            raise ImageError(f"{name} has {part.size:,} bytes: more than is reasonable")
        return part.at(0, part.size)


# -- which one is meant -------------------------------------------------------------------------


def _chosen(images: list[Image], choice: ImageChoice, path: str) -> Image:
    if not images:
        raise ImageError("it holds no image")
    found = [
        one for one in images if _is_called(one, choice.name) and _runs_on(one, choice.platform)
    ]
    distinct = list({(one.digest, one.layers): one for one in found}.values())
    if len(distinct) == 1:
        return distinct[0]
    told = "; ".join(
        f"{', '.join(one.names) or 'no name'} ({one.platform or 'of no machine'})" for one in images
    )
    if not distinct:
        raise BadQuestion(
            f"no image here is called so, or for such a machine; there are: {told}", path
        )
    raise BadQuestion(f"there are several images here: {told}", path, Hint.CHOOSE_AN_IMAGE)


def _is_called(image: Image, name: str | None) -> bool:
    if name is None:
        return True
    return any(
        one == name
        or one.rpartition("/")[2] == name
        or one.partition(":")[0] == name
        or one.rpartition("/")[2].partition(":")[0] == name
        for one in image.names
    )


def _runs_on(image: Image, platform: str | None) -> bool:
    if platform is None:
        return True
    told = str(image.platform or "")
    return told == platform or told.startswith(f"{platform}/")
