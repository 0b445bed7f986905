"""A drawn picture of a graph. Colour only says again what shapes, lines and words say."""

import io
import warnings
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.model.needs import Relation
from filigree.questions.commands.draw import DrawSummary, NodeRow, NodeStatus, Side
from filigree.views.pictures.layout import Position, places_of
from filigree.views.text import escaped, size_words

if TYPE_CHECKING:
    from matplotlib.axes import Axes

WIDE, HIGH, DOTS = 12.8, 8.0, 100
_DRAWN = 0.865
"""The part of the height that the graph itself has."""
_LINES: dict[Relation, tuple[Any, float]] = {
    Relation.REQUIRES_FIRST: ("-", 1.9),
    Relation.REQUIRES: ("-", 1.0),
    Relation.RECOMMENDS: ((0, (6, 3)), 1.0),
    Relation.SUGGESTS: ((0, (1, 2.5)), 1.1),
    Relation.SUPPLEMENTS: ((0, (6, 2, 1, 2)), 1.0),
    Relation.ENHANCES: ((0, (3, 2, 1, 2, 1, 2)), 1.0),
}
_INK, _FAINT, _BAD, _OFFER = "#1f2d3a", "#5c6b78", "#b3261e", "#9a6700"
_CHOSEN, _DEPENDENCY, _SUBJECT = "#2f6f8f", "#a9c4cf", "#d98e04"
_LONGEST, _TITLE = 26, 56
_AREA = 1400.0
_SMALLEST = 34.0


def picture(answer: Answer[NodeRow, DrawSummary], form: str) -> bytes:
    """The graph as a picture, `png` or `svg`. Raises BadQuestion where the library is missing."""
    mpl, figure = needed_library()
    with mpl.rc_context({"svg.hashsalt": "filigree", "svg.fonttype": "path"}):
        axes = figure.add_axes((0.0, 0.075, 1.0, _DRAWN))
        axes.set_xlim(0, 1)
        axes.set_ylim(1, 0)
        axes.axis("off")
        rows = answer.records
        places = places_of(rows)
        _ties(axes, rows, places)
        _nodes(axes, rows, places)
        _title(figure, answer)
        _legend(figure, rows)
        out = io.BytesIO()
        with warnings.catch_warnings():
            # A sign that the font has not is drawn as a box: the name is in the other formats.
            warnings.simplefilter("ignore")
            figure.savefig(out, format=form, metadata=NO_DATE[form])
        return out.getvalue()


def needed_library() -> tuple[Any, Any]:
    """The library that draws, and an empty figure. Raises BadQuestion where it is missing."""
    try:
        import matplotlib as mpl
        from matplotlib.backends.backend_agg import FigureCanvasAgg
        from matplotlib.figure import Figure
    except ImportError as error:
        raise BadQuestion(
            "drawing needs a library that is not installed", None, "pip install 'filigree[draw]'"
        ) from error
    figure = Figure(figsize=(WIDE, HIGH), dpi=DOTS, facecolor="white")
    FigureCanvasAgg(figure)
    return mpl, figure


NO_DATE: dict[str, dict[str, Any]] = {"png": {"Software": None}, "svg": {"Date": None}}


def _title(figure: Any, answer: Answer[NodeRow, DrawSummary]) -> None:
    summary = answer.summary
    names = ", ".join(map(escaped, summary.subjects[:4])) or "nothing"
    names = names if len(names) <= _TITLE else f"{names[: _TITLE - 1]}…"
    words = f"{summary.packages:,} packages, {summary.ties:,} ties"
    if summary.gathered:
        words += f"; the smaller of crowded levels are drawn as one ({summary.nodes} nodes)"
    if summary.unmet:
        words += f"; {summary.unmet} needs unmet"
    figure.text(
        0.015, 0.972, names, size=15, weight="bold", color=_INK, va="center", parse_math=False
    )
    figure.text(
        0.985, 0.972, words, size=9.5, color=_FAINT, va="center", ha="right", parse_math=False
    )
    sides = {row.side for row in answer.records}
    if Side.NEEDED_BY in sides:
        figure.text(0.015, 0.945, "← who needs it", size=9.5, color=_FAINT, va="center")
    if Side.NEEDS in sides:
        figure.text(
            0.985, 0.945, "what it needs →", size=9.5, color=_FAINT, va="center", ha="right"
        )


def _ties(axes: "Axes", rows: Sequence[NodeRow], places: dict[str, Position]) -> None:
    from matplotlib.patches import PathPatch
    from matplotlib.path import Path

    by_node = {row.node: row for row in rows}
    for row in rows:
        start = places[row.node]
        for tie in row.ties:
            end, other = places[tie.to], by_node[tie.to]
            level = (
                abs(other.depth - row.depth) if other.side is row.side else other.depth + row.depth
            )
            near = level == 1 and end.x > start.x
            line, width = _LINES.get(tie.kind, ((0, (2, 2)), 1.0))
            colour = _BAD if tie.met is False else _FAINT
            if other.status is NodeStatus.AVAILABLE or row.status is NodeStatus.AVAILABLE:
                colour = _OFFER
            bend = max(0.03, abs(end.x - start.x) * 0.45)
            side = 1 if end.x > start.x else -1
            if abs(end.x - start.x) < 0.02:  # within one column: a bow to the left
                points = [start, (start.x - 0.05, start.y), (end.x - 0.05, end.y), end]
            else:
                points = [
                    start,
                    (start.x + side * bend, start.y),
                    (end.x - side * bend, end.y),
                    end,
                ]
            codes = [Path.MOVETO, Path.CURVE4, Path.CURVE4, Path.CURVE4]
            axes.add_patch(PathPatch(
                Path([(x, y) for x, y in points], codes), fill=False, edgecolor=colour, linestyle=line,
                linewidth=width, alpha=0.75 if near else 0.22, zorder=1,
            ))  # fmt: skip


