"""A page of text for a terminal: lines of styled pieces, and tables that fit the window.

Our own and not a library's: a listing of a system has a hundred thousand rows, and they are laid
out here in seconds and written as they come.
"""

import re
import unicodedata
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from enum import Enum
from typing import NamedTuple

from filigree.views.text import escaped

GAP = "  "
NARROWEST = (12, 6)


class Style(Enum):
    """What colour says again, after the words have said it. Values are terminal codes (ECMA-48)."""

    PLAIN = ""
    TITLE = "1"
    FAINT = "2"
    GOOD = "32"
    WARN = "33"
    BAD = "1;31"
    NAME = "36"


class Piece(NamedTuple):
    """Some text in one style. The text may be hostile: it is escaped when it is written."""

    text: str
    style: Style = Style.PLAIN


Line = tuple[Piece, ...]


def line(*parts: "str | Piece") -> Line:
    """A line of pieces."""
    return tuple(Piece(part) if isinstance(part, str) else part for part in parts)


@dataclass(frozen=True, slots=True)
class Column:
    """One column of a table. A `wrap` column gives way where the window is narrow."""

    title: str
    right: bool = False
    wrap: bool = False


class Ink:
    """Writes lines as text, with colour or without, for a window of `width` (0: no bounds)."""

    def __init__(self, colour: bool, width: int) -> None:
        self.colour = colour
        self.width = width

    def paint(self, pieces: Iterable[Piece]) -> str:
        """One line as text."""
        return "".join(self._painted(escaped(text), style) for text, style in pieces).rstrip(" ")

    def _painted(self, text: str, style: Style) -> str:
        if not self.colour or style is Style.PLAIN or not text:
            return text
        return f"\x1b[{style.value}m{text}\x1b[0m"

    def flowed(self, pieces: Line, indent: int = 0) -> Iterator[str]:
        """A line of words as text, broken to fit the window; later lines start at `indent`."""
        if not self.width or cells("".join(escaped(p.text) for p in pieces)) <= self.width:
            yield self.paint(pieces)
            return
        out: list[Piece] = []
        used = 0
        for text, style in pieces:
            for word in _words(escaped(text), max(8, self.width - indent)):
                wide = cells(word.rstrip(" "))
                if used > indent and used + wide > self.width:
                    yield self._joined(out)
                    out, used = [Piece(" " * indent)], indent
                    word = word.lstrip(" ")
                out.append(Piece(word, style))
                used += cells(word)
        yield self._joined(out)

    def _joined(self, pieces: list[Piece]) -> str:
        # A space that is painted counts for the terminal, which would break the line behind it.
        while pieces and not (last := pieces[-1].text.rstrip(" ")):
            pieces = pieces[:-1]
        if pieces:
            pieces = [*pieces[:-1], Piece(last, pieces[-1].style)]
        return "".join(self._painted(text, style) for text, style in pieces)

    def table(
        self, columns: Sequence[Column], rows: Sequence[Sequence[str | Piece]], indent: int = 0
    ) -> Iterator[str]:
        """A table: a line of titles, then the rows, aligned; cells that do not fit are broken."""
        shown = [[_cell(cell) for cell in row] for row in rows]
        wanted = _wanted_widths(columns, shown)
        # A column without a title in which nothing stands takes no room.
        kept = [at for at, width in enumerate(wanted) if width or columns[at].title]
        columns = [columns[at] for at in kept]
        widths = [wanted[at] for at in kept]
        shown = [[row[at] for at in kept] for row in shown]
        prose = [any(" " in row[at].text for row in shown) for at in range(len(columns))]
        self._fit(columns, widths, indent, prose)
        margin = " " * indent
        if any(column.title for column in columns):
            titles = [Piece(column.title, Style.TITLE) for column in columns]
            yield from self._row(columns, widths, titles, margin)
        for row in shown:
            yield from self._row(columns, widths, row, margin)

    def _fit(
        self, columns: Sequence[Column], widths: list[int], indent: int, prose: Sequence[bool]
    ) -> None:
        """Take from the widest columns that may wrap until all fit the window, if they can.

        Where there is `prose` it gives way first: names, versions and paths are broken last.
        """
        if not self.width:
            return
        over = sum(widths) + len(GAP) * (len(widths) - 1) + indent - self.width
        may = [at for at, column in enumerate(columns) if column.wrap]
        words = [at for at in may if prose[at]]
        for soft, narrowest in (
            *((words, one) for one in NARROWEST), *((may, one) for one in NARROWEST),
        ):  # fmt: skip
            while over > 0 and (room := [at for at in soft if widths[at] > narrowest]):
                widest = max(widths[at] for at in room)
                same = [at for at in room if widths[at] == widest]
                others = [widths[at] for at in soft if widths[at] < widest]
                floor = max(narrowest, max(others, default=narrowest))
                cut = min(widest - floor, -(-over // len(same)))
                for at in same:
                    widths[at] -= cut
                    over -= cut

    def _row(
        self, columns: Sequence[Column], widths: Sequence[int], row: Sequence[Piece], margin: str
    ) -> Iterator[str]:
        broken = [
            _broken(cell.text, width) if width < cells(cell.text) else [cell.text]
            for cell, width in zip(row, widths, strict=True)
        ]
        for at in range(max(len(parts) for parts in broken)):
            out = []
            for column, width, cell, parts in zip(columns, widths, row, broken, strict=True):
                text = parts[at] if at < len(parts) else ""
                space = " " * (width - cells(text))
                painted = self._painted(text, cell.style)
                out.append(space + painted if column.right else painted + space)
            yield (margin + GAP.join(out)).rstrip(" ")


def cells(text: str) -> int:
    """How many columns of a terminal a text takes."""
    if text.isascii():
        return len(text)
    return sum(_cells_of(sign) for sign in text)


def _cells_of(sign: str) -> int:
    if unicodedata.combining(sign):
        return 0
    return 2 if unicodedata.east_asian_width(sign) in "WF" else 1


def _cell(cell: str | Piece) -> Piece:
    return Piece(escaped(cell)) if isinstance(cell, str) else Piece(escaped(cell.text), cell.style)


def _words(text: str, width: int) -> Iterator[str]:
    """Words with the spaces that follow them; one that is wider than `width` cells comes in parts."""
    for word in _WORD.findall(text):
        while cells(word.rstrip(" ")) > width:
            end = _take(word, width)
            yield word[:end]
            word = word[end:]
        yield word


_WORD = re.compile(r"[^ ]+ *|^ +")


def _broken(text: str, width: int) -> list[str]:
    """A text in lines of at most `width` cells, broken at spaces, at its own joints, or else anywhere."""
    lines: list[str] = []
    rest = text
    while cells(rest) > width:
        end = _take(rest, width)
        cut = rest.rfind(" ", 1, end + 1)
        if cut <= 0:
            cut = max(rest.rfind(sign, end // 3, end) for sign in _JOINTS) + 1 or end
        lines.append(rest[:cut].rstrip(" "))
        rest = rest[cut:].lstrip(" ")
    return [*lines, rest]


_JOINTS = "/-_.:=+~@,;"
"""Signs behind which a name, a version or a path may be broken."""


def _take(text: str, width: int) -> int:
    """How many signs fit into `width` cells; at least one."""
    if text.isascii():
        return max(1, width)
    used = 0
    for at, sign in enumerate(text):
        used += _cells_of(sign)
        if used > width:
            return max(1, at)
    return len(text)


def _wanted_widths(columns: Sequence[Column], shown: Sequence[Sequence[Piece]]) -> list[int]:
    """How wide each column would like to be, in cells of a terminal."""
    return [
        max([cells(column.title), *(cells(row[at].text) for row in shown)])
        for at, column in enumerate(columns)
    ]
