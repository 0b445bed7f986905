"""The commands that check: verify, provenance, keys, strays."""

import sys
from dataclasses import replace
from typing import Annotated

import typer

from filigree.cli.asked import Shown
from filigree.cli.options import Gentle, Subjects, gentle_if, question, typed_path
from filigree.model.errors import BadQuestion
from filigree.model.files import Aspect, Evidence, Verdict
from filigree.questions.offers.options import RepositoryOptions
from filigree.system import System
from filigree.views.options import NO_OPTIONS, LayersOptions, StraysOptions, VerifyOptions
from filigree.views.text import escaped

_Subjects = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="SUBJECT",
        help="Packages, globs, or paths that they own. Default: everything.",
        show_default=False,
    ),
]
_Every = Annotated[bool, typer.Option("--all", help="Every file, also those that are as shipped.")]
_Only = Annotated[
    list[Verdict] | None,
    typer.Option(
        metavar="VERDICT",
        help=f"Only files with this verdict; repeatable: {', '.join(Verdict)}.",
        show_default=False,
    ),
]
_Aspect = Annotated[
    list[Aspect] | None,
    typer.Option(
        metavar="ASPECT",
        help=f"Only files that differ in this; repeatable: {', '.join(Aspect)}.",
        show_default=False,
    ),
]
_Quiet = Annotated[bool, typer.Option("--quiet", "-q", help="Say nothing: the exit status tells.")]
_Jobs = Annotated[
    int | None,
    typer.Option(min=1, help="Work with so many processes. Default: all.", show_default=False),
]
_Against = Annotated[
    list[str] | None,
    typer.Option(
        "--against",
        metavar="ARCHIVE|FOLDER|REPOSITORY|cache",
        help="Hold files against archives: one, a folder of them, what a repository offers, or the "
        "system's own cache; repeatable.",
        show_default=False,
    ),
]
_Evidence = Annotated[
    Evidence,
    typer.Option(
        help="The least that a verdict may rest on: the local record alone, an archive whose digest "
        "was checked, or what traces to a key.",
    ),
]
_Fetch = Annotated[
    bool,
    typer.Option("--fetch", help="Fetch the archives that it takes from the repositories."),
]
_Since = Annotated[
    str | None,
    typer.Option(
        metavar="FILE",
        help="An earlier result (--all --format json): read again only files that changed in size, "
        "time or inode since.",
        show_default=False,
    ),
]
_Sample = Annotated[
    str | None,
    typer.Option(metavar="N%", help="Only a part of the files, by chance.", show_default=False),
]
_ReadAll = Annotated[
    bool,
    typer.Option("--read-all", help="Read also files whose size tells that they are others."),
]


_Unfold = Annotated[
    bool, typer.Option("--unfold", help="Tell each file, also where many belong together.")
]


@question
def verify(
    system: System,
    subjects: _Subjects = None,
    every: _Every = False,
    only: _Only = None,
    aspect: _Aspect = None,
    quiet: _Quiet = False,
    jobs: _Jobs = None,
    against: _Against = None,
    evidence: _Evidence = Evidence.RECORD,
    fetch: _Fetch = False,
    since: _Since = None,
    sample: _Sample = None,
    read_all: _ReadAll = False,
    unfold: _Unfold = False,
    gentle: Gentle = False,
    *,
    sources: RepositoryOptions,
) -> Shown:
    """Whether files are still as shipped."""
    from filigree.cli.progress import FetchLine, ProgressLine
    from filigree.questions.commands.verify import verify
    from filigree.questions.evidence.references import against_of
    from filigree.questions.finding.earlier_results import read_earlier
    from filigree.questions.verifying.verdicts import LOUD, Manner

    gentle_if(gentle)
    shown = frozenset(only) if only else frozenset(Verdict) if every else LOUD
    if Aspect.MODIFIED in (aspect or ()) and not only:
        shown |= {Verdict.INTACT}  # a time of change alone alters no verdict
    shown = frozenset() if quiet else shown  # what is not shown need not be kept
    progress = ProgressLine()
    manner = Manner(
        replace(against_of(map(typed_path, against or ()), fetch), announce=said), evidence,
        read_earlier(system, since) if since is not None else None,
        percentage(sample) if sample is not None else None, read_all,
    )  # fmt: skip
    sources = sources._replace(progress=FetchLine()) if fetch else sources
    try:
        answer = verify(
            system,
            [typed_path(subject) for subject in subjects] if subjects else None,
            shown,
            frozenset(aspect or ()),
            jobs,
            None if quiet else progress,
            manner,
            sources,
        )
    finally:
        progress.close()
    return answer, VerifyOptions(quiet, unfold)


