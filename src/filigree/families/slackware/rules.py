"""By which rules packages of one `slackware` system go together."""

from filigree.families.protocol import Asked, Provided
from filigree.families.shared import matching
from filigree.families.slackware import described
from filigree.formats.slackware.versions import compare_versions
from filigree.model.needs import Relation
from filigree.model.package import Package

_ANYWHERE = (*described.ANYWHERE, described.SOURCE)


class SlackwareRules:
    """The rules of a system of this architecture."""

    marks: frozenset[str] = frozenset()
    keeping = frozenset({Relation.REQUIRES})

    def __init__(self, native: str | None) -> None:
        self.machines = (native, *_ANYWHERE) if native else ()
        self._native = native

    def satisfies(self, asked: Asked, provided: Provided) -> bool:
        return matching.term_is_met(asked.term, provided.capability, compare_versions)

    def forbids(self, kind: Relation, asked: Asked, provided: Provided) -> bool:
        return matching.conflicts(
            kind, asked.term, asked.asker, provided.holder, provided.capability, compare_versions
        )

    def rivals(self, *_: Package) -> str | None:
        return "a package takes the place of one of its name"

    def machine_of(self, package: Package) -> str:
        return matching.machine_of(package.architecture, self._native, _ANYWHERE)

    def stays(self, *_: Package) -> bool:
        return False
