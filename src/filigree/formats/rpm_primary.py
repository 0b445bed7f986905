"""The list of packages of an `rpm` repository, `primary.xml`, read by events and kept nowhere."""

from collections.abc import Iterable, Iterator
from typing import NamedTuple
from xml.parsers import expat

from filigree.formats.repomd import XmlError, safe_parser

_TEXTS = frozenset({
    "name", "arch", "summary", "description", "packager", "url", "license", "vendor", "group",
    "sourcerpm", "buildhost", "checksum",
})  # fmt: skip
TEXT_LIMIT = 1 << 20


class Primary(NamedTuple):
    """One package: texts by the name of their element, and the facts of those that have attributes."""

    texts: dict[str, str]
    facts: dict[str, str]


def read_primary(pieces: Iterable[bytes]) -> Iterator[Primary]:
    """The packages in their order. Raises XmlError."""
    reader = _Reader()
    parser = safe_parser(reader)
    try:
        for piece in pieces:
            parser.Parse(piece, False)
            yield from reader.taken()
        parser.Parse(b"", True)
    except expat.ExpatError as error:
        raise XmlError(f"it is no XML: {error}") from error
    yield from reader.taken()


class _Reader:
    def __init__(self) -> None:
        self._done: list[Primary] = []
        self._now: Primary | None = None
        self._text: list[str] = []
        self._length = 0

    def taken(self) -> list[Primary]:
        """What has come since it was last asked."""
        done, self._done = self._done, []
        return done

    def start(self, name: str, attributes: dict[str, str]) -> None:
        name = name.rpartition(":")[2]
        self._text, self._length = [], 0
        if name == "package":
            self._now = Primary({}, {})
        elif self._now is not None and name in ("version", "size", "time", "location", "checksum"):
            self._now.facts.update((f"{name}.{key}", value) for key, value in attributes.items())

    def text(self, text: str) -> None:
        self._length += len(text)
        if self._length > TEXT_LIMIT:
            raise XmlError(f"a text of more than {TEXT_LIMIT} signs")
        self._text.append(text)

    def end(self, name: str) -> None:
        name = name.rpartition(":")[2]
        if self._now is None:
            return
        if name == "package":
            self._done.append(self._now)
            self._now = None
        elif name in _TEXTS:
            self._now.texts.setdefault(name, "".join(self._text).strip())
