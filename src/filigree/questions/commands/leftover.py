"""What came as a dependency, and nothing that was chosen needs any more."""

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from filigree.model.answer import Answer
from filigree.model.needs import Relation
from filigree.model.package import Package
from filigree.questions.asking.silence import WHY_INSTALLED, report_silence
from filigree.questions.planning.reachability import Support, Together, clusters, parts
from filigree.questions.planning.world import SystemWorld
from filigree.system import System


@dataclass(frozen=True, slots=True)
class LeftoverRow:
    """One package that is left over. Size in bytes.

    `cluster` numbers those that hang together, the largest first; `leaf` is whether nothing at all needs
    it; `island` whether it is needed only in a circle of packages that keep each other; `needed_by` are
    the packages that do.
    """

    name: str
    version: str
    architecture: str
    installed_size: int | None
    cluster: int
    leaf: bool
    island: bool
    needed_by: list[str]


@dataclass(frozen=True, slots=True)
class LeftoverSummary:
    """What is left over, in so many `clusters`; sizes in bytes.

    `leaves` are needed by nothing, `islands` keep themselves in circles. `kinds` are the ties that keep a
    package, `by_default` whether those are the system's own settings; of `reasons_unknown` packages it is
    not on record why they are there.
    """

    packages: int
    installed_size: int
    clusters: int
    leaves: int
    islands: int
    kinds: list[Relation]
    by_default: bool
    reasons_unknown: int


def leftover(
    system: System, kinds: frozenset[Relation] | None = None, leaf: bool = False
) -> Answer[LeftoverRow, LeftoverSummary]:
    """What no chosen package stands on by ties of these kinds (None: by the system's own settings).

    Of packages whose reason is not on record it is not known that they were not chosen: they stay, and
    what stands below them. With `leaf` only what nothing needs at all.
    """
    kinds = system.database.rules.keeping if kinds is None else kinds
    report_silence(system, "reason", WHY_INSTALLED)
    world = SystemWorld(system)
    together = Together(world, world.installed())
    loose = together.loose(kinds)
    inside = set(loose)
    links = [link for link in together.links(kinds) if link.kept in inside and link.by in inside]
    groups = sorted(
        clusters(loose, links), key=lambda group: (-_size(group), min(p.name for p in group))
    )
    rows = _rows(groups, links)
    shown = [row for row in rows if row.leaf] if leaf else rows
    return Answer(
        "leftover", system.system_label, shown, _summary(system, groups, rows, kinds), system.gaps
    )


def _rows(groups: Sequence[Sequence[Package]], links: Sequence[Support]) -> list[LeftoverRow]:
    packages = [package for group in groups for package in group]
    askers: dict[Package, dict[str, None]] = {}
    for link in links:
        askers.setdefault(link.kept, {})[link.by.name] = None
    island = _islands(packages, links)
    return [
        LeftoverRow(
            package.name, package.version, package.architecture, package.installed_size, number,
            not askers.get(package), package in island, sorted(askers.get(package, ())),
        )
        for number, group in enumerate(groups, 1)
        for package in sorted(group, key=lambda p: p.name)
    ]  # fmt: skip


def _islands(packages: Sequence[Package], links: Iterable[Support]) -> set[Package]:
    """The packages that are in a circle of packages that keep each other."""
    number = {package: at for at, package in enumerate(packages)}
    pairs = [(number[link.by], number[link.kept]) for link in links]
    found = (part for part in parts(len(packages), pairs) if len(part) > 1)
    return {packages[at] for part in found for at in part}


def _size(packages: Iterable[Package]) -> int:
    return sum(package.installed_size or 0 for package in packages)


def _summary(
    system: System,
    groups: Sequence[Sequence[Package]],
    rows: Sequence[LeftoverRow],
    kinds: frozenset[Relation],
) -> LeftoverSummary:
    present = [p for p in system.packages if p.state.present]
    reasons = Counter(p.reason for p in present)
    return LeftoverSummary(
        packages=len(rows),
        installed_size=sum(row.installed_size or 0 for row in rows),
        clusters=len(groups),
        leaves=sum(row.leaf for row in rows),
        islands=sum(row.island for row in rows),
        kinds=sorted(kinds),
        by_default=kinds == system.database.rules.keeping,
        reasons_unknown=reasons[None],
    )
