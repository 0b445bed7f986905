"""What describes an image: indexes, manifests and configurations, in JSON.

OCI image specification 1.1: image-index.md, manifest.md, config.md, descriptor.md; and the list that
engines write when they save images (`manifest.json`: `Config`, `RepoTags`, `Layers`). Names and digests
are claims of whoever wrote them: here only their form is looked at.
"""

import json
import re
from collections.abc import Mapping
from datetime import datetime
from typing import Any, NamedTuple

JSON_LIMIT = 4 << 20
LAYERS_LIMIT = 512
_MOST = 1000
_DIGEST = re.compile(r"sha256:[0-9a-f]{64}|sha512:[0-9a-f]{128}")
_INDEXES = (
    "application/vnd.oci.image.index.v1+json",
    "application/vnd.docker.distribution.manifest.list.v2+json",
)
_NAME = "org.opencontainers.image.ref.name"
_FULL_NAME = "io.containerd.image.name"
_ATTESTS = "vnd.docker.reference.type"


class ImageError(ValueError):
    """What describes an image is not as its form wants it."""


class Platform(NamedTuple):
    """What an image runs on."""

    system: str
    architecture: str
    variant: str | None = None

    def __str__(self) -> str:
        return "/".join(filter(None, self))


class Descriptor(NamedTuple):
    """What is said of a blob: its digest, its size in bytes, what it is."""

    digest: str
    size: int
    media_type: str
    platform: Platform | None = None
    names: tuple[str, ...] = ()
    attests: bool = False

    @property
    def is_index(self) -> bool:
        """Whether it is said to be of a further index."""
        return self.media_type in _INDEXES


class Manifest(NamedTuple):
    """One image: its configuration, and its layers, the lowest first."""

    config: Descriptor
    layers: tuple[Descriptor, ...]


class SavedImage(NamedTuple):
    """One image as engines save it: names of files."""

    config: str
    names: tuple[str, ...]
    layers: tuple[str, ...]


class BuildStep(NamedTuple):
    """How a layer was made, or that an instruction made none."""

    made_at: datetime | None
    made_by: str | None
    empty: bool


class Configuration(NamedTuple):
    """What an image says of itself. `environment` are names alone: values may be secret."""

    platform: Platform | None
    made_at: datetime | None
    diff_ids: tuple[str, ...]
    history: tuple[BuildStep, ...]
    user: str | None
    entry_point: tuple[str, ...]
    command: tuple[str, ...]
    ports: tuple[str, ...]
    environment: tuple[str, ...]


def parse_json(data: bytes) -> Any:
    """A text of JSON. Raises ImageError."""
    try:
        return json.loads(data)
    except (ValueError, RecursionError) as error:
        raise ImageError(f"it is no JSON: {str(error)[:120]}") from error


def read_index(data: bytes) -> list[Descriptor]:
    """The descriptors of an index. Raises ImageError."""
    rows = _mapping(parse_json(data)).get("manifests")
    if not isinstance(rows, list) or len(rows) > _MOST:
        raise ImageError("it lists no manifests, or more than is reasonable")
    return [_descriptor(row) for row in rows]


def read_manifest(data: bytes) -> Manifest | None:
    """A manifest; None where it is of no image, but of what is kept beside one. Raises ImageError."""
    told = _mapping(parse_json(data))
    rows = told.get("layers")
    if not isinstance(rows, list) or len(rows) > LAYERS_LIMIT:
        raise ImageError("it lists no layers, or more than is reasonable")
    config = _descriptor(told.get("config"))
    if "config" not in config.media_type and "container.image" not in config.media_type:
        return None
    layers = tuple(_descriptor(row) for row in rows)
    if any("in-toto" in layer.media_type for layer in layers):
        return None
    return Manifest(config, layers)


