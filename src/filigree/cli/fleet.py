"""The commands about a fleet: what gathers snapshots into a store, and what asks of all of them."""

from collections.abc import Callable
from typing import TYPE_CHECKING, Annotated, Any

import typer

from filigree.cli.files import cache_folder
from filigree.cli.fleet_shown import (
    AskedStore,
    GroupBy,
    StorePlace,
    Told,
    asking,
    one_of,
    shown,
    time_from,
)
from filigree.cli.options import typed_path
from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion

if TYPE_CHECKING:
    from filigree.fleet.asked import Fleet

_Snapshots = Annotated[
    list[str] | None,
    typer.Argument(metavar="SNAPSHOT", help="What is to be taken in.", show_default=False),
]
_Roots = Annotated[
    list[str] | None,
    typer.Option("--root", metavar="DIR|IMAGE", help="Also this root, as it is now; repeatable.",
                 show_default=False),
]  # fmt: skip
_Name = Annotated[
    str | None, typer.Option("--name", help="The name of the host of --root.", show_default=False)
]
_Listed = Annotated[
    str | None,
    typer.Option(
        "--hosts", metavar="FILE", show_default=False,
        help="Your list of hosts and of the keys that vouch for each: nothing else is taken in.",
    ),
]  # fmt: skip
_Bare = Annotated[
    bool, typer.Option("--without-findings", help="Ask no rules of them: that is faster.")
]


@shown
def gather(
    store: StorePlace,
    snapshots: _Snapshots = None,
    roots: _Roots = None,
    name: _Name = None,
    hosts: _Listed = None,
    without_findings: _Bare = False,
) -> Told:
    """Take snapshots into a store, one after the other, each judged first."""
    from filigree.cli.progress import GatherLine
    from filigree.fleet.gate import Gathering, GatherRow, gather
    from filigree.fleet.store import FleetStore

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
            FleetStore(typed_path(store), make=True, cache=cache_folder()),
            [*map(typed_path, snapshots or ())],
            how,
        )
    finally:
        line.close()
    return answer, GatherRow


