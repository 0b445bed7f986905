"""What a shell may put in the place of a word that was begun: values of options, rules, groups,
repositories, packages, paths. What cannot be found out completes to nothing, and never to a message."""

import re
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import typer

if TYPE_CHECKING:
    from filigree.questions.offers.catalogue import Catalogue
    from filigree.system import System

Found = list[tuple[str, str]]
Completer = Callable[[typer.Context, str], Found]
_MOST = 200
"""A shell is given so many: more than that nobody reads."""
_VALUES = re.compile(r"[a-z]+(\|[a-z]+)*")


def _quietly(find: Callable[[typer.Context, str], Iterable[tuple[str, str]]]) -> Completer:
    # No `wraps`: what calls it goes by the names of its parameters.
    def found(ctx: typer.Context, incomplete: str) -> Found:
        from itertools import islice

        from filigree.views.text import escaped

        try:
            fitting = (one for one in find(ctx, incomplete) if one[0].startswith(incomplete))
            return [(escaped(word), escaped(help_)) for word, help_ in islice(fitting, _MOST)]
        except Exception:  # the shell has no place for what went wrong
            return []

    return found


@contextmanager
def _root(ctx: typer.Context) -> "Iterator[System]":
    from filigree.system import open_system

    with open_system(ctx.params.get("root") or "/") as system:
        yield system


@contextmanager
def _offered(ctx: typer.Context) -> "Iterator[Catalogue]":
    from filigree.cli.files import cache_folder
    from filigree.questions.offers.catalogue import open_catalogue
    from filigree.questions.offers.options import RepositoryOptions

    with (
        _root(ctx) as system,
        open_catalogue(system, RepositoryOptions(cache=cache_folder())) as offered,
    ):
        yield offered


def words(told: Callable[[], Iterable[str]]) -> Completer:
    """One of a few words."""
    return _quietly(lambda _, __: ((one, "") for one in told()))


def lists(told: Callable[[], Iterable[str]]) -> Completer:
    """Several of a few words, with commas between them."""

    def found(_: typer.Context, incomplete: str) -> Iterator[tuple[str, str]]:
        before, comma, _last = incomplete.rpartition(",")
        for one in told():
            if one not in before.split(","):
                yield f"{before}{comma}{one}", ""

    return _quietly(found)


@_quietly
def packages(ctx: typer.Context, incomplete: str) -> Iterator[tuple[str, str]]:
    """The packages of the root that the line names, or what is offered there; paths of it, too."""
    if incomplete.startswith("/"):
        yield from _paths(ctx, incomplete)
        return
    if incomplete.startswith("."):
        return  # an archive: the shell knows
    wider = ctx.params.get("available") or ctx.params.get("both")
    if wider:
        yield from offered(ctx, incomplete)
    if not ctx.params.get("available"):
        with _root(ctx) as system:
            yield from (
                (one.name, one.summary or "") for one in system.packages if one.state.present
            )


@_quietly
def offered(ctx: typer.Context, incomplete: str) -> Iterator[tuple[str, str]]:
    """What repositories offer."""
    if incomplete:
        with _offered(ctx) as catalogue:
            yield from ((one, "") for one in sorted(catalogue.names()))


def _paths(ctx: typer.Context, incomplete: str) -> Iterator[tuple[str, str]]:
    above = incomplete.rpartition("/")[0]
    with _root(ctx) as system:
        for name in sorted(system.tree.names(above or "/")):
            path = f"{above}/{name}"
            yield (f"{path}/" if system.tree.is_directory(path) else path), ""


@_quietly
def paths(ctx: typer.Context, incomplete: str) -> Iterator[tuple[str, str]]:
    """Paths of the root that is asked about, which is seldom the shell's own."""
    if incomplete.startswith("/"):
        yield from _paths(ctx, incomplete)


