"""The commands that check: verify, provenance, keys, strays."""

from typing import Annotated

import typer

from filigree.cli.options import Asked, complete_packages, question, typed_path
from filigree.model.files import Aspect, Verdict
from filigree.questions.scopes import Chosen
from filigree.system import System


@question
def verify(
    system: System,
    subjects: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="SUBJECT",
            help="Packages, globs, or paths that they own. Default: everything.",
            autocompletion=complete_packages,
            show_default=False,
        ),
    ] = None,
    every: Annotated[
        bool, typer.Option("--all", help="Every file, also those that are as shipped.")
    ] = False,
    only: Annotated[
        list[Verdict] | None,
        typer.Option(
            metavar="VERDICT",
            help=f"Only files with this verdict; repeatable: {', '.join(Verdict)}.",
            show_default=False,
        ),
    ] = None,
    aspect: Annotated[
        list[Aspect] | None,
        typer.Option(
            metavar="ASPECT",
            help=f"Only files that differ in this; repeatable: {', '.join(Aspect)}.",
            show_default=False,
        ),
    ] = None,
    quiet: Annotated[
        bool, typer.Option("--quiet", "-q", help="Say nothing: the exit status tells.")
    ] = False,
    jobs: Annotated[
        int | None,
        typer.Option(min=1, help="Work with so many processes. Default: all.", show_default=False),
    ] = None,
) -> Asked:
    """Whether files are still as shipped."""
    from filigree.cli.progress import ProgressLine
    from filigree.questions.verify import LOUD, verify

    shown = frozenset(only) if only else frozenset(Verdict) if every else LOUD
    if Aspect.MODIFIED in (aspect or ()) and not only:
        shown |= {Verdict.INTACT}  # a time of change alone alters no verdict
    if quiet:
        shown = frozenset()  # nothing is shown, so nothing need be kept
    progress = ProgressLine()
    try:
        answer = verify(
            system,
            [typed_path(subject) for subject in subjects] if subjects else None,
            shown,
            frozenset(aspect or ()),
            jobs,
            None if quiet else progress,
        )
    finally:
        progress.close()
    return answer, {"quiet": quiet}


@question
def keys(
    system: System,
    needed: Annotated[
        bool,
        typer.Option("--needed", help="Only keys that signatures name and that are held nowhere."),
    ] = False,
    *,
    sources: Chosen,
) -> Asked:
    """Which keys this system trusts, for what."""
    from filigree.questions.keys import keys

    return keys(system, needed, sources), {}