@shown
def tidy(
    store: StorePlace,
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
    from filigree.fleet.store import FleetStore
    from filigree.fleet.tidying import Keeping, TidyRow, tidy

    return tidy(
        FleetStore(typed_path(store), cache=cache_folder()), Keeping(keep_days, keep_monthly)
    ), TidyRow


@asking
def hosts(
    ask: AskedStore,
    into: Annotated[
        str | None, typer.Option("--into", metavar="FILE.png|FILE.svg", help="Also draw them.",
                                 show_default=False)
    ] = None,
) -> Told:  # fmt: skip
    """Who is there, how old, of which kind; the odd ones of each kind first."""
    from filigree.fleet.questions.hosts import HostRow, hosts

    ending = into.rpartition(".")[2].lower() if into else ""
    if into and ending not in ("png", "svg"):
        raise BadQuestion("what to draw is told by how the file ends", into, "known are .png, .svg")
    answer = ask(hosts)
    if into:
        from filigree.cli.files import write_outside
        from filigree.views.pictures.fleet import fleet_picture

        write_outside(ask.store, typed_path(into), fleet_picture(answer, ending))
    return answer, HostRow


def _grouped(
    ask: AskedStore, group_by: str | None, other: str, row: type,
    question: Callable[["Fleet"], Answer[Any, Any]],
) -> Told:  # fmt: skip
    """The answer to a question, and what its records are, grouped as is wanted."""
    if one_of(group_by or other, other, "host") == other:
        return ask(question), row
    from filigree.fleet.asked import at_host

    return ask(question, by_host=True), at_host(row)


@asking
def census(
    ask: AskedStore,
    names: Annotated[
        list[str], typer.Argument(metavar="NAME", help="A package, or a glob.", show_default=False)
    ],
    older_than: Annotated[
        str | None,
        typer.Option(
            "--older-than", metavar="VERSION", help="Only older versions.", show_default=False
        ),
    ] = None,
    group_by: GroupBy = None,
) -> Told:
    """Which hosts have a package, in which versions."""
    from filigree.fleet.questions.census import FleetCensusRow, FleetVersionsRow, fleet_census

    older = older_than and typed_path(older_than)
    wanted = [*map(typed_path, names)]
    by_host = one_of(group_by or "version", "version", "host") == "host"
    answer = ask(lambda fleet: fleet_census(fleet, wanted, older), by_host)
    return answer, FleetCensusRow if by_host else FleetVersionsRow


@asking
def behind(
    ask: AskedStore,
    security: Annotated[
        bool, typer.Option("--security", help="Only what is for security.")
    ] = False,
    group_by: GroupBy = None,
) -> Told:
    """What has a newer version, at how many hosts, by the indexes that they had."""
    from filigree.fleet.questions.behind import FleetBehindRow, fleet_behind

    return _grouped(
        ask, group_by, "package", FleetBehindRow, lambda fleet: fleet_behind(fleet, security)
    )


@asking
def owner(
    ask: AskedStore,
    subjects: Annotated[
        list[str],
        typer.Argument(
            metavar="PATH|DIGEST", help="A path, or a file's digest.", show_default=False
        ),
    ],
    group_by: GroupBy = None,
) -> Told:
    """Whose a path is, or a file of a digest; at how many hosts."""
    from filigree.fleet.questions.owner import FleetOwnerRow, fleet_owner

    wanted = [*map(typed_path, subjects)]
    return _grouped(ask, group_by, "file", FleetOwnerRow, lambda fleet: fleet_owner(fleet, wanted))


@asking
def needed_by(
    ask: AskedStore,
    names: Annotated[
        list[str], typer.Argument(metavar="NAME", help="A package, or a glob.", show_default=False)
    ],
    group_by: GroupBy = None,
) -> Told:
    """Which hosts would lose what, if a package went."""
    from filigree.fleet.questions.needed_by import FleetNeededByRow, fleet_needed_by

    wanted = [*map(typed_path, names)]
    return _grouped(
        ask, group_by, "package", FleetNeededByRow, lambda fleet: fleet_needed_by(fleet, wanted)
    )


@asking
def timeline(
    ask: AskedStore,
    since: Annotated[
        str | None, typer.Option("--since", metavar="TIME", help="Not before.", show_default=False)
    ] = None,
    until: Annotated[
        str | None,
        typer.Option("--until", metavar="TIME", help="And not after.", show_default=False),
    ] = None,
    group_by: GroupBy = None,
) -> Told:
    """What the histories of hosts tell, day by day."""
    from filigree.fleet.questions.timeline import FleetStepRow, fleet_timeline

    begin, end = time_from(since), time_from(until, end=True)
    return _grouped(
        ask, group_by, "step", FleetStepRow, lambda fleet: fleet_timeline(fleet, begin, end)
    )


@asking
def rare(
    ask: AskedStore,
    at_most: Annotated[
        int, typer.Option("--at-most", min=1, metavar="K", help="So many hosts.")
    ] = 3,
    only: Annotated[
        str | None,
        typer.Option(
            "--only",
            metavar="KIND,KIND…",
            show_default=False,
            help="file, key, repository, package, build, need.",
        ),
    ] = None,
    group_by: GroupBy = None,
) -> Told:
    """What only few hosts have."""
    from filigree.fleet.questions.rare import RareRow, Rarity, rare

    known = [one.value for one in Rarity]
    kinds = frozenset(
        Rarity(one_of(one.strip(), *known)) for one in (only.split(",") if only else known)
    )
    return _grouped(ask, group_by, "thing", RareRow, lambda fleet: rare(fleet, at_most, kinds))


@asking
def differ(ask: AskedStore, group_by: GroupBy = None) -> Told:
    """Files that are unlike what the same package in the same version has at most hosts."""
    from filigree.fleet.questions.differ import DifferRow, differ

    return _grouped(ask, group_by, "file", DifferRow, differ)


@asking
def keys(ask: AskedStore, group_by: GroupBy = None) -> Told:
    """Which keys are trusted, at how many hosts."""
    from filigree.fleet.questions.told import FleetKeyRow, fleet_keys

    return _grouped(ask, group_by, "key", FleetKeyRow, fleet_keys)


@asking
def repos(ask: AskedStore, group_by: GroupBy = None) -> Told:
    """Which repositories there are, at how many hosts."""
    from filigree.fleet.questions.told import FleetRepositoryRow, fleet_repos

    return _grouped(ask, group_by, "repository", FleetRepositoryRow, fleet_repos)


@asking
def findings(ask: AskedStore, group_by: GroupBy = None) -> Told:
    """What is wrong, by rule or by host, worst first."""
    from filigree.fleet.questions.told import FleetFindingRow, fleet_findings

    return _grouped(ask, group_by, "rule", FleetFindingRow, fleet_findings)


@asking
def gaps(ask: AskedStore, group_by: GroupBy = None) -> Told:
    """What could not be looked at, and what was refused."""
    from filigree.fleet.questions.told import FleetGapRow, fleet_gaps

    return _grouped(ask, group_by, "gap", FleetGapRow, fleet_gaps)


@asking
def changed(
    ask: AskedStore,
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
            "--until", metavar="TIME", show_default=False,
            help="To how it was seen last before that; the same as --as-of.",
        ),
    ] = None,
) -> Told:  # fmt: skip
    """What became of each host from one time to another, and what of it nothing explains."""
    from filigree.fleet.questions.changed import ChangedRow, changed

    begin, end = time_from(since), time_from(until, end=True) or ask.as_of
    assert begin is not None
    return ask._replace(as_of=end)(lambda fleet: changed(fleet, begin, end)), ChangedRow


@shown
def ask(
    store: StorePlace,
    text: Annotated[
        str, typer.Argument(metavar="SELECT", help="One question in SQL.", show_default=False)
    ],
) -> Told:
    """Ask the tables themselves; docs/fleet.md tells what they hold."""
    from filigree.fleet.questions.ask import ask
    from filigree.fleet.store import FleetStore

    return ask(FleetStore(typed_path(store), cache=cache_folder()), typed_path(text)), dict
