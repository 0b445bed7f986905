"""Why a package is here: the chains from what was chosen to it."""

from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum

from filigree.model.answer import Answer
from filigree.model.needs import Condition, Relation, terms_of
from filigree.model.package import Package, Reason, State, was_chosen
from filigree.questions.asking.scopes import Lookup, Scope, looking
from filigree.questions.asking.silence import WHY_INSTALLED, known_chosen, report_silence
from filigree.questions.asking.subjects import Unmatched, is_path, match_subjects
from filigree.questions.dependencies.breadth_first import breadth_first
from filigree.questions.dependencies.graph import Graph
from filigree.questions.dependencies.ties import HARD, Tie
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.questions.planning.reachability import BACKWARDS
from filigree.questions.planning.world import SystemWorld
from filigree.system import System

CHAINS = 3
_WEAK = (Relation.RECOMMENDS, Relation.SUPPLEMENTS, Relation.SUGGESTS, Relation.ENHANCES)
_VERBS = {
    Relation.RECOMMENDS: "recommended", Relation.SUPPLEMENTS: "a supplement",
    Relation.SUGGESTS: "suggested", Relation.ENHANCES: "an enhancement",
}  # fmt: skip


class StayStatus(StrEnum):
    """Why a package is here, in one word."""

    CHOSEN = "chosen"
    PROTECTED = "protected"
    NEEDED = "needed"
    WISHED = "wished"
    LEFT_OVER = "left-over"
    NOT_INSTALLED = "not-installed"


@dataclass(frozen=True, slots=True)
class ChainStep:
    """One package of a chain, and the need by which it asks for the next; None at the end of it."""

    name: str
    version: str
    kind: Relation | None
    requirement: str | None


@dataclass(frozen=True, slots=True)
class Chain:
    """A chain from something chosen down to the subject."""

    steps: list[ChainStep]


@dataclass(frozen=True, slots=True)
class BecauseRow:
    """One package, why it is here, and chains that share nothing but itself, the shortest first.

    `status` is None where the family does not record why packages are there; then the chains start at
    what asks for it. `more` is whether there are further independent chains than were asked for.
    """

    subject: str
    version: str
    architecture: str
    reason: Reason | None
    status: StayStatus | None
    words: str
    chains: list[Chain]
    more: bool


@dataclass(frozen=True, slots=True)
class BecauseSummary:
    """How many of the packages asked about are here for which reason; of `not_told` none is known."""

    chosen: int
    protected: int
    needed: int
    wished: int
    left_over: int
    not_installed: int
    not_told: int


def because(
    system: System,
    subjects: Iterable[str],
    limit: int = CHAINS,
    scope: Scope = Scope.INSTALLED,
    options: RepositoryOptions = EVERYTHING,
) -> Answer[BecauseRow, BecauseSummary]:
    """The chains from chosen packages to the subjects, at most `limit` of each.

    For what is not installed: who recommends or suggests it; it is looked up among what is offered, and
    else by its name alone. Bad news where nothing that was chosen
    stands on a subject that is installed, or a subject is unknown.
    """
    with looking(system, scope, options) as lookup:
        matched = match_subjects(system, subjects, lookup)
        graph = Graph(system)
        report_silence(system, "reason", WHY_INSTALLED)
        rows = [_row(lookup, graph, package, limit) for package in matched.packages]
        unmatched = matched.unmatched
        if scope is Scope.INSTALLED and unmatched:
            more, unmatched = _elsewhere(system, unmatched, limit, options)
            rows += more
        notes = [*lookup.notes, *map(str, unmatched)]
        return Answer(
            "because", system.system_label, rows, _summary(rows), system.gaps, notes,
            bad_news=bool(notes) or any(row.status is StayStatus.LEFT_OVER for row in rows),
        )  # fmt: skip


