"""A drawn timeline: a lane for each thing that happened, a mark where, as large as how often.

Colour only says again what shapes and words say: what nothing explains is a cross with its name.
"""

import io
import warnings
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta
from math import log10
from typing import TYPE_CHECKING, Any, NamedTuple

from filigree.model.answer import Answer
from filigree.questions.timeline.happenings import OF_FILES, OF_PACKAGES, Deed, Happening
from filigree.questions.timeline.timeline import TimelineSummary
from filigree.views.pictures.figure import NO_DATE, needed_library
from filigree.views.text import count_words, escaped

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INK, _FAINT, _BAD, _DOUBT = "#1f2d3a", "#5c6b78", "#b3261e", "#b06f00"
_PACKAGES, _FILES, _REST = "#2f6f8f", "#6a5a8c", "#4d7a57"
_BINS = 150
_SMALLEST, _GROWTH = 70.0, 150.0
_LONGEST, _LABELS, _TITLE = 24, 60, 60
_APART = 0.012


class _Mark(NamedTuple):
    """What happened in a lane about one time: `number` of what, explained or not."""

    at: datetime
    deed: Deed
    rows: list[Happening]
    explained: bool
    doubtful: bool


def timeline_picture(answer: Answer[Happening, TimelineSummary], form: str) -> bytes:
    """A timeline as a picture, `png` or `svg`. Raises BadQuestion where the library is missing."""
    mpl, figure = needed_library()
    with mpl.rc_context({"svg.hashsalt": "filigree", "svg.fonttype": "path"}):
        axes = figure.add_axes((0.105, 0.135, 0.875, 0.745))
        timed = [row for row in answer.records if row.at is not None]
        lanes = [deed for deed in Deed if any(row.action is deed for row in timed)]
        _frame(axes, lanes, timed)
        _draw(axes, lanes, list(_marks(timed)))
        _words(figure, answer, len(answer.records) - len(timed))
        out = io.BytesIO()
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # a sign that the font has not is drawn as a box
            figure.savefig(out, format=form, metadata=NO_DATE[form])
        return out.getvalue()


def _span(timed: Sequence[Happening]) -> tuple[datetime, datetime]:
    """From when to when is drawn: with a margin, and never nothing."""
    times = [row.at for row in timed if row.at is not None]
    first = min(times, default=datetime(1970, 1, 1, tzinfo=UTC))
    last = max(times, default=first)
    wide = max(last - first, timedelta(hours=2))
    return _moved(first, -wide * 0.03), _moved(last, wide * 0.07)


def _moved(at: datetime, by: timedelta) -> datetime:
    """A time that calendars hold, a little earlier or later."""
    try:
        moved = at + by
    except OverflowError:
        return at
    return moved if 1 < moved.year < 9999 else at


def _frame(axes: "Axes", lanes: Sequence[Deed], timed: Sequence[Happening]) -> None:
    from matplotlib import dates

    first, last = _span(timed)
    axes.set_xlim(first, last)  # type: ignore[arg-type]
    axes.set_ylim(max(1, len(lanes)) - 0.4, -0.6)
    axes.set_yticks(range(len(lanes)), [deed.value for deed in lanes], fontsize=10.5, color=_INK)
    located: Any = dates
    locator = located.AutoDateLocator(minticks=4, maxticks=10)
    axes.xaxis.set_major_locator(locator)
    axes.xaxis.set_major_formatter(located.ConciseDateFormatter(locator))
    axes.tick_params(axis="x", labelsize=9.5, colors=_FAINT)
    axes.tick_params(axis="y", length=0)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)
    axes.spines["bottom"].set_color(_FAINT)
    axes.grid(axis="x", color="#e3e8ec", linewidth=0.8, zorder=0)
    for at in range(len(lanes)):
        axes.axhline(at, color="#d5dce1", linewidth=0.8, zorder=1)


def _marks(timed: Sequence[Happening]) -> Iterator[_Mark]:
    """What is near enough in one lane to be one mark."""
    first, last = _span(timed)
    wide = (last - first) / _BINS
    held: dict[tuple[Deed, int, bool], list[Happening]] = {}
    for row in timed:
        assert row.at is not None
        place = int((row.at - first) / wide)
        held.setdefault((row.action, place, row.explained_by is not None), []).append(row)
    for (deed, place, explained), rows in held.items():
        at = rows[0].at if len(rows) == 1 else first + wide * (place + 0.5)
        assert at is not None
        yield _Mark(at, deed, rows, explained, any(row.doubts for row in rows))


