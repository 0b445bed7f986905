"""What build scripts of a community repository tell of the packages that they make; never run.

    info = *( NAME "=" quoted )             one file a script: assignments as a shell has them
    list = *( "SLACKBUILD" FIELD ":" value ) divided by empty lines: all scripts in one file

Both tell the same, under other names; here they have those of the first. What is needed is told by names
divided by spaces; `%README%` says that more stands in a text for people.
"""

import re
from collections.abc import Iterable, Iterator

from filigree.formats.damage import text_of

INFO_LIMIT = 1 << 18
_ASSIGNED = re.compile(r"^([A-Za-z_][A-Za-z0-9_]*)=(?:\"([^\"]*)\"|'([^']*)'|(\S*))", re.MULTILINE)
_FIELDS = {
    "NAME": "PRGNAM", "LOCATION": "LOCATION", "VERSION": "VERSION", "DOWNLOAD": "DOWNLOAD",
    "MD5SUM": "MD5SUM", "REQUIRES": "REQUIRES", "SHORT DESCRIPTION": "DESCRIPTION",
}  # fmt: skip
_STANZA_LIMIT = 1 << 20


def read_info(data: bytes) -> dict[str, str]:
    """The assignments of one file, lines that go on put together."""
    text = text_of(data).replace("\\\n", " ")
    return {
        name: " ".join((one or other or bare).split())
        for name, one, other, bare in _ASSIGNED.findall(text)
    }


def read_script_list(pieces: Iterable[bytes]) -> Iterator[dict[str, str]]:
    """The fields of each script of a list that comes in pieces; what is too long is passed over."""
    rest = b""
    for piece in pieces:
        blocks = (rest + piece).split(b"\n\n")
        rest = blocks.pop()[-_STANZA_LIMIT:]
        yield from (found for block in blocks if (found := _fields(block)))
    if found := _fields(rest):
        yield found


def _fields(block: bytes) -> dict[str, str]:
    found: dict[str, str] = {}
    for line in text_of(block).split("\n"):
        name, colon, value = line.partition(":")
        if colon and name.startswith("SLACKBUILD "):
            field = name.removeprefix("SLACKBUILD ").strip()
            found[_FIELDS.get(field, field)] = value.strip()
    return found
