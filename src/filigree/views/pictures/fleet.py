"""A drawn fleet: a mark where hosts are by how far they are from the middle of their like, and by how
many files of theirs are not as they came; as large as how many are there. Those that are alone have
their names.

Colour only says again what shapes say: which hosts are alike.
"""

import io
import warnings
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from filigree.fleet.asked import FleetSummary
from filigree.fleet.questions.hosts import HostRow
from filigree.model.answer import Answer, iso
from filigree.views.pictures.figure import NO_DATE, needed_library
from filigree.views.text import count_words, escaped

if TYPE_CHECKING:
    from matplotlib.axes import Axes

_INK, _FAINT = "#1f2d3a", "#5c6b78"
_KINDS = (
    ("o", "#2f6f8f"), ("s", "#b06f00"), ("^", "#4d7a57"), ("D", "#6a5a8c"), ("v", "#8c5a6a"),
    ("P", "#5c6b78"),
)  # fmt: skip
_SMALLEST, _GROWTH = 60.0, 26.0
_ALONE, _LABELS, _LONGEST = 2, 24, 28


def fleet_picture(answer: Answer[HostRow, FleetSummary], form: str) -> bytes:
    """Hosts as a picture, `png` or `svg`. Raises BadQuestion where the library is missing."""
    mpl, figure = needed_library()
    with mpl.rc_context({"svg.hashsalt": "filigree", "svg.fonttype": "path"}):
        axes = figure.add_axes((0.075, 0.11, 0.905, 0.76))
        _frame(axes)
        _draw(axes, answer.records)
        _words(figure, answer)
        out = io.BytesIO()
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # a sign that the font has not is drawn as a box
            figure.savefig(out, format=form, metadata=NO_DATE[form])
        return out.getvalue()


def _frame(axes: "Axes") -> None:
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    axes.grid(True, color="#e3e8ec", linewidth=0.8)
    axes.set_axisbelow(True)
    axes.tick_params(colors=_FAINT, labelsize=9)
    axes.set_xlabel(
        "packages in which a host differs from most of those like it", color=_INK, fontsize=10
    )
    axes.set_ylabel("files that are not as they came, or nobody's", color=_INK, fontsize=10)


def _draw(axes: "Axes", rows: Sequence[HostRow]) -> None:
    from matplotlib.ticker import MaxNLocator

    places: dict[tuple[int, int, int], list[HostRow]] = {}
    for row in rows:
        places.setdefault((row.cluster, row.off, row.deviations), []).append(row)
    for cluster in sorted({row.cluster for row in rows}):
        shape, colour = _KINDS[min(cluster, len(_KINDS)) - 1]
        held = [(place, found) for place, found in places.items() if place[0] == cluster]
        members = [row for _, found in held for row in found]
        axes.scatter(
            [place[1] for place, _ in held], [place[2] for place, _ in held],
            s=[_SMALLEST + _GROWTH * len(found) for _, found in held], marker=shape, color=colour,
            alpha=0.75, edgecolors="white", linewidths=0.8,
            label=f"{count_words(len(members), 'host')} of {_family(members)}",
        )  # fmt: skip
    _names(axes, places)
    if rows:
        axes.margins(x=0.12, y=0.12)
        axes.xaxis.set_major_locator(MaxNLocator(integer=True))
        axes.yaxis.set_major_locator(MaxNLocator(integer=True))
        axes.legend(loc="upper right", frameon=False, fontsize=9, labelcolor=_INK, markerscale=0.8)


def _names(axes: "Axes", places: dict[tuple[int, int, int], list[HostRow]]) -> None:
    """How many are at each place, and who is alone there."""
    for (_, off, deviations), found in places.items():
        if len(found) > _ALONE:
            axes.annotate(
                count_words(len(found), "host"), (off, deviations), xytext=(13, -4),
                textcoords="offset points", fontsize=8, color=_FAINT,
            )  # fmt: skip
    lonely = sorted(
        (item for item in places.items() if len(item[1]) <= _ALONE),
        key=lambda item: (-item[0][2], -item[0][1]),
    )
    for (_, off, deviations), found in lonely[:_LABELS]:
        name = escaped(", ".join(row.host for row in found))
        axes.annotate(
            name if len(name) <= _LONGEST else f"{name[:_LONGEST]}…", (off, deviations),
            xytext=(9, 5), textcoords="offset points", fontsize=9, color=_INK,
        )  # fmt: skip


def _family(rows: Sequence[HostRow]) -> str:
    return escaped(", ".join(sorted({row.family for row in rows})))


def _words(figure: Any, answer: Answer[HostRow, FleetSummary]) -> None:
    summary = answer.summary
    title = f"{count_words(summary.hosts, 'host')} of {escaped(answer.system.root)}"
    figure.text(0.02, 0.945, title, fontsize=14, color=_INK, fontweight="bold")
    seen = f"seen until {iso(summary.last_seen)}" if summary.last_seen else "never seen"
    told = (
        f"{seen}; nobody vouches for {summary.unvouched:,} of them" if summary.unvouched else seen
    )
    figure.text(0.02, 0.905, told, fontsize=10, color=_FAINT)
