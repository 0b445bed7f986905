"""The list of an `rpm` repository's indexes, `repomd.xml`: their places, digests and times.

Read by events, without entities, without fetching, and without a tree in memory.
"""

from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import Any, Generic, NamedTuple, Protocol, TypeVar
from xml.parsers import expat

from filigree.formats.numbers import whole_number
from filigree.model.answer import moment_of

SIZE_LIMIT = 16 << 20
TEXT_LIMIT = 1 << 20
_ENTRIES_LIMIT = 1000


class XmlError(ValueError):
    """XML that is damaged, or that asks for what is not given: document types and entities."""


class ListedIndex(NamedTuple):
    """One index: where it lies, its digests as `algorithm:hex`, when it was made, its sizes in bytes.

    `open_digest` and `open_size` are of its text, not packed.
    """

    place: str
    digest: str | None
    open_digest: str | None
    timestamp: int | None
    size: int | None = None
    open_size: int | None = None


class RepoMd(NamedTuple):
    """The revision, and the indexes by type (`primary`, `filelists` …)."""

    revision: str | None
    indexes: dict[str, ListedIndex]


def made_at(listed: RepoMd) -> datetime | None:
    """When a list of indexes was made: the newest of what it lists."""
    return moment_of(
        max((o.timestamp for o in listed.indexes.values() if o.timestamp), default=None)
    )


class Events(Protocol):
    """What takes the events of a parser."""

    def start(self, name: str, attributes: dict[str, str]) -> None:
        """An element begins, with its attributes."""
        ...

    def end(self, name: str) -> None:
        """An element ends, with its text."""
        ...

    def text(self, text: str) -> None: ...


def safe_parser(events: Events, typed: bool = False) -> Any:
    """A parser that declares, expands and fetches no entities.

    Where the format is `typed` a document type may be named; it is not looked up.
    """
    parser = expat.ParserCreate()

    def doctype(_: str, __: str | None, ___: str | None, inside: int) -> None:
        if inside or not typed:
            raise XmlError("it declares a document type, which no index needs")

    def refuse(*_: object) -> None:
        raise XmlError("it uses an entity, which no index needs")

    parser.StartDoctypeDeclHandler = doctype
    parser.EntityDeclHandler = refuse
    parser.SkippedEntityHandler = refuse
    parser.buffer_text = True
    parser.StartElementHandler = events.start
    parser.EndElementHandler = events.end
    parser.CharacterDataHandler = events.text
    return parser


def fed(parser: Any, data: bytes, last: bool = False) -> None:
    """Give a parser a piece. Raises XmlError, for an encoding that nobody knows as well."""
    try:
        parser.Parse(data, last)
    except XmlError:
        raise
    except (expat.ExpatError, LookupError, ValueError) as error:
        raise XmlError(f"it is no XML: {error}") from error


T = TypeVar("T")


class Reader(Generic[T]):
    """What gathers items from events. `taken` hands over those that have come since it was last asked."""

    def __init__(self) -> None:
        self.done: list[T] = []
        self._text: list[str] = []
        self._length = 0

    def taken(self) -> list[T]:
        done, self.done = self.done, []
        return done

    def text(self, text: str) -> None:
        self._length += len(text)
        if self._length > TEXT_LIMIT:
            raise XmlError(f"a text of more than {TEXT_LIMIT} signs")
        self._text.append(text)

    def start(self, name: str, attributes: dict[str, str]) -> None:
        self._text, self._length = [], 0
        self.opened(name.rpartition(":")[2], attributes)

    def end(self, name: str) -> None:
        self.closed(name.rpartition(":")[2])

    @property
    def words(self) -> str:
        """The text of the element that has just ended."""
        return "".join(self._text).strip()

    def opened(self, name: str, attributes: dict[str, str]) -> None:
        raise NotImplementedError

    def closed(self, name: str) -> None:
        raise NotImplementedError


def read_items(reader: Reader[T], pieces: Iterable[bytes], typed: bool = False) -> Iterator[T]:
    """The items in their order, as they come. Raises XmlError."""
    parser = safe_parser(reader, typed)
    for piece in pieces:
        fed(parser, piece)
        yield from reader.taken()
    fed(parser, b"", last=True)
    yield from reader.taken()


def read_repomd(data: bytes) -> RepoMd:
    """The list of indexes. Raises XmlError."""
    reader = _EventReader()
    parser = safe_parser(reader)
    fed(parser, data, last=True)
    return RepoMd(reader.revision, reader.indexes)


class _EventReader:
    """Takes the events, and keeps what is asked for."""

    def __init__(self) -> None:
        self.revision: str | None = None
        self.indexes: dict[str, ListedIndex] = {}
        self._type: str | None = None
        self._facts: dict[str, str] = {}
        self._algorithm: dict[str, str] = {}
        self._text = ""

    def start(self, name: str, attributes: dict[str, str]) -> None:
        name = name.rpartition(":")[2]
        self._text = ""
        if name == "data":
            self._type = attributes.get("type")
            self._facts, self._algorithm = {}, {}
        elif name == "location":
            self._facts["location"] = attributes.get("href", "")
        elif name in ("checksum", "open-checksum"):
            self._algorithm[name] = attributes.get("type", "").lower()

    def text(self, text: str) -> None:
        if len(self._text) < 4096:
            self._text += text

    def end(self, name: str) -> None:
        name = name.rpartition(":")[2]
        if name == "revision" and self._type is None:
            self.revision = self._text.strip()
        elif name == "data" and self._type is not None and len(self.indexes) < _ENTRIES_LIMIT:
            time = self._facts.get("timestamp", "").partition(".")[0]
            self.indexes[self._type] = ListedIndex(
                self._facts.get("location", ""),
                self._digest("checksum"),
                self._digest("open-checksum"),
                int(time) if time.isascii() and time.isdigit() and len(time) < 12 else None,
                whole_number(self._facts.get("size")),
                whole_number(self._facts.get("open-size")),
            )
            self._type = None
        elif name != "location":
            self._facts[name] = self._text.strip()

    def _digest(self, name: str) -> str | None:
        algorithm, value = self._algorithm.get(name), self._facts.get(name)
        if not algorithm or not value:
            return None
        return f"{'sha1' if algorithm == 'sha' else algorithm}:{value.lower()}"