def _summary(rows: Iterable[BecauseRow]) -> BecauseSummary:
    counted = Counter(row.status for row in rows)
    return BecauseSummary(
        chosen=counted[StayStatus.CHOSEN], protected=counted[StayStatus.PROTECTED],
        needed=counted[StayStatus.NEEDED], wished=counted[StayStatus.WISHED],
        left_over=counted[StayStatus.LEFT_OVER], not_installed=counted[StayStatus.NOT_INSTALLED],
        not_told=counted[None],
    )  # fmt: skip


def _row(lookup: Lookup, graph: Graph, package: Package, limit: int) -> BecauseRow:
    if not package.state.present:
        return _not_here(lookup, package, limit)
    chains = _chains(graph, package, HARD, limit + 1)
    if known_chosen(lookup.system, package) is None:
        words = "nothing on record says why it is here"
        if chains:
            words += f"; {chains[0][0].asker.name} stands on it"
        return _present(package, None, words, chains, limit)
    if package.reason is not Reason.DEPENDENCY:
        words = (
            "it was chosen itself" if package.reason else "the records do not say why it is here"
        )
        if chains:
            words += f"; and {chains[0][0].asker.name} stands on it too"
        return _present(package, StayStatus.CHOSEN, words, chains, limit)
    if chains:
        return _present(package, StayStatus.NEEDED, _count(chains, limit), chains, limit)
    if package.protected:
        words = "it is protected, and no chosen package needs it"
        return _present(package, StayStatus.PROTECTED, words, [], limit)
    return _only_wished(lookup.system, graph, package, limit) or _left_over(graph, package, limit)


def _present(
    package: Package,
    status: StayStatus | None,
    words: str,
    found: Sequence[list[Tie]],
    limit: int,
) -> BecauseRow:
    """The record of a package that is installed."""
    chains = [Chain(_steps(chain, package)) for chain in found[:limit]]
    return BecauseRow(
        package.name, package.version, package.architecture, package.reason, status, words,
        chains, len(found) > limit,
    )  # fmt: skip


def _only_wished(system: System, graph: Graph, package: Package, limit: int) -> BecauseRow | None:
    """The record of what something chosen recommends, suggests or the like; None where nothing does."""
    for kind in _WEAK:
        chains = _chains(graph, package, HARD | {kind}, limit + 1)
        if chains:
            words = f"it is only {_VERBS[kind]}: nothing that was chosen requires it"
            if kind not in system.database.rules.keeping:
                words += "; by this system's settings that does not keep it"
            return _present(package, StayStatus.WISHED, words, chains, limit)
    return None


def _left_over(graph: Graph, package: Package, limit: int) -> BecauseRow:
    """The record of what nothing chosen stands on."""
    askers = [tie.asker for tie in graph.reverse(package) if tie.need.kind in HARD]
    words = "nothing needs it any more"
    if askers:
        names = ", ".join(sorted({asker.name for asker in askers})[:CHAINS])
        words = f"only {names} needs it, which nothing chosen stands on"
    return _present(package, StayStatus.LEFT_OVER, words, [], limit)


def _count(chains: Sequence[list[Tie]], limit: int) -> str:
    if len(chains) == 1:
        return "one chain leads to it"
    if len(chains) > limit:
        return f"more than {limit} independent chains lead to it"
    return f"{len(chains)} independent chains lead to it"


def _steps(chain: Sequence[Tie], package: Package) -> list[ChainStep]:
    steps = [
        ChainStep(tie.asker.name, tie.asker.version, tie.need.kind, tie.need.text) for tie in chain
    ]
    return [*steps, ChainStep(package.name, package.version, None, None)]


def _chains(
    graph: Graph, package: Package, kinds: Collection[Relation], limit: int
) -> list[list[Tie]]:
    """Shortest chains from chosen packages, of which no two share a package on the way."""
    used: set[Package] = set()
    found: list[list[Tie]] = []
    while len(found) < limit:
        chain = _shortest(graph, package, kinds, used)
        if chain is None:
            break
        found.append(chain)
        used |= {tie.asker for tie in chain}
    return found


