"""What an image says of itself, and of the layers that it is made of."""

from dataclasses import dataclass
from datetime import datetime


@dataclass(frozen=True, slots=True)
class ImageFacts:
    """An image as its configuration tells it; None or empty where that does not.

    `platform` is `os/architecture[/variant]`; `environment` are the names of variables alone. `size` is
    that of all blobs of layers as they lie, `unpacked` that of what comes out of them, `effective` that
    of the files which can be seen in the end: all in bytes.
    """

    names: tuple[str, ...]
    platform: str | None
    digest: str | None
    made_at: datetime | None
    user: str | None
    entry_point: tuple[str, ...]
    command: tuple[str, ...]
    ports: tuple[str, ...]
    environment: tuple[str, ...]
    layers: int
    size: int
    unpacked: int
    effective: int


@dataclass(frozen=True, slots=True)
class LayerFacts:
    """One layer: its number (the lowest is 0), the digest of its blob, bytes of that and of what comes
    out of it, when and by which instruction it was made (None where the image does not tell), and why
    it is not what it is said to be."""

    number: int
    digest: str
    made_at: str | None
    made_by: str | None
    size: int
    unpacked: int
    troubles: tuple[str, ...]
