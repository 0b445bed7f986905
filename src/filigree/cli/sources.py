"""The commands about sources: repos, behind, refresh."""

from typing import Annotated

import typer

from filigree.cli.asked import Shown
from filigree.cli.options import question, typed_path
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System
from filigree.views.options import NO_OPTIONS, ReposOptions


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
    *,
    sources: RepositoryOptions,
) -> Shown:
    """Which repositories, in detail."""
    from filigree.questions.commands.repos import repos

    wanted = [*map(typed_path, names or ()), *sources.repositories]
    return repos(system, wanted, options=sources), ReposOptions(bool(names))


@question
def behind(
    system: System,
    security: Annotated[
        bool, typer.Option("--security", help="Only what is for security.")
    ] = False,
    *,
    sources: RepositoryOptions,
) -> Shown:
    """What has a newer version, which of it is for security."""
    from filigree.questions.commands.behind import behind

    return behind(system, security, sources), NO_OPTIONS


@question
def refresh(
    system: System,
    names: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="REPOSITORY",
            help="Only these: an identity, a name, a suite, or a glob of one.",
            show_default=False,
        ),
    ] = None,
    paths: Annotated[
        bool,
        typer.Option("--paths", help="Also the indexes of paths and of changes, which are large."),
    ] = False,
    *,
    sources: RepositoryOptions,
) -> Shown:
    """Fetch the indexes of repositories into your own cache; the system is not touched."""
    from filigree.cli.progress import FetchLine
    from filigree.questions.commands.refresh import refresh

    line = FetchLine()
    try:
        wanted = [*map(typed_path, names or ()), *sources.repositories]
        return refresh(system, wanted, sources._replace(paths=paths, progress=line)), NO_OPTIONS
    finally:
        line.close()
