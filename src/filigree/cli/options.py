"""The options that every question shares, and how a command gets them.

A command is a function of its own options; `question` adds the shared ones to its signature, opens
the system, and shows the answer that the function returns.
"""

import functools
import inspect
import os
from collections.abc import Callable
from typing import TYPE_CHECKING, Annotated, Any

import typer

from filigree.cli.asked import Shared, Shown, When
from filigree.cli.files import cache_folder
from filigree.model.errors import BadQuestion
from filigree.model.needs import Relation
from filigree.views.render import Format

if TYPE_CHECKING:
    from filigree.questions.asking.scopes import Scope
    from filigree.questions.offers.options import RepositoryOptions


_WHERE = "Where packages are looked for"
_PANEL = "The system, and how the answer is shown"
_SHARED: dict[str, tuple[Any, Any]] = {
    "root": (
        Annotated[
            str,
            typer.Option(
                metavar="DIR|IMAGE",
                rich_help_panel=_PANEL,
                help="The root of the system that is audited: a directory, an image of a container "
                "(a layout, or as an engine saved it), or a tar of a whole root.",
            ),
        ],
        "/",
    ),
    "image": (
        Annotated[
            str | None,
            typer.Option(
                "--image",
                metavar="NAME[:TAG]",
                rich_help_panel=_PANEL,
                help="Which image, where there are several.",
                show_default=False,
            ),
        ],
        None,
    ),
    "platform": (
        Annotated[
            str | None,
            typer.Option(
                "--platform",
                metavar="OS/ARCH[/VARIANT]",
                rich_help_panel=_PANEL,
                help="The image for which machine, where there are several.",
                show_default=False,
            ),
        ],
        None,
    ),
    "layer": (
        Annotated[
            int | None,
            typer.Option(
                "--layer",
                metavar="N",
                rich_help_panel=_PANEL,
                help="Only what this layer of an image says, the lowest is 0.",
                show_default=False,
            ),
        ],
        None,
    ),
    "form": (
        Annotated[
            Format | None,
            typer.Option(
                "--format",
                rich_help_panel=_PANEL,
                help="Default: a table on a terminal, lines elsewhere.",
                show_default=False,
            ),
        ],
        None,
    ),
    "color": (
        Annotated[When, typer.Option(rich_help_panel=_PANEL, help="When to use colour.")],
        When.AUTO,
    ),
    "no_pager": (
        Annotated[
            bool,
            typer.Option("--no-pager", rich_help_panel=_PANEL, help="Never page long answers."),
        ],
        False,
    ),
    "verbose": (
        Annotated[
            bool,
            typer.Option("--verbose", "-v", rich_help_panel=_PANEL, help="Say what is being done."),
        ],
        False,
    ),
}


_SCOPES: dict[str, tuple[Any, Any]] = {
    "installed": (
        Annotated[bool, typer.Option("--installed", rich_help_panel=_WHERE,
                  help="Among what is installed. This is the default.")], False,
    ),
    "available": (
        Annotated[bool, typer.Option("--available", rich_help_panel=_WHERE,
                  help="Among what the repositories offer.")], False,
    ),
    "both": (
        Annotated[bool, typer.Option("--any", rich_help_panel=_WHERE,
                  help="Among what is installed, and then what is offered.")], False,
    ),
}  # fmt: skip
_SOURCES: dict[str, tuple[Any, Any]] = {
    "repo": (
        Annotated[list[str] | None, typer.Option("--repo", rich_help_panel=_WHERE,
                  help="Only what this repository offers, a glob; repeatable.",
                  show_default=False)], None,
    ),
    "repo_url": (
        Annotated[list[str] | None, typer.Option("--repo-url", metavar="URL", rich_help_panel=_WHERE,
                  help="Also what is offered at this address or in this folder, fetched into your "
                  "cache; with a suite and components behind it, where the family has those; "
                  "repeatable.", show_default=False)], None,
    ),
    "repos_of": (
        Annotated[str | None, typer.Option("--repos-of", metavar="DIR|IMAGE", rich_help_panel=_WHERE,
                  help="By the repositories and keys of another root of that family: for an image that "
                  "has no records of its own.", show_default=False)], None,
    ),
    "refreshed": (
        Annotated[bool, typer.Option("--refreshed", rich_help_panel=_WHERE,
                  help="By the indexes that `refresh` fetched, where they are as new.")], False,
    ),
    "keyring": (
        Annotated[list[str] | None, typer.Option("--keyring", metavar="FILE|DIR",
                  rich_help_panel=_WHERE, help="Judge signatures with these keys of yours, and not with "
                  "the root's; repeatable.", show_default=False)], None,
    ),
    "no_cache": (
        Annotated[bool, typer.Option("--no-cache", rich_help_panel=_WHERE,
                  help="Parse indexes anew, and keep nothing of them.")], False,
    ),
}  # fmt: skip
_PAIR: dict[str, tuple[Any, Any]] = {
    "before": (
        Annotated[str, typer.Argument(metavar="A", show_default=False,
                  help="How it was: a directory, an image, a snapshot, or a fleet's STORE#HOST[@TIME].")],
        inspect.Parameter.empty,
    ),
    "after": (
        Annotated[str, typer.Argument(metavar="B", show_default=False,
                  help="How it is now.")], inspect.Parameter.empty,
    ),
}  # fmt: skip
_ONE_ROOT = ("root", "image", "platform", "layer")
"""What only makes sense of one root."""
_OF_HELD = ("compare", "report")
"""The commands that take a host of a store for a root."""
_PATHS_TOO = ("contents", "owner")
"""The commands that ask indexes of paths: they are fetched for these alone."""