def _draw(axes: "Axes", lanes: Sequence[Deed], marks: Sequence[_Mark]) -> None:
    from matplotlib import dates

    number_of: Any = dates
    left, right = axes.get_xlim()
    taken: dict[tuple[int, int], float] = {}
    labels = 0
    few = len(marks) <= _LABELS
    # What nothing explains is drawn last, on top, and is named first.
    for mark in sorted(marks, key=lambda one: (one.explained, one.at)):
        lane, x = lanes.index(mark.deed), number_of.date2num(mark.at)
        number = len(mark.rows)
        area = _SMALLEST + _GROWTH * log10(number)
        axes.scatter(
            [x], [lane], s=area, marker="o" if mark.explained else "X",
            facecolors=_colour(mark), edgecolors=_DOUBT if mark.doubtful else "white",
            linewidths=1.6 if mark.doubtful else 0.8, zorder=3 if mark.explained else 5,
        )  # fmt: skip
        wanted = few or not mark.explained or number > 1
        text = _label(mark)
        length = (0.0066 * len(text) + _APART) * (right - left)
        # At an edge a name is moved inwards.
        middle = min(max(x, left + length / 2), right - length / 2)
        for above in (0, 1):
            free = taken.get((lane, above), left) <= middle - length / 2
            if wanted and labels < _LABELS and free:
                reach = 0.17 + (area**0.5) / 170
                axes.text(
                    middle, lane - reach if above == 0 else lane + reach, text, size=8.2, ha="center",
                    va="bottom" if above == 0 else "top", parse_math=False, zorder=6,
                    color=_INK if mark.explained else _BAD,
                    weight="normal" if mark.explained else "bold",
                )  # fmt: skip
                taken[lane, above] = middle + length / 2
                labels += 1
                break


def _colour(mark: _Mark) -> str:
    if not mark.explained:
        return _BAD
    return _PACKAGES if mark.deed in OF_PACKAGES else _FILES if mark.deed in OF_FILES else _REST


def _label(mark: _Mark) -> str:
    """What a mark is of: by name where it is one, and else how many."""
    if len(mark.rows) > 1:
        names = dict.fromkeys(_name(row) for row in mark.rows)
        if len(names) == 1:
            return f"{next(iter(names))} ×{len(mark.rows)}"
        return f"{len(mark.rows):,}"
    return _name(mark.rows[0])


def _name(row: Happening) -> str:
    text = row.subject
    if row.action in OF_FILES or row.action is Deed.KEPT:
        text = text.rpartition("/")[2] or text
    elif row.action is Deed.TRUSTED:
        text = f"…{text[-8:]}"
    elif row.package is not None:
        text = row.package
    text = escaped(text)
    return text if len(text) <= _LONGEST else f"{text[: _LONGEST - 1]}…"


def _words(figure: Any, answer: Answer[Happening, TimelineSummary], untimed: int) -> None:
    from matplotlib.lines import Line2D

    summary = answer.summary
    name = escaped(answer.system.label or answer.system.root)
    name = name if len(name) <= _TITLE else f"{name[: _TITLE - 1]}…"
    figure.text(0.015, 0.962, f"What happened to {name}", size=15, weight="bold", color=_INK,
                va="center", parse_math=False)  # fmt: skip
    told = count_words(summary.happenings, "thing")
    if summary.first is not None and summary.last is not None:
        told += f" from {summary.first:%Y-%m-%d} to {summary.last:%Y-%m-%d}"
    told += f", in {count_words(summary.sessions, 'transaction')}"
    if untimed:
        told += f"; {untimed:,} more at no known time"
    figure.text(0.015, 0.924, told, size=10, color=_FAINT, va="center")
    bad = (
        f"{summary.unexplained:,} that nothing explains" if summary.unexplained else "all explained"
    )
    figure.text(0.985, 0.962, bad, size=12, weight="bold", va="center", ha="right",
                color=_BAD if summary.unexplained else _REST)  # fmt: skip
    if summary.doubtful:
        figure.text(0.985, 0.924, f"{summary.doubtful:,} that cannot be as they are told", size=10,
                    color=_DOUBT, va="center", ha="right")  # fmt: skip
    kinds = (
        ("of packages", "o", _PACKAGES, "white"), ("of files", "o", _FILES, "white"),
        ("of the rest", "o", _REST, "white"), ("nothing explains it", "X", _BAD, "white"),
        ("cannot be as it is told", "o", "white", _DOUBT),
    )  # fmt: skip
    figure.legend(
        handles=[
            Line2D([], [], marker=shape, linestyle="", markerfacecolor=fill, markeredgecolor=edge,
                   markersize=9, markeredgewidth=2 if edge == _DOUBT else 0.8, label=words)
            for words, shape, fill, edge in kinds
        ],
        loc="lower left", bbox_to_anchor=(0.008, 0.004), ncols=len(kinds), frameon=False,
        fontsize=9, labelcolor=_INK,
    )  # fmt: skip
    figure.text(0.985, 0.026, "times in UTC; size tells how many at once", size=9, color=_FAINT,
                ha="right", va="center")  # fmt: skip
