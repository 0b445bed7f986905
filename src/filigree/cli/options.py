"""The options that every question shares, and how a command gets them.

A command is a function of its own options; `question` adds the shared ones to its signature, opens
the system, and shows the answer that the function returns.
"""

import functools
import inspect
import os
from collections.abc import Callable
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING, Annotated, Any

import typer

from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.views.render import Format

if TYPE_CHECKING:
    from filigree.questions.scopes import Chosen, Scope


class When(StrEnum):
    AUTO = "auto"
    ALWAYS = "always"
    NEVER = "never"


@dataclass(frozen=True, slots=True)
class Shared:
    """What a person asked of every question: which root, and how to show the answer.

    `subjects` are the packages that are asked about, as they were typed.
    """

    root: str = "/"
    form: Format | None = None
    color: When = When.AUTO
    no_pager: bool = False
    verbose: bool = False
    subjects: tuple[str, ...] = ()

    @property
    def archives_only(self) -> bool:
        """Whether only archives are asked about, by what they are called: that takes no system."""
        from filigree.families.registry import is_archive_name

        return bool(self.subjects) and all(map(is_archive_name, self.subjects))


Asked = tuple[Answer[Any], dict[str, Any]]
"""What a command returns: the answer, and how its view is to show it."""

_PANEL = "The system, and how the answer is shown"
_SHARED: dict[str, tuple[Any, Any]] = {
    "root": (
        Annotated[
            str,
            typer.Option(
                metavar="DIR",
                rich_help_panel=_PANEL,
                help="The root of the system that is audited.",
            ),
        ],
        "/",
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


def question(command: Callable[..., Asked]) -> Callable[..., None]:
    """Make a command of a function that takes a system and its own options."""
    signature = inspect.signature(command)
    own = [p for name, p in signature.parameters.items() if name not in ("system", "shared")]
    added = [
        inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=kind)
        for name, (kind, default) in _SHARED.items()
    ]

    @functools.wraps(command)
    def run(*args: Any, **kwargs: Any) -> None:
        from filigree.cli.showing import answer_and_show

        subjects = tuple(kwargs.get("inside") or kwargs.get("subjects") or ())
        shared = Shared(**{name: kwargs.pop(name) for name in _SHARED}, subjects=subjects)
        status = answer_and_show(shared, functools.partial(command, *args, **kwargs))
        raise typer.Exit(status)

    run.__signature__ = signature.replace(  # type: ignore[attr-defined]
        parameters=[*own, *added], return_annotation=None
    )
    run.__annotations__ = {p.name: p.annotation for p in [*own, *added]}
    return run


NoCache = Annotated[
    bool, typer.Option("--no-cache", help="Parse indexes anew, and keep nothing of them.")
]


OfAvailable = Annotated[
    bool, typer.Option("--available", help="Among what the repositories offer.")
]
OfAny = Annotated[
    bool, typer.Option("--any", help="Among what is installed, and then what is offered.")
]
OfInstalled = Annotated[
    bool, typer.Option("--installed", help="Among what is installed. This is the default.")
]
Repo = Annotated[
    list[str] | None,
    typer.Option(help="Only what this repository offers, a glob; repeatable.", show_default=False),
]


Keyring = Annotated[
    list[str] | None,
    typer.Option(
        "--keyring",
        metavar="FILE|DIR",
        help="Judge seals with these keys of yours, and not with the root's; repeatable.",
        show_default=False,
    ),
]


def cache_folder() -> str:
    """The auditor's own folder for what can be made again."""
    from platformdirs import user_cache_dir

    return user_cache_dir("filigree", appauthor=False)


def scope_of(installed: bool, available: bool, both: bool) -> "Scope":
    """Where packages are looked for. Raises BadQuestion where two scopes are named."""
    from filigree.questions.scopes import Scope

    given = {"--installed": installed, "--available": available, "--any": both}
    named = [name for name, is_given in given.items() if is_given]
    if len(named) > 1:
        raise BadQuestion(f"{' and '.join(named)} cannot go together", None, "give one of them")
    return Scope.AVAILABLE if available else Scope.ANY if both else Scope.INSTALLED


def chosen_sources(
    repo: list[str] | None, no_cache: bool, keyring: list[str] | None = None
) -> "Chosen":
    """Which repositories a command asks, and where is kept what was parsed of them."""
    from filigree.questions.scopes import Chosen

    names, keys = tuple(map(typed_path, repo or ())), tuple(map(typed_path, keyring or ()))
    return Chosen(names, None if no_cache else cache_folder(), keys)


def typed_path(text: str) -> str:
    """A path or subject as it was typed: its bytes are read as UTF-8, whatever the locale says."""
    return os.fsencode(text).decode("utf-8", "surrogateescape")


def complete_packages(ctx: typer.Context, incomplete: str) -> list[tuple[str, str]]:
    """The installed packages of the root that the line names, for the shell's completion."""
    from filigree.model.errors import FiligreeError
    from filigree.system import open_system
    from filigree.views.text import escaped

    if incomplete.startswith(("/", ".")):
        return []
    try:
        system = open_system(ctx.params.get("root") or "/")
    except FiligreeError:
        return []
    return [
        (escaped(p.name), escaped(p.summary or ""))
        for p in system.packages
        if p.name.startswith(incomplete) and p.state.present
    ]


Subjects = Annotated[
    list[str],
    typer.Argument(
        metavar="SUBJECT",
        help="A package, `name:arch`, `name=version`, a glob, a path that it owns, or `./an.archive`.",
        autocompletion=complete_packages,
        show_default=False,
    ),
]
