"""The commands about time: snapshot."""

import os
from typing import Annotated

import typer

from filigree.cli.asked import Shown
from filigree.cli.options import question, typed_path
from filigree.model.errors import BadQuestion
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System
from filigree.views.options import NO_OPTIONS

_KEY_LIMIT = 1 << 20


@question
def snapshot(
    system: System,
    out: Annotated[str, typer.Argument(metavar="OUT", help="The file that is to be written.")],
    digest: Annotated[
        str,
        typer.Option(
            metavar="usual|everything",
            help="Digest what is on record and what can be run, or every file.",
        ),
    ] = "usual",
    without: Annotated[
        list[str] | None,
        typer.Option(
            metavar="indexes",
            help="Leave out what repositories offer: the contents of their indexes.",
            show_default=False,
        ),
    ] = None,
    with_settings: Annotated[
        bool,
        typer.Option(
            "--with-settings",
            help="Also keep the contents of edited settings. They may hold secrets.",
        ),
    ] = False,
    with_archives: Annotated[
        bool,
        typer.Option(
            "--with-archives", help="Also keep the archives that the system itself keeps."
        ),
    ] = False,
    label: Annotated[
        str | None,
        typer.Option(help="A name of yours for it.", show_default=False),
    ] = None,
    sign: Annotated[
        str | None,
        typer.Option(
            metavar="KEYFILE",
            help="Sign it with this OpenPGP key, its secret part included.",
            show_default=False,
        ),
    ] = None,
    *,
    sources: RepositoryOptions,
) -> Shown:
    """Keep this root as one file, that answers every question later."""
    from filigree import __version__
    from filigree.cli.progress import TakingLine
    from filigree.questions.keeping.taking import Taking, take

    if digest not in ("usual", "everything"):
        raise BadQuestion(f"nothing is digested as {digest!r}", None, "say usual or everything")
    unknown = [one for one in without or () if one != "indexes"]
    if unknown:
        raise BadQuestion(f"{unknown[0]} cannot be left out", None, "indexes can")
    line = TakingLine()
    how = Taking(
        taken_by=_who(), version=__version__, label=label, everything=digest == "everything",
        indexes=not without, settings=with_settings, archives=with_archives,
        key=None if sign is None else _key(typed_path(sign)), progress=line,
    )  # fmt: skip
    try:
        return take(system, typed_path(out), how, sources), NO_OPTIONS
    finally:
        line.close()


def _who() -> str:
    """Who is asking, and on which machine, as the system calls them."""
    import pwd

    try:
        name = pwd.getpwuid(os.geteuid()).pw_name
    except KeyError:
        name = f"user {os.geteuid()}"
    return f"{name} on {os.uname().nodename}"


def _key(path: str) -> bytes:
    try:
        with open(path, "rb") as file:
            return file.read(_KEY_LIMIT)
    except OSError as error:
        raise BadQuestion(f"the key cannot be read: {error.strerror}", path) from error
