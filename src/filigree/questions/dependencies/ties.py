"""Ties: one package's need, and another that meets it."""

from typing import NamedTuple

from filigree.model.needs import Need, Relation
from filigree.model.package import Package

HARD = frozenset({Relation.REQUIRES_FIRST, Relation.REQUIRES})
"""Ties without which a package does not work."""


class Tie(NamedTuple):
    """One need between two packages.

    `holder` is None where nothing installed meets it, and where it is `met` without any package.
    `met` is None where that cannot be judged.
    """

    asker: Package
    need: Need
    holder: Package | None
    met: bool | None
