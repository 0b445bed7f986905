"""The commands about a fleet: what gathers snapshots into a store, and what asks of all of them."""

import functools
import inspect
from collections.abc import Callable
from dataclasses import fields, is_dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Annotated, Any

import typer

from filigree.cli.asked import Shared, When
from filigree.cli.files import cache_folder
from filigree.cli.options import typed_path
from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.views.options import FleetOptions
from filigree.views.render import Format

if TYPE_CHECKING:
    from filigree.fleet.asked import Fleet

app = typer.Typer(
    help="Gathers snapshots of many hosts into a store, and asks of all of them as of one.",
    no_args_is_help=True, rich_markup_mode="rich",
)  # fmt: skip
_PANEL = "Showing the answer"
_Store = Annotated[
    str, typer.Argument(metavar="STORE", help="The folder of the store.", show_default=False)
]
_Hosts = Annotated[
    list[str] | None,
    typer.Option(
        "--host", metavar="GLOB", help="Only of these hosts; repeatable.", show_default=False
    ),
]
_AsOf = Annotated[
    str | None,
    typer.Option(
        "--as-of", metavar="TIME", help="As they were seen last before: 2026-03-01, '3 days'.",
        show_default=False,
    ),
]  # fmt: skip
_SHOWN: dict[str, tuple[Any, Any]] = {
    "form": (
        Annotated[Format | None, typer.Option(
            "--format", rich_help_panel=_PANEL, show_default=False,
            help="The default is a table on a terminal, and lines elsewhere.")], None,
    ),
    "color": (
        Annotated[When, typer.Option("--color", rich_help_panel=_PANEL, help="When to use colour.")],
        When.AUTO,
    ),
    "no_pager": (
        Annotated[bool, typer.Option("--no-pager", rich_help_panel=_PANEL, help="Do not page.")], False,
    ),
}  # fmt: skip
Told = tuple[Answer[Any, Any], type]
"""An answer, and what its records are."""


def _shown(command: Callable[..., Told]) -> Callable[..., None]:
    """Make a command of a function that returns an answer: with the options of showing it."""
    signature = inspect.signature(command)
    own = list(signature.parameters.values())
    added = [
        inspect.Parameter(
            name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation
        )
        for name, (annotation, default) in _SHOWN.items()
    ]

    @functools.wraps(command)
    def run(*args: Any, **kwargs: Any) -> None:
        from filigree.cli.showing import show

        shared = Shared(**{name: kwargs.pop(name) for name in _SHOWN})
        answer, record = command(*args, **kwargs)
        names = (
            [one.name for one in fields(record)] if is_dataclass(record) else answer.summary.columns
        )
        show(answer, shared, FleetOptions(tuple(names)))
        raise typer.Exit(answer.exit_status)

    run.__signature__ = signature.replace(parameters=[*own, *added], return_annotation=None)  # type: ignore[attr-defined]
    run.__annotations__ = {one.name: one.annotation for one in [*own, *added]}
    return run


def _time(text: str | None, end: bool = False) -> datetime | None:
    from filigree.questions.timeline.times import moment_from

    return None if text is None else moment_from(text, datetime.now(UTC), end)


def _ask(
    store: str,
    hosts: list[str] | None,
    as_of: str | None,
    ask: Callable[["Fleet"], Answer[Any, Any]],
) -> Answer[Any, Any]:
    from filigree.fleet.asked import FleetWish, asked
    from filigree.fleet.store import Store

    wish = FleetWish(tuple(map(typed_path, hosts or ())), _time(as_of, end=True))
    with asked(Store(typed_path(store)), wish) as fleet:
        return ask(fleet)


@_shown
def gather(
    store: _Store,
    snapshots: Annotated[
        list[str] | None,
        typer.Argument(metavar="SNAPSHOT", help="What is to be taken in.", show_default=False),
    ] = None,
    roots: Annotated[
        list[str] | None,
        typer.Option(
            "--root",
            metavar="DIR|IMAGE",
            help="Also this root, as it is now; repeatable.",
            show_default=False,
        ),
    ] = None,
    name: Annotated[
        str | None,
        typer.Option("--name", help="The name of the host of --root.", show_default=False),
    ] = None,
    hosts: Annotated[
        str | None,
        typer.Option(
            "--hosts",
            metavar="FILE",
            help="Your list of hosts and of the keys that vouch for "
            "each: nothing else is taken in.",
            show_default=False,
        ),
    ] = None,
    without_findings: Annotated[
        bool, typer.Option("--without-findings", help="Ask no rules of them: that is faster.")
    ] = False,
) -> Told:
    """Take snapshots into a store, one after the other, each judged first."""
    from filigree.cli.progress import GatherLine
    from filigree.fleet.gate import Gathering, GatherRow, gather
    from filigree.fleet.store import Store

    if not snapshots and not roots:
        raise BadQuestion(
            "there is nothing to gather", None, "name snapshots, or a root with --root"
        )
    if name is not None and len(roots or ()) != 1:
        raise BadQuestion("--name is of one root", None, "give one --root with it")
    line = GatherLine()
    how = Gathering(
        hosts=hosts and typed_path(hosts), name=name and typed_path(name),
        roots=tuple(map(typed_path, roots or ())), rules=not without_findings, cache=cache_folder(),
        progress=line,
    )  # fmt: skip
    try:
        answer = gather(
            Store(typed_path(store), make=True), [*map(typed_path, snapshots or ())], how
        )
    finally:
        line.close()
    return answer, GatherRow


