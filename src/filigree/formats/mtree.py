"""Listings of files in the `mtree` form, as archives carry them (mtree(5), the second version).

    line  = "#" remark | "/set" *setting | "/unset" *name | path *setting
    setting = name "=" value | name

`/set` gives defaults for the lines that follow. Paths start with `./`; what is no plain sign in them is a
backslash and three octal digits, or one of the letters of vis(3). A line may go on behind a backslash.
"""

import re
from collections.abc import Iterator
from typing import NamedTuple

from filigree.formats.damage import Damage
from filigree.model.files import Kind

LINES_LIMIT = 500_000
_ESCAPE = re.compile(rb"\\([0-7]{3}|.)", re.DOTALL)
_LETTERS = {
    b"n": b"\n", b"r": b"\r", b"t": b"\t", b"b": b"\b", b"a": b"\a", b"v": b"\v", b"f": b"\f",
    b"s": b" ", b"0": b"\0", b"E": b"\x1b", b"#": b"#", b"\\": b"\\",
}  # fmt: skip
_KINDS = {
    "file": Kind.FILE, "dir": Kind.DIRECTORY, "link": Kind.LINK, "fifo": Kind.PIPE,
    "socket": Kind.SOCKET, "char": Kind.CHARACTER_DEVICE, "block": Kind.BLOCK_DEVICE,
}  # fmt: skip
_DIGESTS = (
    ("sha512digest", "sha512"), ("sha512", "sha512"), ("sha384digest", "sha384"), ("sha384", "sha384"),
    ("sha256digest", "sha256"), ("sha256", "sha256"), ("sha1digest", "sha1"), ("sha1", "sha1"),
    ("md5digest", "md5"), ("md5", "md5"),
)  # fmt: skip
_LENGTHS = {"md5": 32, "sha1": 40, "sha256": 64, "sha384": 96, "sha512": 128}


class Listed(NamedTuple):
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


def read_listing(data: bytes) -> Iterator[Listed | Damage]:
    """The entries of a listing, in its order; Damage in the place of a line that makes no sense."""
    defaults: dict[str, str] = {}
    lines = data.split(b"\n")
    number, at = 0, 0
    while at < len(lines):
        number, line = at + 1, lines[at]
        while line.endswith(b"\\") and not line.endswith(b"\\\\") and at + 1 < len(lines):
            at += 1
            line = line[:-1] + lines[at]
        at += 1
        words = line.split()
        if not words or words[0].startswith(b"#"):
            continue
        if number > LINES_LIMIT:
            yield Damage(number, f"more than {LINES_LIMIT:,} lines")
            return
        settings = dict(_setting(word) for word in words[1:])
        if words[0] == b"/set":
            defaults.update(settings)
        elif words[0] == b"/unset":
            for name in settings:
                defaults.pop(name, None)
        else:
            yield _entry(words[0], {**defaults, **settings}, number)


def _setting(word: bytes) -> tuple[str, str]:
    name, _, value = word.partition(b"=")
    return name.decode("ascii", "replace"), value.decode("utf-8", "surrogateescape")


def _entry(word: bytes, told: dict[str, str], number: int) -> Listed | Damage:
    path = unescaped(word)
    if path == ".":
        path = "/"
    elif path.startswith("./"):
        path = path[1:]
    else:
        return Damage(number, "a path that does not start at the top")
    kind = told.get("type")
    if kind is not None and kind not in _KINDS:
        return Damage(number, f"a kind of file that is not known: {kind[:40]}")
    target = told.get("link")
    return Listed(
        path.rstrip("/") or "/", _KINDS.get(kind or ""), _number(told.get("size")),
        _number(told.get("mode"), 8), _number(told.get("uid")), _number(told.get("gid")),
        _number((told.get("time") or "").partition(".")[0] or None),
        None if target is None else unescaped(target.encode("utf-8", "surrogateescape")),
        _digests(told),
    )  # fmt: skip


def _digests(told: dict[str, str]) -> tuple[str, ...]:
    found: dict[str, str] = {}
    for name, algorithm in _DIGESTS:
        value = told.get(name, "").lower()
        if len(value) == _LENGTHS[algorithm]:
            found.setdefault(algorithm, f"{algorithm}:{value}")
    return tuple(found.values())


def _number(text: str | None, base: int = 10) -> int | None:
    if text is None or not text.isascii() or not text.isdigit() or len(text) > 18:
        return None
    try:
        return int(text, base)
    except ValueError:
        return None


def unescaped(word: bytes) -> str:
    """A path as it is, out of the way in which it is written.

    >>> unescaped(rb"./a\\040b")
    './a b'
    """

    def one(match: re.Match[bytes]) -> bytes:
        sign = match[1]
        if len(sign) == 3:
            return bytes([int(sign, 8) & 0xFF])
        return _LETTERS.get(sign, match[0])

    return _ESCAPE.sub(one, word).decode("utf-8", "surrogateescape")
