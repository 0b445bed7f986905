"""Records of `apk` packages: what is installed, and what an index offers.

    record = 1*(letter ":" value LF) LF

What is installed tells its files behind that, each in the last directory before it:

    F: directory          M: its rights
    R: name               a: its rights           Z: digest of what it holds, or of a link's target
    rights = uid ":" gid ":" octal mode [":" digest of its attributes]
    digest = "Q1" base64 of a SHA-1 | "Q2" base64 of a SHA-256
"""

import base64
import binascii
import re
from collections.abc import Iterable, Iterator
from typing import NamedTuple

from filigree.formats.damage import Damage, text_of
from filigree.formats.stanzas import text_blocks

RECORD_LIMIT = 64 << 20
"""Bytes that one record may have, with all of its files."""
_SIZES = {"Q1": ("sha1", 20), "Q2": ("sha256", 32)}
_RIGHTS = re.compile(r"([0-9]{1,10}):([0-9]{1,10}):([0-7]{1,6})(?::(\S+))?")
_OF_FILES = frozenset("FMRaZ")


class Rights(NamedTuple):
    """Who a path belongs to, and its mode; `attributes` is the digest of its extended attributes."""

    uid: int
    gid: int
    mode: int
    attributes: str | None = None


class RecordedPath(NamedTuple):
    """One path, without a slash at its start or end. None where the record is silent.

    `owner` and `group` are names, or `#` and a number; `form` is the form of a mode, as stat(2) has it.
    `same_as` is the other name of a file that has two.
    """

    path: str
    is_directory: bool
    digest: str | None = None
    mode: int | None = None
    owner: str | None = None
    group: str | None = None
    has_attributes: bool = False
    form: int | None = None
    size: int | None = None
    modified: int | None = None
    target: str | None = None
    device: int | None = None
    same_as: str | None = None


class LetteredRecord(NamedTuple):
    """One package: its fields by letter, each as it is written, and its paths.

    Of a letter that stands several times the values are joined by line ends. `line` is where it starts.
    """

    fields: dict[str, str]
    paths: list[RecordedPath]
    line: int
    damages: tuple[Damage, ...] = ()


def read_records(
    pieces: Iterable[bytes], with_paths: bool = True
) -> Iterator[LetteredRecord | Damage]:
    """The records of a file that comes in pieces. One that is too long is a Damage in its place."""
    for text, line in record_texts(pieces):
        yield Damage(line, text) if line < 0 else read_record(text, line, with_paths)


def record_texts(pieces: Iterable[bytes]) -> Iterator[tuple[str, int]]:
    """The text of each record, and the line where it starts; that is negative where the text is why
    there is none."""
    for block, line, whole in text_blocks(pieces, RECORD_LIMIT):
        if not whole:
            yield f"a record of more than {RECORD_LIMIT:,} bytes", -line
        elif block.strip():
            yield text_of(block), line


def read_record(text: str, line: int = 1, with_paths: bool = True) -> LetteredRecord:
    """One record. What of it makes no sense is told among its damages."""
    fields: dict[str, str] = {}
    damages: list[Damage] = []
    told: list[tuple[str, str, int]] = []
    for number, one in enumerate(text.split("\n"), line):
        letter, value = one[:1], one[2:]
        if one[1:2] != ":":
            if one.strip("\r"):
                damages.append(Damage(number, "a line that begins with no letter and a colon"))
        elif letter in _OF_FILES:
            if with_paths:
                told.append((letter, value, number))
        elif letter in fields:
            fields[letter] = f"{fields[letter]}\n{value}"
        else:
            fields[letter] = value
    return LetteredRecord(fields, list(_paths(told, damages)), line, tuple(damages))


def _paths(told: Iterable[tuple[str, str, int]], damages: list[Damage]) -> Iterator[RecordedPath]:
    folder: str | None = None
    current: RecordedPath | None = None
    for letter, value, number in told:
        try:
            if letter in "FR":
                if current is not None:
                    yield current
                    current = None
                if letter == "F":
                    folder = value.strip("/")
                    current = RecordedPath(folder, is_directory=True)
                elif folder is None:
                    raise ValueError("a file without a directory before it")
                elif not value or "/" in value or value in (".", ".."):
                    raise ValueError(f"no name of a file: {value[:80]!r}")
                else:
                    current = RecordedPath(f"{folder}/{value}" if folder else value, False)
            elif current is None or current.is_directory is not (letter == "M"):
                raise ValueError(f"{letter} without what it is of")
            elif (current.digest if letter == "Z" else current.mode) is not None:
                # Of two the first counts: whoever adds a line changes nothing, and is told of.
                raise ValueError(f"{letter} twice for one path")
            elif letter == "Z":
                current = current._replace(digest=parse_digest(value))
            else:
                rights = parse_rights(value)
                current = current._replace(
                    mode=rights.mode, owner=f"#{rights.uid}", group=f"#{rights.gid}",
                    has_attributes=rights.attributes is not None,
                )  # fmt: skip
        except ValueError as error:
            damages.append(Damage(number, str(error)))
    if current is not None:
        yield current


def parse_rights(text: str) -> Rights:
    """Who a path belongs to, and its mode. Raises ValueError."""
    match = _RIGHTS.fullmatch(text)
    if match is None:
        raise ValueError(f"no rights: {text[:80]!r}")
    return Rights(
        int(match[1]), int(match[2]), int(match[3], 8) & 0o7777,
        parse_digest(match[4]) if match[4] else None,
    )  # fmt: skip


def parse_digest(text: str) -> str:
    """A digest as `algorithm:hex`. Raises ValueError.

    >>> parse_digest("Q1L9ThxnotKPzthJ7hu3bnORuT6xI=")
    'sha1:2fd4e1c67a2d28fced849ee1bb76e7391b93eb12'
    """
    algorithm, size = _SIZES.get(text[:2], ("", 0))
    try:
        data = base64.b64decode(text[2:], validate=True)
    except (binascii.Error, ValueError):
        data = b""
    if not size or len(data) != size:
        raise ValueError(f"no digest: {text[:80]!r}")
    return f"{algorithm}:{data.hex()}"


def written_digest(digest: str) -> str:
    """A digest as records write it. Raises ValueError where they have no form for it.

    >>> written_digest("sha1:2fd4e1c67a2d28fced849ee1bb76e7391b93eb12")
    'Q1L9ThxnotKPzthJ7hu3bnORuT6xI='
    """
    algorithm, _, told = digest.partition(":")
    lead = next((lead for lead, (name, _) in _SIZES.items() if name == algorithm), None)
    if lead is None:
        raise ValueError(f"records have no form for {algorithm}")
    return lead + base64.b64encode(bytes.fromhex(told)).decode()