@_shown
def tidy(
    store: _Store,
    keep_days: Annotated[
        int | None,
        typer.Option(
            "--keep-days", min=0, help="Keep every snapshot of so many days.", show_default=False
        ),
    ] = None,
    keep_monthly: Annotated[
        int | None,
        typer.Option(
            "--keep-monthly",
            min=0,
            help="Keep the last one of each of so many months.",
            show_default=False,
        ),
    ] = None,
) -> Told:
    """Check every digest of a store, drop what is not to be kept, and compact it."""
    from filigree.fleet.store import Store
    from filigree.fleet.tidying import Keeping, TidyRow, tidy

    return tidy(Store(typed_path(store)), Keeping(keep_days, keep_monthly)), TidyRow


@_shown
def hosts(store: _Store, host: _Hosts = None, as_of: _AsOf = None) -> Told:
    """Who is there, how old, of which kind; the odd ones of each kind first."""
    from filigree.fleet.questions.hosts import HostRow, hosts

    return _ask(store, host, as_of, hosts), HostRow


@_shown
def census(
    store: _Store,
    names: Annotated[
        list[str], typer.Argument(metavar="NAME", help="A package, or a glob.", show_default=False)
    ],
    older_than: Annotated[
        str | None,
        typer.Option(
            "--older-than", metavar="VERSION", help="Only older versions.", show_default=False
        ),
    ] = None,
    group_by: Annotated[
        str,
        typer.Option("--group-by", metavar="host|version", help="A record a host, or a version."),
    ] = "version",
    host: _Hosts = None,
    as_of: _AsOf = None,
) -> Told:
    """Which hosts have a package, in which versions."""
    from filigree.fleet.questions.census import FleetCensusRow, FleetVersionsRow, fleet_census

    by_version = _one_of(group_by, "host", "version") == "version"
    older = older_than and typed_path(older_than)
    wanted = [*map(typed_path, names)]
    answer = _ask(store, host, as_of, lambda fleet: fleet_census(fleet, wanted, older, by_version))
    return answer, FleetVersionsRow if by_version else FleetCensusRow


@_shown
def owner(
    store: _Store,
    subjects: Annotated[
        list[str],
        typer.Argument(
            metavar="PATH|DIGEST", help="A path, or a file's digest.", show_default=False
        ),
    ],
    host: _Hosts = None,
    as_of: _AsOf = None,
) -> Told:
    """Whose a path is, or a file of a digest; at how many hosts."""
    from filigree.fleet.questions.owner import FleetOwnerRow, fleet_owner

    wanted = [*map(typed_path, subjects)]
    return _ask(store, host, as_of, lambda fleet: fleet_owner(fleet, wanted)), FleetOwnerRow


@_shown
def rare(
    store: _Store,
    at_most: Annotated[
        int, typer.Option("--at-most", min=1, metavar="K", help="So many hosts.")
    ] = 3,
    only: Annotated[
        str | None,
        typer.Option(
            "--only",
            metavar="KIND,KIND…",
            show_default=False,
            help="file, key, repository, package, build.",
        ),
    ] = None,
    host: _Hosts = None,
    as_of: _AsOf = None,
) -> Told:
    """What only few hosts have."""
    from filigree.fleet.questions.rare import RareRow, Rarity, rare

    known = [one.value for one in Rarity]
    kinds = frozenset(
        Rarity(_one_of(one.strip(), *known)) for one in (only.split(",") if only else known)
    )
    return _ask(store, host, as_of, lambda fleet: rare(fleet, at_most, kinds)), RareRow


@_shown
def differ(store: _Store, host: _Hosts = None, as_of: _AsOf = None) -> Told:
    """Files that are unlike what the same package in the same version has at most hosts."""
    from filigree.fleet.questions.differ import DifferRow, differ

    return _ask(store, host, as_of, differ), DifferRow


