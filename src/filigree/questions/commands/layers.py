"""What each layer of an image brings, changes and takes away."""

from dataclasses import dataclass

from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.model.files import Role
from filigree.questions.finding.layer_changes import (
    LayerFiles,
    LayerHistories,
    LayerHistory,
    LayerPackage,
)
from filigree.questions.finding.ranks import Rank
from filigree.system import System


@dataclass(frozen=True, slots=True)
class LayerRow:
    """One layer. `size` is that of its blob as it lies, `unpacked` of what comes out of it, in bytes;
    `made_by` is the instruction that made it, None where the image does not tell; `troubles` are why it
    is not what it is said to be."""

    number: int
    digest: str
    made_at: str | None
    made_by: str | None
    size: int
    unpacked: int
    brings: list[LayerPackage]
    changes: list[LayerPackage]
    removes: list[LayerPackage]
    files: LayerFiles
    troubles: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class LayersSummary:
    """An image as a whole: its layers and bytes, and how many paths of packages were altered or removed
    by layers that their records do not stand in. `effective` are the bytes that can be seen at last."""

    layers: int
    size: int
    unpacked: int
    effective: int
    foreign: int
    of_nobody: int
    hidden: int
    hidden_size: int


def layers(system: System) -> Answer[LayerRow, LayersSummary]:
    """Every layer of an image, the lowest first. Raises BadQuestion of a root that has none.

    Bad news where a layer alters or removes a file of a package that another one brought (configuration
    apart), where one brings a program of nobody's and nothing tells why, or hides what runs with
    somebody else's rights; and where a layer is not what it is said to be.
    """
    layered = system.tree.layered
    if layered is None:
        raise BadQuestion("it has no layers: it is no image", system.root)
    found = LayerHistories(system, layered).all()
    facts = layered.facts
    summary = LayersSummary(
        layers=facts.layers, size=facts.size, unpacked=facts.unpacked, effective=facts.effective,
        foreign=sum(1 for one in found for _ in one.files.foreign),
        of_nobody=sum(one.files.of_nobody_count for one in found),
        hidden=sum(one.files.hidden_count for one in found),
        hidden_size=sum(one.files.hidden_size for one in found),
    )  # fmt: skip
    return Answer(
        "layers", system.system_label, [_row(one) for one in found], summary, system.gaps,
        bad_news=any(_is_bad(one) for one in found),
    )  # fmt: skip


def _row(one: LayerHistory) -> LayerRow:
    facts = one.facts
    return LayerRow(
        number=facts.number, digest=facts.digest, made_at=facts.made_at, made_by=facts.made_by,
        size=facts.size, unpacked=facts.unpacked, brings=one.brings, changes=one.changes,
        removes=one.removes, files=one.files, troubles=facts.troubles,
    )  # fmt: skip


def _is_bad(one: LayerHistory) -> bool:
    files = one.files
    return (
        any(row.role is not Role.CONFIG for row in files.foreign)
        or any(row.cause is None for row in files.of_nobody)
        or any(row.rank is Rank.RIGHTS for row in files.hidden)
        or bool(one.facts.troubles)
    )
