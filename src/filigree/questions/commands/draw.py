"""The neighbourhood of packages: who stands on them, on whom they stand, and by which ties."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from enum import StrEnum

from filigree.model.answer import Answer
from filigree.model.needs import Relation
from filigree.model.package import Package, State, was_chosen
from filigree.questions.asking.package_rows import short_labels
from filigree.questions.asking.scopes import Lookup, Scope, looking
from filigree.questions.asking.silence import WHY_INSTALLED, known_chosen, report_silence
from filigree.questions.asking.subjects import match_subjects
from filigree.questions.dependencies.graph import Graph
from filigree.questions.dependencies.ties import HARD, Tie
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System

LIMIT = 60
DEPTH = 2
_IN_A_LEVEL = 16
_FEWEST = 2


class Side(StrEnum):
    """Where a package is, seen from the subjects."""

    SUBJECT = "subject"
    NEEDS = "needs"
    NEEDED_BY = "needed-by"


class NodeStatus(StrEnum):
    """What a node stands for."""

    INSTALLED = "installed"
    AVAILABLE = "available"
    ARCHIVE = "archive"
    UNMET = "unmet"
    SEVERAL = "several"


@dataclass(frozen=True, slots=True)
class DrawnTie:
    """A tie to another node. `met` is None where that cannot be judged."""

    to: str
    kind: Relation
    requirement: str
    met: bool | None


@dataclass(frozen=True, slots=True)
class NodeRow:
    """One node: a package, a need that nothing meets, or several packages of one level together.

    `node` is its name among the others, `depth` how far it is from the subjects, `packages` how many it
    stands for; `ties` lead to the nodes that it needs. Size in bytes.
    """

    node: str
    name: str | None
    version: str | None
    architecture: str | None
    side: Side
    depth: int
    status: NodeStatus
    chosen: bool | None
    installed_size: int | None
    repository: str | None
    packages: int
    ties: list[DrawnTie]


@dataclass(slots=True, eq=False)
class _Node:
    side: Side
    depth: int
    package: Package | None = None
    text: str = ""
    members: list["_Node"] = field(default_factory=list)
    label: str = ""

    @property
    def size(self) -> int:
        if self.members:
            return sum(member.size for member in self.members)
        return (self.package.installed_size or 0) if self.package else 0


@dataclass(frozen=True, slots=True)
class DrawSummary:
    """What a picture shows: the names of the nodes asked about, how many nodes, packages and ties.

    `gathered` is how many nodes were put into others, `kinds` the kinds of ties that are followed.
    """

    subjects: list[str]
    nodes: int
    packages: int
    gathered: int
    ties: int
    unmet: int
    kinds: list[Relation]


def draw(
    system: System,
    subjects: Iterable[str],
    depth: int | None = DEPTH,
    kinds: frozenset[Relation] = HARD,
    side: Side | None = None,
    limit: int = LIMIT,
    scope: Scope = Scope.INSTALLED,
    options: RepositoryOptions = EVERYTHING,
) -> Answer[NodeRow, DrawSummary]:
    """The nodes within `depth` steps (None: all) of the subjects, on one side of them or on both.

    Where there are more than `limit`, the smaller packages of a level become one node together. Bad
    news where a subject is unknown.
    """
    if scope is not Scope.AVAILABLE:
        report_silence(system, "reason", WHY_INSTALLED)
    with looking(system, scope, options) as lookup:
        matched = match_subjects(system, subjects, lookup)
        notes = [*lookup.notes, *map(str, matched.unmatched)]
        picture = _Picture(system, lookup, kinds)
        picture.start(matched.packages)
        if side is not Side.NEEDED_BY:
            picture.spread(matched.packages, depth, backwards=False)
        if side is not Side.NEEDS:
            picture.spread(matched.packages, depth, backwards=True)
        every = len(picture.nodes)
        picture.gather(limit)
        rows = picture.rows()
        summary = DrawSummary(
            subjects=[row.node for row in rows if row.side is Side.SUBJECT],
            nodes=len(rows),
            packages=sum(row.packages for row in rows if row.status is not NodeStatus.UNMET),
            gathered=every - len(rows) if every > len(rows) else 0,
            ties=sum(len(row.ties) for row in rows),
            unmet=sum(row.status is NodeStatus.UNMET for row in rows),
            kinds=sorted(kinds),
        )
        return Answer(
            "draw", system.system_label, rows, summary, system.gaps, notes, bad_news=bool(notes)
        )


class _Picture:
    """The nodes as they are found, and the ties between them."""

    def __init__(self, system: System, lookup: Lookup, kinds: frozenset[Relation]) -> None:
        self._system = system
        self._graph = Graph(system, lookup)
        self._kinds = kinds
        self.nodes: list[_Node] = []
        self._of: dict[Package, _Node] = {}
        self._unmet: dict[str, _Node] = {}
        self._ties: dict[Package, list[Tie]] = {}

    def start(self, packages: Sequence[Package]) -> None:
        for package in packages:
            self._enter(package, Side.SUBJECT, 0)

    def _enter(self, package: Package, side: Side, depth: int) -> None:
        if package not in self._of:
            node = self._of[package] = _Node(side, depth, package)
            self.nodes.append(node)

    def spread(self, packages: Sequence[Package], depth: int | None, backwards: bool) -> None:
        """Everything within so many steps, on one side."""
        side = Side.NEEDED_BY if backwards else Side.NEEDS
        for package in packages:
            for step in self._graph.levels(package, self._kinds, depth, backwards):
                tie = step.tie
                end = tie.asker if backwards else tie.holder
                if end is not None:
                    self._enter(end, side, step.depth)
                elif tie.met is False and tie.need.text not in self._unmet:
                    node = _Node(side, step.depth, None, tie.need.text)
                    self._unmet[tie.need.text] = node
                    self.nodes.append(node)
                self._ties.setdefault(tie.asker, []).append(tie)

    def gather(self, limit: int) -> None:
        """Let the least of crowded levels become one node together."""
        levels: dict[tuple[Side, int], list[_Node]] = {}
        for node in self.nodes:
            levels.setdefault((node.side, node.depth), []).append(node)
        caps = {
            key: len(level) if key[1] == 0 else min(len(level), _IN_A_LEVEL)
            for key, level in levels.items()
        }
        while sum(caps.values()) > limit:
            widest = max(caps, key=lambda key: (caps[key], key[1]))
            if caps[widest] <= _FEWEST:
                break
            caps[widest] -= 1
        kept: list[_Node] = []
        for (side, depth), level in levels.items():
            cap = caps[side, depth]
            if len(level) <= cap:
                kept += level
                continue
            level.sort(key=_weight, reverse=True)
            shown, rest = level[: cap - 1], level[cap - 1 :]
            together = _Node(side, depth, members=rest)
            for node in rest:
                if node.package is not None:
                    self._of[node.package] = together
                else:
                    self._unmet[node.text] = together
            kept += [*shown, together]
        self.nodes = kept

    def rows(self) -> list[NodeRow]:
        packages = [node.package for node in self.nodes if node.package is not None]
        labels = iter(short_labels(packages))
        for node in self.nodes:
            if node.package is not None:
                node.label = next(labels)
            elif node.members:
                who = "more" if node.side is Side.NEEDS else "askers"
                node.label = f"{len(node.members):,} {who}, {node.depth} away"
            else:
                node.label = node.text
        return [self._row(node) for node in self.nodes]

    def _row(self, node: _Node) -> NodeRow:
        package = node.package
        members = [member.package for member in node.members] if node.members else [package]
        ties: dict[tuple[str, Relation], DrawnTie] = {}
        for member in members:
            for tie in self._all_ties(member) if member is not None else ():
                other = self._of.get(tie.holder) if tie.holder else None
                if tie.met is False:
                    other = self._unmet.get(tie.need.text)
                if other is not None and other is not node:
                    key = (other.label, tie.need.kind)
                    ties.setdefault(key, DrawnTie(*key, tie.need.text, tie.met))
        return NodeRow(
            node=node.label, name=package.name if package else None,
            version=package.version if package else None,
            architecture=package.architecture if package else None, side=node.side, depth=node.depth,
            status=_status(node),
            chosen=_chosen(self._system, package),
            installed_size=node.size if package or node.members else None,
            repository=package.repository if package and package.state is State.AVAILABLE else None,
            packages=len(node.members) or 1, ties=list(ties.values()),
        )  # fmt: skip

    def _all_ties(self, package: Package) -> list[Tie]:
        """The ties of a package to others: those that the walks met, and those between neighbours."""
        if package.state.present or package.state is State.ARCHIVE:
            return [tie for tie in self._graph.forward(package) if tie.need.kind in self._kinds]
        return self._ties.get(package, [])


def _chosen(system: System, package: Package | None) -> bool | None:
    if package is None or not package.state.present:
        return None
    return known_chosen(system, package)


def _status(node: _Node) -> NodeStatus:
    if node.members:
        return NodeStatus.SEVERAL
    if node.package is None:
        return NodeStatus.UNMET
    if node.package.state.present:
        return NodeStatus.INSTALLED
    return NodeStatus.ARCHIVE if node.package.state is State.ARCHIVE else NodeStatus.AVAILABLE


def _weight(node: _Node) -> tuple[bool, bool, int, str]:
    """What should be seen by itself first: what is unmet, then what was chosen, then what is big."""
    package = node.package
    asked = package is not None and package.state.present and was_chosen(package)
    return package is None, asked, node.size, package.name if package else node.text
