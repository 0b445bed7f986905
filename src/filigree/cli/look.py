"""The commands that look: survey, census, dossier, seek, contents, owner."""

from typing import Annotated

import typer

from filigree.cli.asked import Shown
from filigree.cli.options import Subjects, kinds_of, question, typed_path
from filigree.model.errors import BadQuestion
from filigree.model.files import Role
from filigree.model.package import Reason, State
from filigree.questions.asking.package_rows import PACKAGE_FIELDS
from filigree.questions.asking.scopes import Scope
from filigree.questions.commands.census import Filter, Matching, Order
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System
from filigree.views.options import (
    NO_OPTIONS,
    CensusOptions,
    ContentsOptions,
    GroupsOptions,
    OwnerOptions,
)


@question
def survey(system: System) -> Shown:
    """What kind of system is this: family, counts, sizes, freshness, health at a glance."""
    from filigree.questions.commands.survey import survey

    return survey(system), NO_OPTIONS


_Patterns = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="PATTERN",
        help="Part of a name; any one is enough.",
        show_default=False,
    ),
]
_Glob = Annotated[bool, typer.Option("--glob", help="Patterns are globs of whole names.")]
_Regex = Annotated[bool, typer.Option("--regex", help="Patterns are regular expressions.")]
_Word = Annotated[bool, typer.Option("--word", help="Patterns are whole words of a name.")]
_Exact = Annotated[bool, typer.Option("--exact", help="Patterns are whole names.")]
_Chosen = Annotated[bool, typer.Option("--chosen", help="Only what a person asked for.")]
_Dependency = Annotated[
    bool, typer.Option("--dependency", help="Only what another package needed.")
]
_Held = Annotated[bool, typer.Option("--held", help="Only what is held at its version.")]
_State = Annotated[
    list[State] | None,
    typer.Option(
        metavar="STATE",
        help=f"Only packages in this state; repeatable: {', '.join(State)}.",
        show_default=False,
    ),
]
_Section = Annotated[
    list[str] | None,
    typer.Option(help="Only this section, a glob; repeatable.", show_default=False),
]
_Arch = Annotated[
    list[str] | None,
    typer.Option(help="Only this architecture; repeatable.", show_default=False),
]
_Group = Annotated[
    list[str] | None,
    typer.Option(
        metavar="GROUP",
        help="The members of this group, by identity, name or glob; repeatable.",
        show_default=False,
    ),
]
_AllGroups = Annotated[
    bool, typer.Option("--groups", help="Which groups the repositories tell of.")
]
_Outsiders = Annotated[
    bool, typer.Option("--outsiders", help="Only what is installed and no repository offers.")
]
_Leftover = Annotated[
    bool, typer.Option("--leftover", help="Only what nothing that was chosen needs any more.")
]
_Leaf = Annotated[
    bool, typer.Option("--leaf", help="Of what is left over, only what nothing needs at all.")
]
_Kinds = Annotated[
    str | None,
    typer.Option(
        metavar="KIND,KIND…",
        help="Which ties keep a package from being left over. Default: the system's own settings.",
        show_default=False,
    ),
]
_Sort = Annotated[Order, typer.Option(help="The largest, newest, and most needed come first.")]
_Reverse = Annotated[bool, typer.Option("--reverse", help="The other way round.")]
_Limit = Annotated[int | None, typer.Option(min=0, help="At most so many.", show_default=False)]
_Count = Annotated[bool, typer.Option("--count", help="Only say how many.")]
_Columns = Annotated[
    str | None,
    typer.Option(
        metavar="NAME,NAME…",
        help=f"What to show of each: {', '.join(PACKAGE_FIELDS)}.",
        show_default=False,
    ),
]


@question
def census(
    system: System,
    patterns: _Patterns = None,
    glob: _Glob = False,
    regex: _Regex = False,
    word: _Word = False,
    exact: _Exact = False,
    chosen: _Chosen = False,
    dependency: _Dependency = False,
    held: _Held = False,
    state: _State = None,
    section: _Section = None,
    arch: _Arch = None,
    group: _Group = None,
    all_groups: _AllGroups = False,
    outsiders: _Outsiders = False,
    leftover: _Leftover = False,
    leaf: _Leaf = False,
    kinds: _Kinds = None,
    sort: _Sort = Order.NAME,
    reverse: _Reverse = False,
    limit: _Limit = None,
    count: _Count = False,
    columns: _Columns = None,
    *,
    scope: Scope,
    sources: RepositoryOptions,
) -> Shown:
    """What is installed: filtered, sorted, counted, totalled."""
    if group or all_groups:
        from filigree.questions.commands.groups import groups

        names = [typed_path(name) for name in group or ()]
        return groups(system, names, sources), GroupsOptions(bool(names))
    if leftover or leaf:
        from filigree.questions.commands.leftover import leftover as left_over

        return left_over(system, kinds_of(kinds) if kinds else None, leaf), NO_OPTIONS
    from filigree.questions.commands.census import Shape, census_flow

    wanted = Filter(
        patterns=tuple(patterns or ()),
        match=_match(glob=glob, regex=regex, word=word, exact=exact),
        reason=_reason(chosen, dependency),
        held=held,
        states=frozenset(state or ()),
        sections=tuple(section or ()),
        architectures=tuple(arch or ()),
        outsiders=outsiders,
    )
    shape = Shape(sort, reverse, limit, "impact" in (columns or ""))
    flow = census_flow(system, wanted, shape, scope, sources)
    return (flow.collected() if count else flow), CensusOptions(count, _columns(columns))