def question(command: Callable[..., Shown]) -> Callable[..., None]:
    """Make a command of a function that takes a system and its own options."""
    signature = inspect.signature(command)
    ours = ("system", "other", "shared", "scope", "sources", "keyring")
    own = [p for name, p in signature.parameters.items() if name not in ours]
    scoped, sourced = "scope" in signature.parameters, "sources" in signature.parameters
    keyring = {"keyring": _SOURCES["keyring"]}
    pair = "other" in signature.parameters
    shown = {name: told for name, told in _SHARED.items() if not pair or name not in _ONE_ROOT}
    tables = {
        **(_PAIR if pair else {}), **(_SCOPES if scoped else {}),
        **(_SOURCES if sourced else keyring), **shown,
    }  # fmt: skip
    added = [_parameter(name, *told) for name, told in tables.items()]
    first = [one for one in added if one.name in _PAIR]
    ordered = [*first, *own, *(one for one in added if one.name not in _PAIR)]

    @functools.wraps(command)
    def run(*args: Any, **kwargs: Any) -> None:
        from filigree.cli.showing import answer_and_show

        subjects = tuple(kwargs.get("inside") or kwargs.get("subjects") or ())
        roots = {"root": kwargs.pop("before"), "other": kwargs.pop("after")} if pair else {}
        shared = Shared(
            **{name: kwargs.pop(name) for name in shown},
            **roots,
            subjects=subjects,
            repos_of=kwargs.get("repos_of"),
            held=command.__name__ in _OF_HELD,
            keyring=tuple(map(typed_path, kwargs.get("keyring") or ())),
            sourced=sourced or "keyring" in signature.parameters,
        )
        given = {name: kwargs.pop(name) for name in tables if name in kwargs}
        if scoped:
            more = bool(given["repo_url"] or given["refreshed"])
            flags = given["installed"], given["available"], given["both"]
            kwargs["scope"] = _scope_of(*flags, asks_more=more)
        if "keyring" in signature.parameters:
            kwargs["keyring"] = shared.keyring
        if sourced:
            kwargs["sources"] = _sources_of(given, command.__name__ in _PATHS_TOO)
        status = answer_and_show(shared, functools.partial(command, *args, **kwargs))
        raise typer.Exit(status)

    run.__signature__ = signature.replace(  # type: ignore[attr-defined]
        parameters=ordered, return_annotation=None
    )
    run.__annotations__ = {p.name: p.annotation for p in ordered}
    return run


def _parameter(name: str, annotation: Any, default: Any) -> inspect.Parameter:
    one = inspect.Parameter(
        name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation
    )
    return one.replace(kind=inspect.Parameter.POSITIONAL_OR_KEYWORD) if name in _PAIR else one


def _scope_of(installed: bool, available: bool, both: bool, asks_more: bool) -> "Scope":
    """Where packages are looked for. Raises BadQuestion where two scopes are named."""
    from filigree.questions.asking.scopes import Scope

    given = {"--installed": installed, "--available": available, "--any": both}
    named = [name for name, is_given in given.items() if is_given]
    if len(named) > 1:
        raise BadQuestion(f"{' and '.join(named)} cannot go together", None, "give one of them")
    if asks_more and not named:
        return Scope.ANY
    return Scope.AVAILABLE if available else Scope.ANY if both else Scope.INSTALLED


def _sources_of(given: dict[str, Any], paths: bool) -> "RepositoryOptions":
    """Which repositories a command asks, and where is kept what was fetched and parsed of them."""
    from filigree.cli.progress import FetchLine, WorkLine
    from filigree.questions.offers.options import RepositoryOptions

    def typed(name: str) -> tuple[str, ...]:
        return tuple(map(typed_path, given[name] or ()))

    return RepositoryOptions(
        repositories=typed("repo"), cache=None if given["no_cache"] else cache_folder(),
        keyring=typed("keyring"), refreshed=given["refreshed"], addresses=typed("repo_url"),
        paths=paths, progress=FetchLine() if given["repo_url"] else None, working=WorkLine(),
    )  # fmt: skip


KINDS = [kind.value for kind in Relation if kind.positive]
"""The kinds of ties that can be followed, by name."""


def kinds_of(text: str) -> frozenset[Relation]:
    """The kinds of ties that a person named. Raises BadQuestion where one is none."""
    names = [name.strip() for name in text.split(",") if name.strip()]
    if names == ["all"]:
        names = KINDS
    unknown = [name for name in names if name not in KINDS]
    if unknown or not names:
        raise BadQuestion(
            f"no kind of need is called {unknown[0] if unknown else repr(text)}",
            None,
            f"known are {', '.join(KINDS)}, and all",
        )
    return frozenset(Relation(name) for name in names)


def typed_path(text: str) -> str:
    """A path or subject as it was typed: its bytes are read as UTF-8, whatever the locale says."""
    return os.fsencode(text).decode("utf-8", "surrogateescape")


Gentle = Annotated[
    bool,
    typer.Option(
        "--gentle",
        help="For a machine at work: one processor, and the disk only when nobody else wants it.",
    ),
]


def gentle_if(wanted: bool) -> None:
    """Be in nobody's way where that is wanted; what of it cannot be had is said."""
    if wanted:
        import sys

        from filigree.access.gentleness import be_gentle

        for what in be_gentle():
            print(f"filigree: it is not gentle in all: {what}", file=sys.stderr)  # noqa: T201


Subjects = Annotated[
    list[str],
    typer.Argument(
        metavar="SUBJECT",
        help="A package, `name:arch`, `name=version`, a glob, a path that it owns, or `./an.archive`.",
        show_default=False,
    ),
]