def _shortest(
    graph: Graph, package: Package, kinds: Collection[Relation], used: set[Package]
) -> list[Tie] | None:
    """A shortest chain to a package from one that was chosen, breadth first from its end."""
    below: dict[Package, Tie] = {}

    def onward(end: Package) -> Iterator[tuple[Tie, Package]]:
        return ((tie, tie.asker) for tie in _askers(graph, end, kinds))

    for tie, asker, _ in breadth_first([package], onward, seen=set(used)):
        below[tie.asker] = tie
        if asker is not None and was_chosen(asker):
            return _down(below, tie, package)
    return None


def _askers(graph: Graph, package: Package, kinds: Collection[Relation]) -> list[Tie]:
    """What keeps a package, nearest kinds first: what it supplements or enhances among it."""
    ties = [
        tie
        for tie in graph.reverse(package)
        if tie.need.kind in kinds and tie.need.kind not in BACKWARDS
    ]
    for tie in graph.forward(package):
        if tie.need.kind in kinds and tie.need.kind in BACKWARDS and tie.holder is not None:
            ties.append(tie._replace(asker=tie.holder, holder=package))
    return sorted(ties, key=lambda tie: tie.need.kind not in HARD)


def _down(below: dict[Package, Tie], first: Tie, package: Package) -> list[Tie]:
    chain = [first]
    while chain[-1].holder is not None and chain[-1].holder is not package:
        chain.append(below[chain[-1].holder])
    return chain


def _elsewhere(
    system: System, unmatched: Sequence[Unmatched], limit: int, options: RepositoryOptions
) -> tuple[list[BecauseRow], list[Unmatched]]:
    """Of subjects that are not installed those of which something can be said, and the others."""
    rows, rest = [], []
    with looking(system, Scope.AVAILABLE, options._replace(quiet=True, addresses=())) as lookup:
        for one in unmatched:
            found = match_subjects(system, [one.subject], lookup).packages
            if not found and one.subject.isprintable() and not is_path(one.subject):
                named = Package(one.subject, "", "", system.family.name, State.NOT_INSTALLED)
                row = _not_here(lookup, named, limit)
                if row.chains:
                    rows.append(row)
                    continue
            rows += (_not_here(lookup, package, limit) for package in found)
            rest += [] if found else [one]
    return rows, rest


def _not_here(lookup: Lookup, package: Package, limit: int) -> BecauseRow:
    """Who among the installed asks for something that is not there."""
    world = SystemWorld(lookup.system, lookup)
    names = {package.name}
    if package.state is not State.NOT_INSTALLED:
        names |= {capability.name for capability in world.capabilities(package)}
    found: list[tuple[Package, Relation, str]] = []
    for asker in world.installed():
        for need in world.needs(asker):
            if need.kind.positive and _names(need.condition) & names:
                found.append((asker, need.kind, need.text))
    order = (*sorted(HARD), *_WEAK)
    found.sort(key=lambda one: order.index(one[1]) if one[1] in order else len(order))
    where = "an archive" if package.state is State.ARCHIVE else "not installed"
    if not found:
        words = f"it is {where}, and nothing installed asks for it"
    else:
        verbs = list(dict.fromkeys(kind.value for _, kind, _ in found))
        words = f"it is {where}; installed packages name it: {', '.join(verbs)}"
    chains = [
        Chain([
            ChainStep(asker.name, asker.version, kind, text),
            ChainStep(package.name, package.version, None, None),
        ])
        for asker, kind, text in found
    ]  # fmt: skip
    return BecauseRow(
        package.name, package.version, package.architecture, None, StayStatus.NOT_INSTALLED, words,
        chains[:limit], len(chains) > limit,
    )  # fmt: skip


def _names(condition: Condition) -> set[str]:
    return {term.name for term in terms_of(condition)}
