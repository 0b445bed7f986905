"""Words and small shapes that several screens share."""

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime

from filigree.model.answer import Gap
from filigree.model.files import Verdict
from filigree.model.package import State
from filigree.views.page import Ink, Piece, Style, line
from filigree.views.text import listed

STATE_WORDS = {
    State.INSTALLED: "installed",
    State.HALF_INSTALLED: "half-installed",
    State.UNPACKED: "unpacked, not configured",
    State.HALF_CONFIGURED: "half-configured",
    State.AWAITING_TRIGGERS: "installed, awaits triggers",
    State.PENDING_TRIGGERS: "installed, triggers pending",
    State.CONFIGURATION_LEFT: "only configuration left",
    State.NOT_INSTALLED: "not installed",
    State.ARCHIVE: "an archive",
    State.AVAILABLE: "available",
    State.UNKNOWN: "in an unknown state",
}
REASON_WORDS = {
    "chosen": "chosen by a person",
    "dependency": "came as dependencies",
    "unknown": "for reasons not on record",
}
VERDICT_STYLES = {
    Verdict.DOCTORED: Style.BAD,
    Verdict.ALTERED: Style.BAD,
    Verdict.MISSING: Style.BAD,
    Verdict.UNREADABLE: Style.WARN,
    Verdict.EDITED: Style.WARN,
    Verdict.UNRECORDED: Style.FAINT,
    Verdict.EXCUSED: Style.FAINT,
    Verdict.INTACT: Style.GOOD,
}
GAPS_SHOWN = 20
UNSIGNED = "no: whoever can write to the file can make it say anything"


def state_words(state: State, held: bool) -> Piece:
    """How a package stands, in words."""
    words = STATE_WORDS[state] + (", held" if held else "")
    if not state.sound:
        return Piece(words, Style.BAD if state.present else Style.FAINT)
    return Piece(words, Style.WARN if held else Style.PLAIN)


def day(moment: datetime | None) -> str:
    """A date for people; empty where it is not known."""
    return "" if moment is None else moment.strftime("%Y-%m-%d")


def minute(moment: datetime | None) -> str:
    """A time for people, in UTC."""
    return "" if moment is None else moment.strftime("%Y-%m-%d %H:%M UTC")


def seen(told: str) -> str:
    """A time that is told in ISO 8601, for people."""
    return told.replace("T", " ").replace("Z", " UTC")


def fact(ink: Ink, name: str, *parts: str | Piece, width: int = 14) -> Iterator[str]:
    """A name and what is to be said of it, on lines of their own."""
    yield from ink.flowed((Piece(name.ljust(width), Style.FAINT), *line(*parts)), width)


def in_layers(layers: Sequence[int] | None) -> str:
    """Which layers of an image speak of a path, in a few words; empty where there are none."""
    if not layers:
        return ""
    *below, last = layers
    words = f"layer {last}"
    return f"{words}, over {listed([str(one) for one in below])}" if below else words


def closing(ink: Ink, *parts: str | Piece) -> Iterator[str]:
    """The line that ends an answer."""
    yield from ink.flowed(line(*parts))


def gap_lines(ink: Ink, gaps: Iterable[Gap]) -> Iterator[str]:
    """What could not be looked at."""
    gaps = list(gaps)
    if not gaps:
        return
    yield ""
    yield ink.paint(line(Piece("Not looked at, and so not judged:", Style.WARN)))
    for gap in gaps[:GAPS_SHOWN]:
        yield from ink.flowed(line("  ", Piece(gap.what), ": ", gap.why), 4)
    if len(gaps) > GAPS_SHOWN:
        yield f"  and {len(gaps) - GAPS_SHOWN:,} more (--format json names them all)"
