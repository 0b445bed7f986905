"""The commands about sources: repos, behind."""

from typing import Annotated

import typer

from filigree.cli.options import (
    Asked,
    Keyring,
    NoCache,
    Repo,
    chosen_sources,
    question,
    typed_path,
)
from filigree.system import System


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


@question
def behind(
    system: System,
    security: Annotated[
        bool, typer.Option("--security", help="Only what is for security.")
    ] = False,
    repo: Repo = None,
    keyring: Keyring = None,
    no_cache: NoCache = False,
) -> Asked:
    """What has a newer version, which of it is for security."""
    from filigree.questions.behind import behind

    return behind(system, security, chosen_sources(repo, no_cache, keyring)), {}
