"""Listings of files in the `mtree` form, as archives carry them (mtree(5), the second version).

    line  = "#" remark | "/set" *setting | "/unset" *name | path *setting
    setting = name "=" value | name

`/set` gives defaults for the lines that follow. Paths start with `./`; what is no plain sign in them is a
backslash and three octal digits, or one of the letters of vis(3). A line may go on behind a backslash.
"""

import re
from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple

from filigree.formats.damage import Damage
from filigree.model.files import Kind
from filigree.model.limits import PATH_LIMIT

LINES_LIMIT = 500_000
LINE_LIMIT = 4 * PATH_LIMIT + 4096
"""Bytes of one line, with all that it goes on with: a path whose every sign is escaped, and its
settings."""
_ESCAPE = re.compile(rb"\\([0-7]{3}|.)", re.DOTALL)
_LETTERS = {
    b"n": b"\n", b"r": b"\r", b"t": b"\t", b"b": b"\b", b"a": b"\a", b"v": b"\v", b"f": b"\f",
    b"s": b" ", b"0": b"\0", b"E": b"\x1b", b"#": b"#", b"\\": b"\\",
}  # fmt: skip
_KINDS = {
    "file": Kind.FILE, "dir": Kind.DIRECTORY, "link": Kind.LINK, "fifo": Kind.PIPE,
    "socket": Kind.SOCKET, "char": Kind.CHARACTER_DEVICE, "block": Kind.BLOCK_DEVICE,
}  # fmt: skip
_STRONGEST = ("sha512", "sha384", "sha256", "sha1", "md5")
_ALGORITHMS = {
    **{name: name for name in _STRONGEST}, **{f"{name}digest": name for name in _STRONGEST},
}  # fmt: skip
_SETTINGS = frozenset({"type", "size", "mode", "uid", "gid", "time", "link", *_ALGORITHMS})
_LENGTHS = {"md5": 32, "sha1": 40, "sha256": 64, "sha384": 96, "sha512": 128}


class ListedFile(NamedTuple):
    """What a listing says of one path, which starts with a slash. None where it does not say.

    `digests` are `algorithm:hex`, the strongest first; `modified` is in whole seconds.
    """

    path: str
    kind: Kind | None
    size: int | None
    mode: int | None
    uid: int | None
    gid: int | None
    modified: int | None
    link_target: str | None
    digests: tuple[str, ...]


def read_listing(data: bytes) -> Iterator[ListedFile | Damage]:
    """The entries of a listing, in its order; Damage in the place of a line that makes no sense."""
    defaults: dict[str, str] = {}
    for number, line in _lines(data):
        if line is None:
            yield Damage(number, f"a line of more than {LINE_LIMIT:,} bytes")
            continue
        words = line.decode("utf-8", "surrogateescape").split()
        if not words or words[0].startswith("#"):
            continue
        if number > LINES_LIMIT:
            yield Damage(number, f"more than {LINES_LIMIT:,} lines")
            return
        first = words[0]
        if first == "/set":
            defaults.update(_settings(words[1:]))
        elif first == "/unset":
            for name in words[1:]:
                defaults.pop(name, None)
        else:
            told = defaults.copy()
            told.update(_settings(words[1:]))
            yield _entry(first, told, number)


def _lines(data: bytes) -> Iterator[tuple[int, bytes | None]]:
    """The lines, each with its number and with what it goes on with; None for one that is too long."""
    parts: list[bytes] = []
    length = first = number = 0
    start = 0
    while start < len(data):
        end = data.find(b"\n", start)
        end = len(data) if end < 0 else end
        number += 1
        first = first or number
        goes_on = (
            data[max(start, end - 1) : end] == b"\\" and data[max(start, end - 2) : end] != b"\\\\"
        )
        size = end - start - goes_on
        length += size + 1  # a line that goes on is something, too
        if length <= LINE_LIMIT:
            parts.append(data[start : start + size])
        start = end + 1
        if not goes_on or start >= len(data):
            yield first, b"".join(parts) if length <= LINE_LIMIT else None
            parts, length, first = [], 0, 0


def _settings(words: list[str]) -> Iterator[tuple[str, str]]:
    """Of the settings of a line those that say something here: there may be any number of others."""
    for word in words:
        name, _, value = word.partition("=")
        if name in _SETTINGS:
            yield name, value


def _entry(word: str, told: dict[str, str], number: int) -> ListedFile | Damage:
    path = unescaped(word) if "\\" in word else word
    if len(path) > PATH_LIMIT:
        return Damage(number, f"a path of more than {PATH_LIMIT:,} signs")
    if path == ".":
        path = "/"
    elif path.startswith("./"):
        path = path[1:]
    else:
        return Damage(number, "a path that does not start at the top")
    kind = told.get("type")
    if kind is not None and kind not in _KINDS:
        return Damage(number, f"a kind of file that is not known: {kind[:40]}")
    get = told.get
    target = get("link")
    return ListedFile(
        path=path.rstrip("/") or "/", kind=_KINDS.get(kind or ""), size=_number(get("size")),
        mode=_mode(get("mode")),
        uid=_number(get("uid")), gid=_number(get("gid")),
        modified=_number((get("time") or "").partition(".")[0]),
        link_target=unescaped(target) if target is not None and "\\" in target else target,
        digests=_digests(told),
    )  # fmt: skip


def _digests(told: dict[str, str]) -> tuple[str, ...]:
    found: dict[str, str] = {}
    for name in told.keys() & _ALGORITHMS.keys():
        algorithm, value = _ALGORITHMS[name], told[name].lower()
        if len(value) == _LENGTHS[algorithm]:
            found[algorithm] = f"{algorithm}:{value}"
    if len(found) < 2:
        return tuple(found.values())
    return tuple(found[algorithm] for algorithm in _STRONGEST if algorithm in found)


def _number(text: str | None) -> int | None:
    if not text or not text.isascii() or not text.isdigit() or len(text) > 18:
        return None
    return int(text)


@lru_cache(maxsize=256)
def _mode(text: str | None) -> int | None:
    if _number(text) is None:
        return None
    try:
        return int(text or "", 8)
    except ValueError:
        return None


def unescaped(word: str) -> str:
    """A path as it is, out of the way in which it is written.

    >>> unescaped(r"./a\\040b")
    './a b'
    """

    def one(match: re.Match[bytes]) -> bytes:
        sign = match[1]
        if len(sign) == 3:
            return bytes([int(sign, 8) & 0xFF])
        return _LETTERS.get(sign, match[0])

    data = _ESCAPE.sub(one, word.encode("utf-8", "surrogateescape"))
    return data.decode("utf-8", "surrogateescape")