def read_saved(data: bytes) -> list[SavedImage] | None:
    """The images that an engine saved; None where the text is no such list."""
    try:
        rows = parse_json(data)
    except ImageError:
        return None
    if not isinstance(rows, list) or not 0 < len(rows) <= _MOST:
        return None
    found = []
    for row in rows:
        if not isinstance(row, dict):
            return None
        config, layers = row.get("Config"), _texts(row.get("Layers"))
        if not isinstance(config, str) or len(layers) > LAYERS_LIMIT:
            return None
        found.append(SavedImage(config, _texts(row.get("RepoTags")), layers))
    return found


def read_configuration(data: bytes) -> Configuration:
    """What an image says of itself. Raises ImageError where it does not tell its layers."""
    told = _mapping(parse_json(data))
    rootfs = told.get("rootfs")
    diff_ids = _texts(rootfs.get("diff_ids")) if isinstance(rootfs, dict) else ()
    if not all(_DIGEST.fullmatch(one) for one in diff_ids):
        raise ImageError("it does not tell the digests of its layers")
    runs = told.get("config")
    runs = runs if isinstance(runs, dict) else {}
    rows = told.get("history")
    history = tuple(_step(row) for row in rows[:_MOST]) if isinstance(rows, list) else ()
    ports = runs.get("ExposedPorts")
    return Configuration(
        platform=platform_of(told), made_at=_moment(told.get("created")), diff_ids=diff_ids,
        history=history, user=_text(runs.get("User")) or None,
        entry_point=_texts(runs.get("Entrypoint")), command=_texts(runs.get("Cmd")),
        ports=tuple(sorted(map(str, ports))) if isinstance(ports, dict) else (),
        environment=tuple(one.partition("=")[0] for one in _texts(runs.get("Env"))),
    )  # fmt: skip


def platform_of(told: Mapping[str, Any]) -> Platform | None:
    """What a descriptor, or a configuration, runs on; None where it does not say."""
    system, machine = _text(told.get("os")), _text(told.get("architecture"))
    if not system or not machine or "unknown" in (system, machine):
        return None
    return Platform(system, machine, _text(told.get("variant")) or None)


def blob_path(digest: str) -> str:
    """Where the blob of a digest lies in a layout. Raises ImageError where it is no digest."""
    if not _DIGEST.fullmatch(digest):
        raise ImageError(f"no digest: {digest[:80]!r}")
    return f"blobs/{digest.replace(':', '/')}"


def _descriptor(row: Any) -> Descriptor:
    told = _mapping(row)
    digest, size = told.get("digest"), told.get("size")
    if not isinstance(digest, str) or not _DIGEST.fullmatch(digest):
        raise ImageError(f"no digest: {str(digest)[:80]!r}")
    if not isinstance(size, int) or isinstance(size, bool) or size < 0:
        raise ImageError(f"no size: {str(size)[:80]!r}")
    notes = told.get("annotations")
    notes = notes if isinstance(notes, dict) else {}
    names = tuple(filter(None, (_text(notes.get(_FULL_NAME)), _text(notes.get(_NAME)))))
    machine = told.get("platform")
    told_platform = platform_of(machine) if isinstance(machine, dict) else None
    unknown = isinstance(machine, dict) and told_platform is None
    return Descriptor(
        digest, size, _text(told.get("mediaType")), told_platform, names,
        attests=_ATTESTS in notes or unknown,
    )  # fmt: skip


def _step(row: Any) -> BuildStep:
    told = row if isinstance(row, dict) else {}
    made_by = _text(told.get("created_by")) or None
    return BuildStep(_moment(told.get("created")), made_by, told.get("empty_layer") is True)


def _moment(value: Any) -> datetime | None:
    try:
        found = datetime.fromisoformat(_text(value))
    except ValueError:
        return None
    return found if found.tzinfo is not None else None


def _mapping(value: Any) -> Mapping[str, Any]:
    if not isinstance(value, dict):
        raise ImageError("it is no object")
    return value


def _text(value: Any) -> str:
    return value if isinstance(value, str) else ""


def _texts(value: Any) -> tuple[str, ...]:
    return tuple(one for one in value if isinstance(one, str)) if isinstance(value, list) else ()
