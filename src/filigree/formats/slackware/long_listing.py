"""Long listings of what archives hold, one behind the other, as `MANIFEST` files have them.

    listing = *( bar "||   Package:" path … bar *line )
    line    = kind-and-mode owner "/" group size date time path [ "->" target ]

Each line is as GNU tar writes it (its manual, "verbose"): times to the minute or second, in the zone of
whoever made the list, which is taken for UTC; signs that do not print behind a backslash, as itself is.
"""

import os
import re
from calendar import timegm
from collections.abc import Callable, Iterable, Iterator
from typing import NamedTuple

from filigree.formats.damage import Damage, text_of
from filigree.model.files import Kind

LINE_LIMIT = 1 << 16
LINES_LIMIT = 1_000_000
"""Lines that are kept of one archive: what goes on beyond that is no archive's."""
_HEAD = re.compile(r"\|\|\s+Package:\s+(\S.*)")
_LINE = re.compile(
    r"([-dlhbcps])([-r][-w][-xsS][-r][-w][-xsS][-r][-w][-xtT])\S* ([^\s/]+)/(\S+)\s+"
    r"(\d{1,15}|\d{1,8},\s*\d{1,8}) (\d{4})-(\d\d)-(\d\d) (\d\d):(\d\d)(?::(\d\d)(?:\.\d+)?)? (.+)"
)
_KINDS = {
    "-": Kind.FILE, "h": Kind.FILE, "d": Kind.DIRECTORY, "l": Kind.LINK, "b": Kind.BLOCK_DEVICE,
    "c": Kind.CHARACTER_DEVICE, "p": Kind.PIPE, "s": Kind.SOCKET,
}  # fmt: skip
_ESCAPED = re.compile(rb"\\([0-7]{3}|.)", re.DOTALL)
_SIGNS = {
    b"n": b"\n", b"t": b"\t", b"a": b"\a", b"b": b"\b", b"f": b"\f", b"r": b"\r", b"v": b"\v",
}  # fmt: skip


class ListedEntry(NamedTuple):
    """One path of an archive. `modified` is seconds since 1970, told to `grain` seconds.

    `size` is None for what is no file, and for another name of one, whose first is `same_as`.
    """

    path: str
    kind: Kind
    mode: int
    owner: str
    group: str
    size: int | None
    modified: int
    time_resolution: int
    target: str | None = None
    device: int | None = None
    same_as: str | None = None


Wanted = Callable[[str], bool]


class Block(NamedTuple):
    """What a listing tells of one archive: its path, and the lines of what it holds, as they are written.

    `line` is the number of the first of them. `entries` makes sense of them.
    """

    archive: str
    lines: list[bytes]
    line: int

    def entries(self) -> Iterator[ListedEntry | Damage]:
        """Each path; a Damage in the place of a line that tells none."""
        for number, line in enumerate(self.lines, self.line):
            if line.strip():
                yield _entry(text_of(line)) or Damage(number, "a line that tells no file")


def read_blocks(pieces: Iterable[bytes], wanted: Wanted = lambda _: True) -> Iterator[Block]:
    """The block of each archive that is wanted."""
    block: Block | None = None
    for number, line in enumerate(_lines(pieces), 1):
        if line.startswith((b"++=", b"||")):
            head = _HEAD.fullmatch(text_of(line).rstrip())
            if head:
                if block is not None:
                    yield block
                block = Block(head[1], [], number + 1) if wanted(head[1]) else None
            elif block is not None and not block.lines:
                block = block._replace(line=number + 1)
        elif block is not None and len(block.lines) < LINES_LIMIT:
            block.lines.append(line)
    if block is not None:
        yield block


def read_listings(pieces: Iterable[bytes]) -> Iterator[tuple[str, list[ListedEntry | Damage]]]:
    """Each archive's path and what it holds."""
    for block in read_blocks(pieces):
        yield block.archive, list(block.entries())


def _lines(pieces: Iterable[bytes]) -> Iterator[bytes]:
    rest = b""
    for piece in pieces:
        lines = (rest + piece).split(b"\n")
        rest = lines.pop()[:LINE_LIMIT]
        yield from lines
    if rest:
        yield rest


def _entry(line: str) -> ListedEntry | None:
    match = _LINE.fullmatch(line)
    if match is None:
        return None
    sign, permissions, owner, group, size, *date, seconds, rest = match.groups()
    year, month, day, hour, minute = map(int, date)
    if not (1 <= month <= 12 and 1 <= day <= 31 and hour < 24 and minute < 60):
        return None
    at = timegm((year, month, day, hour, minute, int(seconds or 0)))
    kind = _KINDS[sign]
    path, target, same = rest, None, None
    if kind is Kind.LINK:
        path, _, target = rest.partition(" -> ")
    elif sign == "h":
        path, _, same = rest.partition(" link to ")
    device = None
    if "," in size:
        major, _, minor = size.partition(",")
        device = os.makedev(int(major) & 0xFFF, int(minor) & 0xFFFFF)
    return ListedEntry(
        path=_plain(path), kind=kind, mode=_mode(permissions), owner=_person(owner), group=_person(group),
        size=int(size) if sign == "-" and "," not in size else None, modified=at,
        time_resolution=1 if seconds else 60,
        target=None if target is None else _plain(target), device=device,
        same_as=None if same is None else _plain(same),
    )  # fmt: skip


def _person(text: str) -> str:
    """A name, or a number as records write it."""
    return f"#{text}" if text.isdigit() else text


def _mode(text: str) -> int:
    mode = 0
    for place, sign in enumerate(text):
        if sign not in "-ST":
            mode |= 0o400 >> place
        if sign in "sStT":
            mode |= (0o4000, 0o2000, 0o1000)[place // 3]
    return mode


def _plain(text: str) -> str:
    if "\\" not in text:
        return text
    # Bytes that were told one by one belong together again.
    return text_of(_ESCAPED.sub(_sign, text.encode("utf-8", "surrogateescape")))


def _sign(match: re.Match[bytes]) -> bytes:
    code = match[1]
    return bytes([int(code, 8) & 0xFF]) if len(code) == 3 else _SIGNS.get(code, code)
