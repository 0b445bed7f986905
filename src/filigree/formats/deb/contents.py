"""The index of the paths of a `deb` repository, `Contents-ARCH`.

    line = path spaces section "/" package *("," section "/" package)

Paths have no first slash. As the wiki page on the repository format describes it; indexes of long ago
begin with a text for people that ends in a line of two headings.
"""

import re
from collections.abc import Iterable, Iterator

from filigree.formats.damage import Damage, text_of

LINE_LIMIT = 1 << 20
_HEADINGS = re.compile(r"FILE\s+LOCATION")


def read_contents(pieces: Iterable[bytes]) -> Iterator[tuple[str, str] | Damage]:
    """Every path, absolute, with each package that has it."""
    preface = True
    for number, line in enumerate(_lines(pieces), 1):
        if line is None:
            yield Damage(number, f"a line of more than {LINE_LIMIT} bytes")
            continue
        text = text_of(line)
        parts = text.rsplit(None, 1)
        known = len(parts) == 2 and "/" in parts[1]
        if preface and not known:
            preface = not _HEADINGS.fullmatch(text)
            continue
        if not known:
            yield Damage(number, "a line that is no path with its packages")
            continue
        path = "/" + parts[0].rstrip().lstrip("./")
        for one in parts[1].split(","):
            yield path, one.rpartition("/")[2]


def _lines(pieces: Iterable[bytes]) -> Iterator[bytes | None]:
    """Every line that is not empty; None for one that is too long to be one."""
    rest = b""
    dropping = False
    for piece in pieces:
        *lines, rest = (rest + piece).split(b"\n")
        for line in lines:
            if dropping:
                yield None
                dropping = False
            elif line:
                yield line if len(line) <= LINE_LIMIT else None
        if len(rest) > LINE_LIMIT:
            dropping, rest = True, b""
    if dropping or rest:
        yield None if dropping else rest