@_shown
def keys(store: _Store, host: _Hosts = None, as_of: _AsOf = None) -> Told:
    """Which keys are trusted, at how many hosts."""
    from filigree.fleet.questions.told import FleetKeyRow, fleet_keys

    return _ask(store, host, as_of, fleet_keys), FleetKeyRow


@_shown
def repos(store: _Store, host: _Hosts = None, as_of: _AsOf = None) -> Told:
    """Which repositories there are, at how many hosts."""
    from filigree.fleet.questions.told import FleetRepositoryRow, fleet_repos

    return _ask(store, host, as_of, fleet_repos), FleetRepositoryRow


@_shown
def findings(
    store: _Store,
    group_by: Annotated[
        str,
        typer.Option(
            "--group-by", metavar="rule|host", help="A record a rule, or each by its host."
        ),
    ] = "rule",
    host: _Hosts = None,
    as_of: _AsOf = None,
) -> Told:
    """What is wrong, by rule or by host, worst first."""
    from filigree.fleet.questions.told import FleetFindingRow, fleet_findings

    by_host = _one_of(group_by, "rule", "host") == "host"
    return _ask(store, host, as_of, lambda fleet: fleet_findings(fleet, by_host)), FleetFindingRow


@_shown
def gaps(store: _Store, host: _Hosts = None, as_of: _AsOf = None) -> Told:
    """What could not be looked at, and what was refused."""
    from filigree.fleet.questions.told import FleetGapRow, fleet_gaps

    return _ask(store, host, as_of, fleet_gaps), FleetGapRow


@_shown
def changed(
    store: _Store,
    since: Annotated[
        str,
        typer.Option(
            "--since",
            metavar="TIME",
            help="From how it was seen last before that.",
            show_default=False,
        ),
    ],
    until: Annotated[
        str | None,
        typer.Option(
            "--until",
            metavar="TIME",
            help="To how it was seen last before that.",
            show_default=False,
        ),
    ] = None,
    host: _Hosts = None,
) -> Told:
    """What became of each host from one time to another, and what of it nothing explains."""
    from filigree.fleet.questions.changed import ChangedRow, changed

    begin, end = _time(since), _time(until, end=True)
    assert begin is not None
    return _ask(store, host, until, lambda fleet: changed(fleet, begin, end)), ChangedRow


@_shown
def ask(
    store: _Store,
    text: Annotated[
        str, typer.Argument(metavar="SELECT", help="One question in SQL.", show_default=False)
    ],
) -> Told:
    """Ask the tables themselves; docs/fleet.md tells what they hold."""
    from filigree.fleet.questions.ask import ask
    from filigree.fleet.store import Store

    return ask(Store(typed_path(store)), typed_path(text)), dict


def _one_of(text: str, *known: str) -> str:
    if text not in known:
        raise BadQuestion(f"there is no {text!r} to choose", None, f"known are {', '.join(known)}")
    return text


_COMMANDS: tuple[tuple[str, Callable[..., Any], tuple[str, ...]], ...] = (
    ("gather", gather, ("fleet gather store *.snapshot --hosts hosts.toml",
                        "fleet gather store --root /mnt/heron")),
    ("tidy", tidy, ("fleet tidy store", "fleet tidy store --keep-days 90 --keep-monthly 24")),
    ("hosts", hosts, ("fleet hosts store", "fleet hosts store --host 'gauge-*' --as-of 2026-03-01")),
    ("census", census, ("fleet census store tidegauge", "fleet census store 'libbrine*' --group-by host",
                        "fleet census store tidegauge --older-than 2.1-3")),
    ("owner", owner, ("fleet owner store /usr/bin/tidegauge", "fleet owner store sha256:91ab…")),
    ("rare", rare, ("fleet rare store", "fleet rare store --at-most 1 --only file,key")),
    ("differ", differ, ("fleet differ store",)),
    ("changed", changed, ("fleet changed store --since 2026-03-01",
                          "fleet changed store --since '2 days'")),
    ("findings", findings, ("fleet findings store", "fleet findings store --group-by host")),
    ("keys", keys, ("fleet keys store",)),
    ("repos", repos, ("fleet repos store",)),
    ("gaps", gaps, ("fleet gaps store",)),
    ("ask", ask, ("fleet ask store 'SELECT host, packages FROM snapshots'",)),
)  # fmt: skip


for _name, _command, _examples in _COMMANDS:
    _epilog = "\n\n".join(["Examples:", *(f"  filigree {example}" for example in _examples)])
    app.command(_name, epilog=_epilog)(_command)
