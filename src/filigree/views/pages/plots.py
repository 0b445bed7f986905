"""Plots of a page, as SVG that stands in it: the same bytes for the same answer, and identifiers of their
own, so that several stand in one page."""

import io
import re
import warnings
from collections import Counter
from collections.abc import Callable, Iterable, Sequence, Sized
from datetime import datetime
from typing import Any

from filigree.views.pictures.figure import NO_DATE, needed_library
from filigree.views.text import escaped

_ID = re.compile(r'\b(id="|url\(#|xlink:href="#|href="#)')
_BARS = 12
_INK, _BAR, _BAD = "#5c6b78", "#2f6f8f", "#b3261e"
_AS_THE_PAGE = {_INK: "currentColor", _BAR: "var(--link)", _BAD: "var(--critical)"}
"""A plot has the colours of the page that it stands in, light or dark."""
_LONGEST = 24


def bars(name: str, told: Sequence[tuple[str, float]], unit: str, bad: bool = False) -> str:
    """Bars, the longest first, at most a dozen; each with its name and number."""
    most = sorted(told, key=lambda one: (-one[1], one[0]))[:_BARS]

    def draw(axes: Any) -> None:
        names = [_short(one) for one, _ in reversed(most)]
        values = [value for _, value in reversed(most)]
        places = range(len(names))
        axes.barh(places, values, color=_BAD if bad else _BAR)
        axes.set_yticks(places, names)
        axes.set_xlabel(unit)
        axes.locator_params(axis="x", integer=all(isinstance(value, int) for value in values))

    return _svg(name, draw, 0.7 + 0.28 * len(most)) if most else ""


def first_of(caption: str, told: Sized) -> str:
    """What stands above bars: where there are more than are drawn, it says so."""
    return caption if len(told) <= _BARS else f"{caption}: the first {_BARS} of {len(told):,}"


def months(name: str, times: Iterable[datetime | None], unit: str) -> str:
    """How many things of each month, over the whole span."""
    counts = Counter((one.year, one.month) for one in times if one is not None)
    if not counts:
        return ""
    first, last = min(counts), max(counts)
    span = (last[0] - first[0]) * 12 + last[1] - first[1] + 1
    step = max(1, -(-span // 72))
    steps = [first[0] * 12 + first[1] - 1 + step * n for n in range(-(-span // step))]
    values = [
        sum(counts.get((month // 12, month % 12 + 1), 0) for month in range(one, one + step))
        for one in steps
    ]

    def draw(axes: Any) -> None:
        places = range(len(steps))
        axes.bar(places, values, color=_BAR)
        every = max(1, len(steps) // 8)
        axes.set_xticks(
            list(places)[::every], [f"{one // 12}-{one % 12 + 1:02d}" for one in steps[::every]]
        )
        axes.set_ylabel(unit)
        axes.locator_params(axis="y", integer=True)

    return _svg(name, draw, 2.2)


def _short(text: str) -> str:
    told = escaped(text).replace("$", r"\$")
    return told if len(told) <= _LONGEST else f"{told[: _LONGEST - 1]}…"


def _svg(name: str, draw: Callable[[Any], None], high: float) -> str:
    mpl, figure = needed_library()
    figure.set_size_inches(7.2, high)
    figure.patch.set_alpha(0)
    with mpl.rc_context({"svg.hashsalt": name, "svg.fonttype": "path"}):
        axes = figure.add_subplot()
        axes.set_facecolor("none")
        with warnings.catch_warnings():
            # A sign that the font has not is drawn as a box: the name is in the table beside.
            warnings.simplefilter("ignore")
            draw(axes)
            for side in ("top", "right"):
                axes.spines[side].set_visible(False)
            for one in (axes.xaxis, axes.yaxis):
                one.label.set_color(_INK)
            axes.tick_params(colors=_INK, labelsize=8)
            for side in ("left", "bottom"):
                axes.spines[side].set_color(_INK)
            figure.tight_layout(pad=0.4)
            out = io.BytesIO()
            figure.savefig(out, format="svg", metadata=NO_DATE["svg"], transparent=True)
    made = inline(out.getvalue().decode(), name)
    for colour, word in _AS_THE_PAGE.items():
        made = made.replace(colour, word)
    return made


def inline(svg: str, name: str) -> str:
    """A picture as it stands in a page: without what only a file begins with, and with identifiers that
    no other picture of the page has."""
    body = svg[svg.index("<svg") :]
    body = re.sub(r"<metadata>.*?</metadata>", "", body, flags=re.DOTALL)
    return _ID.sub(lambda found: f"{found[0]}{name}-", body)
