"""The nouns of images: one image of a store, and one layer of it."""

from typing import NamedTuple

from filigree.access.images.layers import LayerPromise, LayerRead
from filigree.formats.images.descriptors import Configuration, Platform
from filigree.model.images import LayerFacts


class ImageLayer(NamedTuple):
    """One layer of an image: where it lies, what is said of it, and what it turned out to be.

    `made_by` is the instruction that it was made by, as the configuration tells.
    """

    number: int
    name: str
    promise: LayerPromise
    record: str
    facts: LayerRead
    made_at: str | None = None
    made_by: str | None = None

    @property
    def told(self) -> LayerFacts:
        """What people are told of it."""
        facts = self.facts
        return LayerFacts(
            number=self.number, digest=facts.digest, made_at=self.made_at, made_by=self.made_by,
            size=facts.size, unpacked=facts.unpacked, troubles=facts.troubles,
        )  # fmt: skip


class Image(NamedTuple):
    """One image of a store. `troubles` are why it is not what it is said to be, as a whole."""

    names: tuple[str, ...]
    platform: Platform | None
    digest: str | None
    configuration: Configuration | None
    layers: tuple[tuple[str, LayerPromise], ...]
    troubles: tuple[str, ...] = ()
