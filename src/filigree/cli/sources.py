"""The commands about sources: repos."""

from typing import Annotated

import typer

from filigree.cli.options import Asked, question, typed_path
from filigree.system import System

Keyring = Annotated[
    list[str] | None,
    typer.Option(
        "--keyring",
        metavar="FILE|DIR",
        help="Judge seals with these keys of yours, and not with the root's; repeatable.",
        show_default=False,
    ),
]


@question
def repos(
    system: System,
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="REPOSITORY",
            help="Only these, in detail: an identity, a name, a suite, or a glob of one.",
            show_default=False,
        ),
    ] = None,
    keyring: Keyring = None,
) -> Asked:
    """Which repositories, in detail."""
    from filigree.questions.repos import repos

    answer = repos(system, map(typed_path, names or ()), map(typed_path, keyring or ()))
    return answer, {"detail": bool(names)}