def percentage(text: str) -> float:
    """A percentage as a person writes it. Raises BadQuestion where it is none."""
    try:
        number = float(text.strip().removesuffix("%"))
    except ValueError:
        number = 0.0
    if not 0 < number <= 100:
        raise BadQuestion(f"{text} is no percentage", None, "give a number up to 100, like 5%")
    return number


def said(words: str) -> None:
    """Tell at once, on standard error, what is about to be done."""
    print(f"filigree: {escaped(words)}", file=sys.stderr, flush=True)  # noqa: T201


@question
def keys(
    system: System,
    needed: Annotated[
        bool,
        typer.Option("--needed", help="Only keys that signatures name and that are held nowhere."),
    ] = False,
    *,
    sources: RepositoryOptions,
) -> Shown:
    """Which keys this system trusts, for what."""
    from filigree.questions.commands.keys import keys

    return keys(system, needed, sources), NO_OPTIONS


@question
def provenance(
    system: System,
    subjects: Subjects,
    against: Annotated[
        list[str] | None,
        typer.Option(
            "--against",
            metavar="ARCHIVE|FOLDER",
            help="Also look for archives here, besides the system's own cache; repeatable.",
            show_default=False,
        ),
    ] = None,
    fetch: Annotated[
        bool,
        typer.Option("--fetch", help="Fetch the archives that it takes from the repositories."),
    ] = False,
    *,
    sources: RepositoryOptions,
) -> Shown:
    """The chain from a key to this package, link by link."""
    from filigree.cli.progress import FetchLine
    from filigree.questions.commands.provenance import provenance
    from filigree.questions.evidence.references import against_of

    wanted = replace(against_of(map(typed_path, against or ()), fetch), announce=said)
    if fetch:
        sources = sources._replace(progress=FetchLine())
    return provenance(system, map(typed_path, subjects), wanted, sources), NO_OPTIONS


@question
def strays(
    system: System,
    directories: Annotated[
        list[str] | None,
        typer.Argument(
            metavar="DIR",
            help="Below these. Default: where programs, libraries and system configuration live.",
            show_default=False,
        ),
    ] = None,
    other_file_systems: Annotated[
        bool,
        typer.Option(
            "--other-file-systems", help="Also enter file systems that are mounted there."
        ),
    ] = False,
    every: Annotated[
        bool, typer.Option("--all", help="In a table, also list what is harmless and has a cause.")
    ] = False,
    unfold: _Unfold = False,
) -> Shown:
    """Which files come from no package."""
    from filigree.cli.progress import CountLine
    from filigree.questions.commands.strays import strays

    progress = CountLine("paths looked at")
    try:
        answer = strays(system, map(typed_path, directories or ()), other_file_systems, progress)
    finally:
        progress.close()
    return answer, StraysOptions(every, unfold)


@question
def layers(
    system: System,
    every: Annotated[
        bool, typer.Option("--all", help="In a table, name every package and every program.")
    ] = False,
) -> Shown:
    """What each layer of an image brings, changes and takes away."""
    from filigree.questions.commands.layers import layers

    return layers(system), LayersOptions(every)