@_quietly
def repositories(ctx: typer.Context, _: str) -> Iterator[tuple[str, str]]:
    """The repositories that the root is configured with: their names and identities."""
    from filigree.questions.commands.repos import repos
    from filigree.questions.offers.options import RepositoryOptions

    with _root(ctx) as system:
        rows = repos(system, options=RepositoryOptions()).records
    told = {word: row.identity for row in rows for word in (row.name, row.suite) if word}
    # A word with a space in it would be several to a shell.
    yield from ((word, told[word]) for word in sorted(told) if " " not in word)


@_quietly
def groups(ctx: typer.Context, _: str) -> Iterator[tuple[str, str]]:
    """The groups that repositories tell of."""
    with _offered(ctx) as catalogue:
        yield from ((group.identity, group.name) for group, _ in catalogue.notices.groups())


@_quietly
def rules(_: typer.Context, __: str) -> Iterator[tuple[str, str]]:
    """The rules of findings."""
    from filigree.questions.rules.findings import every_rule

    yield from ((one.facts.identity, one.facts.title) for one in every_rule())


@_quietly
def sections(ctx: typer.Context, _: str) -> Iterator[tuple[str, str]]:
    """The sections of what is installed."""
    with _root(ctx) as system:
        yield from ((one, "") for one in sorted({p.section for p in system.packages if p.section}))


@_quietly
def architectures(ctx: typer.Context, _: str) -> Iterator[tuple[str, str]]:
    """The architectures of what is installed."""
    with _root(ctx) as system:
        yield from ((one, "") for one in sorted({p.architecture for p in system.packages}))


@_quietly
def commands(_: typer.Context, __: str) -> Iterator[tuple[str, str]]:
    """The commands that the manual tells of."""
    from filigree.cli.commands import COMMANDS

    yield from ((one.name, one.summary) for one in COMMANDS)


@_quietly
def hosts(ctx: typer.Context, _: str) -> Iterator[tuple[str, str]]:
    """The hosts of a store."""
    from filigree.cli.files import cache_folder
    from filigree.fleet.asked import FleetWish, asked
    from filigree.fleet.questions.hosts import hosts
    from filigree.fleet.store import FleetStore

    # While an option has no value yet the words before it are not taken for arguments.
    place = ctx.params.get("store") or ctx.args[0]
    store = FleetStore(place, cache=cache_folder())
    with asked(store, FleetWish((), None, False), None) as fleet:
        yield from ((row.host, row.label or "") for row in hosts(fleet).records)


def _of(module: str, name: str) -> Callable[[], Iterable[str]]:
    """The values of an enumeration, or the words of a list, that is loaded when it is asked for."""

    def told() -> Iterable[str]:
        from importlib import import_module

        return (str(one) for one in getattr(import_module(f"filigree.{module}"), name))

    return told


_BY_PARAMETER: dict[str, Completer] = {
    "subjects": packages, "patterns": packages, "drop": packages, "upgrade": packages, "around": packages,
    "add": offered, "paths": paths, "directories": paths, "globs": paths, "repo": repositories,
    "REPOSITORY": repositories, "GROUP": groups, "RULE": rules, "section": sections,
    "arch": architectures, "COMMAND": commands, "host": hosts,
    "kinds": lists(_of("cli.options", "KINDS")),
    "columns": lists(_of("questions.asking.package_rows", "PACKAGE_FIELDS")),
    "PART,PART…": lists(_of("model.findings", "Part")),
    "ACTION,ACTION…": lists(_of("questions.timeline.happenings", "Deed")),
    "part": words(_of("questions.reporting.audit", "AuditPart")),
    "KIND,KIND…": lists(_of("fleet.questions.rare", "Rarity")),
}  # fmt: skip
"""What completes an option or argument, by its name, or else by its metavar."""


def completer_of(name: str, metavar: str | None) -> Completer | None:
    """What completes an option or argument; None for what the shell completes by itself (its files), and
    where there is nothing to choose."""
    found = _BY_PARAMETER.get(name) or _BY_PARAMETER.get(metavar or "")
    if found is None and metavar and _VALUES.fullmatch(metavar):
        return words(lambda: metavar.split("|"))
    return found
