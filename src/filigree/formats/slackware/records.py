"""Texts that `slackware` systems keep of packages: fields, a description, perhaps paths.

    record = *( FIELD ":" value ) "PACKAGE DESCRIPTION:" *( name ":" text ) "FILE LIST:" *path
    list   = prose *( "PACKAGE NAME:" file name … )

A record is of an installed package, a list of what a repository offers. What is not known is kept.
Follows the manual pages of the programs that install and make such packages.
"""

import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from filigree.formats.damage import text_of

STANZA_LIMIT = 1 << 20
"""Bytes that one stanza of a list may have: a hundred times the largest known."""
_FIELD = re.compile(r"([A-Z][A-Z ]*(?:\([a-z]+\))?):[ \t]*(.*)")
_SIZE = re.compile(r"([0-9]{1,12}(?:\.[0-9]{1,6})?)\s*([KMGT]?)i?B?")
_FACTORS = {"": 1, "K": 1 << 10, "M": 1 << 20, "G": 1 << 30, "T": 1 << 40}
_DESCRIPTION, _FILES = "PACKAGE DESCRIPTION:", "\nFILE LIST:\n"
_MARK = b"\nPACKAGE NAME:"


class Described(NamedTuple):
    """The fields of one package, and the lines of its description, without the name before each."""

    fields: dict[str, str]
    description: tuple[str, ...]


class Record(NamedTuple):
    """An installed package: what is told of it, and where in its text the paths begin."""

    told: Described
    paths_at: int | None


def read_record(text: str) -> Record:
    """A record; `paths_at` is None where it has no list of paths."""
    at = text.find(_FILES)
    head = text if at < 0 else text[:at]
    return Record(read_fields(head), None if at < 0 else at + len(_FILES))


def read_fields(text: str) -> Described:
    """The fields and the description of one package. Lines that are neither are passed over."""
    head, found, rest = text.partition(_DESCRIPTION)
    fields: dict[str, str] = {}
    for line in head.split("\n"):
        match = _FIELD.fullmatch(line.rstrip())
        if match:
            fields.setdefault(match[1], match[2].strip())
    lines: list[str] = []
    name = None
    for line in rest.split("\n") if found else ():
        before, colon, words = line.partition(":")
        if not colon or " " in before or (name is not None and before != name):
            continue
        name = before
        lines.append(words[1:] if words.startswith(" ") else words)
    while lines and not lines[-1].strip():
        lines.pop()
    return Described(fields, tuple(line.rstrip() for line in lines))


def paths_of(text: str, record: Record) -> list[str]:
    """The paths of a record as they are written: directories end in a slash, the root is `./`."""
    if record.paths_at is None:
        return []
    return [path for path in text[record.paths_at :].split("\n") if path]


def size_of(text: str | None) -> int | None:
    """Bytes out of a size as it is written: `12K`, `1.4M`, `12 K`; None for anything else.

    It is rounded by whoever wrote it, and so are the bytes.
    """
    match = _SIZE.fullmatch((text or "").strip())
    return round(float(match[1]) * _FACTORS[match[2]]) if match else None


def read_list(chunks: Iterable[bytes]) -> Iterator[str | None]:
    """The stanza of each package of a list that comes in pieces; None for one that is too long."""
    rest = b"\n"
    started = dropping = False
    for chunk in chunks:
        parts = (rest + chunk).split(_MARK)
        for part in parts[:-1]:
            if started and not dropping:
                yield text_of(_MARK[1:] + part)
            started, dropping = True, False
        rest = parts[-1]
        if started and not dropping and len(rest) > STANZA_LIMIT:
            yield None
            dropping = True
        if dropping or not started:
            rest = rest[1 - len(_MARK) :]  # a mark may begin here
    if started and not dropping:
        yield text_of(_MARK[1:] + rest)
