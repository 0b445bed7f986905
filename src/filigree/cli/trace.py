"""The commands that trace: needs, needed-by, because, obstacles, whatif, draw."""

from enum import StrEnum
from typing import TYPE_CHECKING, Annotated

import typer

from filigree.cli import planned
from filigree.cli.asked import Shown
from filigree.cli.options import KINDS, Subjects, kinds_of, question, typed_path
from filigree.model.errors import BadQuestion
from filigree.model.needs import Relation
from filigree.questions.asking.scopes import Scope
from filigree.questions.dependencies.ties import HARD
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System
from filigree.views.options import NO_OPTIONS, DrawOptions, NeedsOptions

if TYPE_CHECKING:
    from filigree.questions.commands.needs import Layout


class Only(StrEnum):
    """One side of a subject."""

    NEEDS = "needs"
    NEEDED_BY = "needed-by"


Deep = Annotated[bool, typer.Option("--deep", help="All the way, as a tree.")]
Depth = Annotated[
    int | None, typer.Option(min=1, help="So many steps, as a tree.", show_default=False)
]
Flat = Annotated[
    bool, typer.Option("--flat", help="All the way, each package once, with how far away it is.")
]
Levels = Annotated[
    bool, typer.Option("--levels", help="All the way, each package once, by how far away it is.")
]
Kinds = Annotated[
    str | None,
    typer.Option(
        metavar="KIND,KIND…",
        help=f"Which ties to follow: {', '.join(KINDS)}, or all. Default: what is required.",
        show_default=False,
    ),
]


@question
def needs(
    system: System,
    subjects: Subjects,
    deep: Deep = False,
    depth: Depth = None,
    flat: Flat = False,
    levels: Levels = False,
    kinds: Kinds = None,
    missing: Annotated[
        bool,
        typer.Option(
            "--missing",
            help="Only what is not installed, to the end; what is recommended counts too.",
        ),
    ] = False,
    *,
    scope: Scope,
    sources: RepositoryOptions,
) -> Shown:
    """What a package requires, with versions, met or unmet."""
    from filigree.questions.commands.needs import needs

    names = map(typed_path, subjects)
    layout = _layout(flat, levels)
    steps = _depth(deep or flat or levels or missing, depth)
    wanted = _kinds(kinds)
    if missing:
        scope = Scope.ANY if scope is Scope.INSTALLED else scope
        wanted = wanted if kinds else wanted | {Relation.RECOMMENDS}
    return needs(system, names, steps, wanted, scope, sources, layout, missing), NeedsOptions()


@question
def needed_by(
    system: System,
    subjects: Subjects,
    deep: Deep = False,
    depth: Depth = None,
    flat: Flat = False,
    levels: Levels = False,
    kinds: Kinds = None,
    chosen_only: Annotated[
        bool,
        typer.Option(
            "--chosen-only",
            help="Only what a person asked for, however far away, the nearest first.",
        ),
    ] = False,
    count: Annotated[
        bool, typer.Option("--count", help="Only say how many, all the way, and how big.")
    ] = False,
    *,
    scope: Scope,
    sources: RepositoryOptions,
) -> Shown:
    """What requires a package."""
    from filigree.questions.commands.needs import needed_by

    names = map(typed_path, subjects)
    steps = _depth(deep or flat or levels or chosen_only or count, depth)
    layout = _layout(flat, levels, count)
    answer = needed_by(system, names, steps, _kinds(kinds), scope, sources, layout, chosen_only)
    return answer, NeedsOptions(count)


@question
def because(
    system: System,
    subjects: Subjects,
    chains: Annotated[int, typer.Option(min=1, help="At most so many chains of each.")] = 3,
    *,
    scope: Scope,
    sources: RepositoryOptions,
) -> Shown:
    """Why a package is here: the chains from what was chosen to it."""
    from filigree.questions.commands.because import because

    return because(system, map(typed_path, subjects), chains, scope, sources), NO_OPTIONS


@question
def obstacles(system: System, subjects: Subjects, *, sources: RepositoryOptions) -> Shown:
    """What keeps a package that is offered, or an archive, from being installed here."""
    from filigree.questions.commands.obstacles import obstacles

    return obstacles(system, map(typed_path, subjects), sources), NO_OPTIONS


@question
def whatif(
    system: System,
    add: planned.Add = None,
    drop: planned.Drop = None,
    upgrade: planned.Upgrade = None,
    with_recommends: Annotated[
        bool, typer.Option("--with-recommends", help="Also what comes with a recommendation.")
    ] = False,
    may_drop: Annotated[
        bool, typer.Option("--may-drop", help="Upgrade everything, even where something must go.")
    ] = False,
    *,
    sources: RepositoryOptions,
) -> Shown:
    """What would come, go, change and be left over. Nothing is changed."""
    from filigree.questions.commands.whatif import whatif

    if not add and not drop and not upgrade:
        raise BadQuestion("nothing is asked for", None, "give --add, --drop or --upgrade")
    wishes = (map(typed_path, given or ()) for given in (add, drop, upgrade))
    comes, goes, renewed = wishes
    return whatif(system, comes, goes, renewed, with_recommends, may_drop, sources), NO_OPTIONS


@question
def draw(
    system: System,
    subjects: Subjects,
    into: Annotated[
        str | None,
        typer.Option(
            metavar="FILE",
            help="Where to draw: a file that ends in .png, .svg, .dot, .graphml or .json.",
            show_default=False,
        ),
    ] = None,
    depth: Annotated[int, typer.Option(min=1, help="So many steps on each side.")] = 2,
    deep: Annotated[bool, typer.Option("--deep", help="All the way.")] = False,
    only: Annotated[Only | None, typer.Option(help="Only one side.", show_default=False)] = None,
    kinds: Kinds = None,
    limit: Annotated[
        int, typer.Option(min=10, help="Of more nodes the smaller are drawn as one.")
    ] = 60,
    *,
    scope: Scope,
    sources: RepositoryOptions,
) -> Shown:
    """A picture of who needs a package, and of what it needs."""
    from filigree.cli.files import write_outside
    from filigree.questions.commands.draw import Side, draw
    from filigree.views.pictures.open_formats import ENDINGS, drawing

    ending = into.rpartition(".")[2].lower() if into else ""
    if into and ending not in (*ENDINGS, "gv"):
        raise BadQuestion(
            "what to draw is told by how the file ends", into, f"known are .{', .'.join(ENDINGS)}"
        )
    side = Side(only.value) if only else None
    names = map(typed_path, subjects)
    steps = None if deep else depth
    answer = draw(system, names, steps, _kinds(kinds), side, limit, scope, sources)
    if into and answer.records:
        write_outside(system.root, into, drawing(answer, ending) or b"")
    return answer, DrawOptions(into if answer.records else None)


def _depth(deep: bool, depth: int | None) -> int | None:
    return depth if depth is not None else None if deep else 1


def _layout(flat: bool, levels: bool, count: bool = False) -> "Layout":
    from filigree.questions.commands.needs import Layout

    if flat and levels:
        raise BadQuestion("--flat and --levels cannot go together", None, "give one of them")
    if count:
        return Layout.COUNT
    return Layout.LEVELS if levels else Layout.FLAT if flat else Layout.TREE


def _kinds(text: str | None) -> frozenset[Relation]:
    return HARD if text is None else kinds_of(text)
