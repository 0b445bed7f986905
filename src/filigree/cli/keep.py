"""The commands about time: snapshot, compare."""

import os
from typing import TYPE_CHECKING, Annotated

import typer

from filigree.cli.asked import Shown
from filigree.cli.files import read_key
from filigree.cli.options import Gentle, gentle_if, question, typed_path
from filigree.model.errors import BadQuestion
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System
from filigree.views.options import NO_OPTIONS, CompareOptions

if TYPE_CHECKING:
    from filigree.fleet.held import Held


_Out = Annotated[str, typer.Argument(metavar="OUT", help="The file that is to be written.")]
_Digest = Annotated[
    str,
    typer.Option(
        "--digest",
        metavar="usual|everything",
        help="Digest what is on record and what can be run, or every file.",
    ),
]
_Without = Annotated[
    list[str] | None,
    typer.Option(
        "--without",
        metavar="indexes",
        help="Leave out what repositories offer: the contents of their indexes.",
        show_default=False,
    ),
]
_Settings = Annotated[
    bool,
    typer.Option(
        "--with-settings",
        help="Also keep the contents of edited settings. They may hold secrets.",
    ),
]
_Archives = Annotated[
    bool,
    typer.Option("--with-archives", help="Also keep the archives that the system itself keeps."),
]
_Label = Annotated[
    str | None, typer.Option("--label", help="A name of yours for it.", show_default=False)
]
_Sign = Annotated[
    str | None,
    typer.Option(
        "--sign",
        metavar="KEYFILE",
        help="Sign it with this OpenPGP key, its secret part included.",
        show_default=False,
    ),
]


@question
def snapshot(
    system: System,
    out: _Out,
    digest: _Digest = "usual",
    without: _Without = None,
    with_settings: _Settings = False,
    with_archives: _Archives = False,
    label: _Label = None,
    sign: _Sign = None,
    gentle: Gentle = False,
    *,
    sources: RepositoryOptions,
) -> Shown:
    """Keep this root as one file, that answers every question later."""
    from filigree import __version__
    from filigree.cli.progress import TakingPage
    from filigree.questions.keeping.taking import Taking
    from filigree.questions.keeping.taking import snapshot as take

    if digest not in ("usual", "everything"):
        raise BadQuestion(f"nothing is digested as {digest!r}", None, "say usual or everything")
    unknown = [one for one in without or () if one != "indexes"]
    if unknown:
        raise BadQuestion(f"{unknown[0]} cannot be left out", None, "indexes can")
    gentle_if(gentle)
    page = TakingPage()
    how = Taking(
        taken_by=_who(), version=__version__, label=label, everything=digest == "everything",
        indexes=not without, settings=with_settings, archives=with_archives,
        key=None if sign is None else read_key(typed_path(sign)), progress=page,
    )  # fmt: skip
    try:
        return take(system, typed_path(out), how, sources), NO_OPTIONS
    finally:
        page.close()


@question
def compare(
    system: "System | Held",
    other: "System | Held",
    globs: Annotated[
        list[str] | None,
        typer.Argument(metavar="GLOB", help="Only these paths.", show_default=False),
    ] = None,
    only: Annotated[
        str | None,
        typer.Option(metavar="unexplained", help="Only what nothing explains.", show_default=False),
    ] = None,
    packages: Annotated[
        bool, typer.Option("--packages", help="Only packages, and what is known of them.")
    ] = False,
    files: Annotated[bool, typer.Option("--files", help="Only files.")] = False,
    unfold: Annotated[
        bool, typer.Option("--unfold", help="Tell each file, also where many belong together.")
    ] = False,
) -> Shown:
    """What differs between two roots, and what of it nothing explains."""
    from filigree.cli.progress import TakingPage
    from filigree.questions.comparing.comparing import Wish, compare

    if only not in (None, "unexplained"):
        raise BadQuestion(f"there is nothing {only}", None, "say unexplained")
    if packages and files:
        raise BadQuestion("only packages and only files is nothing", None, "give one of them")
    page = TakingPage()
    wish = Wish(only is not None, packages, files, tuple(map(typed_path, globs or ())), page)
    try:
        if isinstance(system, System) and isinstance(other, System):
            return compare(system, other, wish), CompareOptions(unfold)
        from filigree.fleet.comparing import compare_held
        from filigree.fleet.held import Held

        assert isinstance(system, Held)
        assert isinstance(other, Held)
        return compare_held(system, other, wish), CompareOptions(unfold)
    finally:
        page.close()


def _who() -> str:
    """Who is asking, and on which machine, as the system calls them."""
    import pwd

    try:
        name = pwd.getpwuid(os.geteuid()).pw_name
    except KeyError:
        name = f"user {os.geteuid()}"
    return f"{name} on {os.uname().nodename}"
