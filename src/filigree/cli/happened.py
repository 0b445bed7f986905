"""The command about what happened: timeline."""

from typing import TYPE_CHECKING, Annotated

import typer

from filigree.cli.asked import Shown
from filigree.cli.options import question, typed_path
from filigree.model.errors import BadQuestion
from filigree.system import System
from filigree.views.options import NO_OPTIONS

if TYPE_CHECKING:
    from filigree.questions.timeline.happenings import Deed

_PICTURES = ("png", "svg")


_Subjects = Annotated[
    list[str] | None,
    typer.Argument(
        metavar="SUBJECT",
        help="Only of these packages (there or gone, or a glob), or paths.",
        show_default=False,
    ),
]
_Since = Annotated[
    str | None,
    typer.Option(metavar="TIME", help="Not before: 2026-03-01, '3 days'.", show_default=False),
]
_Until = Annotated[
    str | None, typer.Option(metavar="TIME", help="And not after.", show_default=False)
]
_Actions = Annotated[
    str | None,
    typer.Option(
        "--action",
        metavar="ACTION,ACTION…",
        help="Only installed, upgraded, removed, altered, appeared …; what files are like is then only "
        "looked at where that is asked.",
        show_default=False,
    ),
]
_Unexplained = Annotated[bool, typer.Option("--unexplained", help="Only what nothing explains.")]
_Around = Annotated[
    str | None,
    typer.Option(
        metavar="SUBJECT",
        help="Only what happened near the time of this package or path, and what came with it.",
        show_default=False,
    ),
]
_Within = Annotated[
    str, typer.Option(metavar="LENGTH", help="How near that is: '1 hour', '2 days'.")
]
_Snapshots = Annotated[
    list[str] | None,
    typer.Option(
        "--with",
        metavar="SNAPSHOT",
        help="Also by what this snapshot of the root has; repeatable.",
        show_default=False,
    ),
]
_By = Annotated[
    str | None,
    typer.Option(metavar="day|week|month", help="The sums of each.", show_default=False),
]
_Into = Annotated[
    str | None,
    typer.Option(
        metavar="FILE",
        help="Also draw it: a file that ends in .png or .svg.",
        show_default=False,
    ),
]


@question
def timeline(
    system: System,
    subjects: _Subjects = None,
    since: _Since = None,
    until: _Until = None,
    actions: _Actions = None,
    unexplained: _Unexplained = False,
    around: _Around = None,
    within: _Within = "1 hour",
    snapshots: _Snapshots = None,
    by: _By = None,
    into: _Into = None,
    *,
    keyring: tuple[str, ...] = (),
) -> Shown:
    """What was installed, changed and removed, when; and what of it nothing explains."""
    from filigree.cli.progress import ProgressLine
    from filigree.questions.timeline.periods import Span, by_period
    from filigree.questions.timeline.timeline import TimelineWish, timeline

    ending = into.rpartition(".")[2].lower() if into else ""
    if into and ending not in _PICTURES:
        raise BadQuestion("what to draw is told by how the file ends", into, "known are .png, .svg")
    spans = {one.value: one for one in Span}
    if by is not None and by not in spans:
        raise BadQuestion(f"there are no sums by {by!r}", None, f"say {', '.join(spans)}")
    if keyring and not snapshots and system.tree.taken is None:
        raise BadQuestion("no signature is judged here: give a snapshot", ", ".join(keyring))
    line = ProgressLine()
    wish = TimelineWish(
        since, until, _deeds(actions), unexplained,
        None if around is None else typed_path(around), within,
        tuple(map(typed_path, snapshots or ())), keyring, progress=line,
    )  # fmt: skip
    try:
        answer = timeline(system, tuple(map(typed_path, subjects or ())), wish)
    finally:
        line.close()
    if into:
        from filigree.cli.files import write_outside
        from filigree.views.pictures.timeline import timeline_picture

        write_outside(system.root, typed_path(into), timeline_picture(answer, ending))
    return (by_period(answer, spans[by]) if by else answer), NO_OPTIONS


def _deeds(text: str | None) -> "frozenset[Deed]":
    """The actions that a person named. Raises BadQuestion where one is none."""
    from filigree.questions.timeline.happenings import Deed

    known = {one.value: one for one in Deed}
    wished = [one.strip() for one in (text or "").split(",") if one.strip()]
    unknown = [one for one in wished if one not in known]
    if unknown:
        raise BadQuestion(f"nothing is ever {unknown[0]!r}", None, f"known are {', '.join(known)}")
    return frozenset(known[one] for one in wished)