@question
def dossier(
    system: System,
    subjects: Subjects,
    full: Annotated[
        bool, typer.Option("--full", help="Also the record itself, every field by its own name.")
    ] = False,
    *,
    scope: Scope,
    sources: RepositoryOptions,
) -> Shown:
    """Everything known of a package."""
    from filigree.questions.commands.dossier import dossier

    return dossier(system, map(typed_path, subjects), full, scope, sources), NO_OPTIONS


@question
def seek(
    system: System,
    words: Annotated[
        list[str],
        typer.Argument(
            metavar="WORD", help="All must match; case does not count.", show_default=False
        ),
    ],
    names_only: Annotated[
        bool, typer.Option("--names-only", help="Only names, and names that are provided.")
    ] = False,
    regex: Annotated[bool, typer.Option("--regex", help="Words are regular expressions.")] = False,
    installed: Annotated[
        bool, typer.Option("--installed", help="Only among what is installed.")
    ] = False,
    limit: Annotated[
        int | None, typer.Option(min=0, help="At most so many.", show_default=False)
    ] = None,
    *,
    sources: RepositoryOptions,
) -> Shown:
    """Which packages match some words, installed or available."""
    from filigree.questions.commands.seek import seek

    typed = [typed_path(word) for word in words]
    return seek(system, typed, names_only, regex, installed, limit, sources), NO_OPTIONS


@question
def contents(
    system: System,
    subjects: Subjects,
    role: Annotated[
        list[Role] | None,
        typer.Option(
            metavar="ROLE",
            help=f"Only files of this role; repeatable: {', '.join(Role)}.",
            show_default=False,
        ),
    ] = None,
    tree: Annotated[
        bool, typer.Option("--tree", help="Below one another, as directories.")
    ] = False,
    totals: Annotated[
        bool, typer.Option("--totals", help="Only counts and sizes by role.")
    ] = False,
    *,
    scope: Scope,
    sources: RepositoryOptions,
) -> Shown:
    """Which files are in a package, by role."""
    from filigree.questions.commands.contents import contents_flow

    flow = contents_flow(system, map(typed_path, subjects), role or (), scope, sources)
    return (flow.collected() if totals else flow), ContentsOptions(tree, totals)


@question
def owner(
    system: System,
    paths: Annotated[
        list[str],
        typer.Argument(
            metavar="PATH",
            help="A path, a glob of paths, or the bare name of a command.",
            show_default=False,
        ),
    ],
    inside: Annotated[
        list[str] | None,
        typer.Option(
            "--in",
            metavar="ARCHIVE",
            help="Look in this archive, or in those of a glob, and not in what is installed; repeatable.",
            show_default=False,
        ),
    ] = None,
    *,
    scope: Scope,
    sources: RepositoryOptions,
) -> Shown:
    """Which package a path comes from, and how we know."""
    from filigree.questions.commands.owner import owner

    if inside and scope is not Scope.INSTALLED:
        raise BadQuestion(f"--in and --{scope} cannot go together", None, "give one of them")
    answer = owner(system, map(typed_path, paths), map(typed_path, inside or ()), scope, sources)
    return answer, OwnerOptions(bool(inside), scope is not Scope.INSTALLED)


def _match(**chosen: bool) -> Matching:
    wanted = [name for name, given in chosen.items() if given]
    if len(wanted) > 1:
        names = " and ".join(f"--{name}" for name in wanted)
        raise BadQuestion(f"{names} cannot go together", None, "give one of them")
    return Matching(wanted[0]) if wanted else Matching.SUBSTRING


def _reason(chosen: bool, dependency: bool) -> Reason | None:
    if chosen and dependency:
        raise BadQuestion("--chosen and --dependency leave nothing", None, "give one of them")
    if chosen:
        return Reason.CHOSEN
    return Reason.DEPENDENCY if dependency else None


def _columns(text: str | None) -> tuple[str, ...]:
    from difflib import get_close_matches

    names = tuple(name.strip() for name in (text or "").split(",") if name.strip())
    for name in names:
        if name not in PACKAGE_FIELDS:
            close = get_close_matches(name, PACKAGE_FIELDS, n=1)
            advice = f"did you mean {close[0]}?" if close else "see census --help for their names"
            raise BadQuestion(f"no column is called {name}", None, advice)
    return names