def _nodes(axes: "Axes", rows: Sequence[NodeRow], places: dict[str, Position]) -> None:
    most = max((row.installed_size or 0 for row in rows), default=0) or 1
    crowded = len(rows) > 36
    columns = len({place.x for place in places.values()})
    longest = _LONGEST if columns <= 7 else _LONGEST - 6
    for row in rows:
        place = places[row.node]
        area = max(_SMALLEST, _AREA * (row.installed_size or 0) / most)
        hollow = row.status in (NodeStatus.AVAILABLE, NodeStatus.ARCHIVE)
        fill = _CHOSEN if row.chosen else _DEPENDENCY
        edge = _SUBJECT if row.side is Side.SUBJECT else _OFFER if hollow else _INK
        shape = {NodeStatus.UNMET: "X", NodeStatus.SEVERAL: "H"}.get(
            row.status, "s" if row.chosen else "o"
        )
        if row.status is NodeStatus.UNMET:
            fill, edge = _BAD, _BAD
        axes.scatter(
            [place.x], [place.y], s=area, marker=shape, facecolors="white" if hollow else fill,
            edgecolors=edge, linewidths=2.6 if row.side is Side.SUBJECT else 1.1, zorder=3,
        )  # fmt: skip
        below = (area**0.5) / 2 / 72 / (HIGH * _DRAWN) + 0.006
        text = escaped(row.node)
        text = text if len(text) <= longest else f"{text[: longest - 1]}…"
        strong = row.side is Side.SUBJECT or bool(row.chosen)
        axes.text(
            place.x, place.y + below, text, size=7.4 if crowded else 8.6, ha="center", va="top",
            color=_BAD if row.status is NodeStatus.UNMET else _INK,
            weight="bold" if strong else "normal", zorder=4, parse_math=False,
            bbox={"facecolor": "white", "alpha": 0.72, "edgecolor": "none", "pad": 0.6},
        )  # fmt: skip


def _legend(figure: Any, rows: Sequence[NodeRow]) -> None:
    handles = [*_dots(rows), *_strokes(rows)]
    most = max((row.installed_size or 0 for row in rows), default=0)
    if handles:
        figure.legend(
            handles=handles, loc="lower left", bbox_to_anchor=(0.008, 0.004), ncols=len(handles),
            frameon=False, fontsize=8.6, handlelength=2.6, columnspacing=1.4, labelcolor=_INK,
        )  # fmt: skip
    if most:
        figure.text(
            0.985, 0.026, f"area is size; the largest is {size_words(most)}", size=8.6, color=_FAINT,
            ha="right", va="center",
        )  # fmt: skip


def _dots(rows: Sequence[NodeRow]) -> Iterator[Any]:
    """What the shapes of packages mean, of those that are there."""
    from matplotlib.lines import Line2D

    seen = {row.status for row in rows}
    there = NodeStatus.INSTALLED in seen
    reasons = {row.chosen for row in rows if row.chosen is not None}
    untold = any(row.chosen is None and row.status is NodeStatus.INSTALLED for row in rows)
    for shown, words, shape, fill, edge in (
        (True in reasons, "chosen", "s", _CHOSEN, _INK),
        (False in reasons, "dependency", "o", _DEPENDENCY, _INK),
        (there and untold, "installed", "o", _DEPENDENCY, _INK),
        (NodeStatus.AVAILABLE in seen, "not installed", "o", "white", _OFFER),
        (NodeStatus.ARCHIVE in seen, "archive", "o", "white", _OFFER),
        (NodeStatus.UNMET in seen, "unmet need", "X", _BAD, _BAD),
        (NodeStatus.SEVERAL in seen, "several together", "H", _DEPENDENCY, _INK),
    ):
        if shown:
            yield Line2D(
                [], [], marker=shape, linestyle="", markerfacecolor=fill, markeredgecolor=edge,
                markersize=8, label=words,
            )  # fmt: skip


def _strokes(rows: Sequence[NodeRow]) -> Iterator[Any]:
    """What the lines between packages mean, of those that are there."""
    from matplotlib.lines import Line2D

    kinds = dict.fromkeys(tie.kind for row in rows for tie in row.ties)
    for kind in sorted(kinds, key=list(Relation).index):
        line, width = _LINES.get(kind, ((0, (2, 2)), 1.0))
        words = kind.value.replace("-", " ")
        yield Line2D([], [], color=_FAINT, linestyle=line, linewidth=width + 0.4, label=words)
