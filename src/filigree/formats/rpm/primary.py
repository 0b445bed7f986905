"""The list of packages of an `rpm` repository, `primary.xml`, read by events and kept nowhere."""

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from filigree.formats.rpm.relations import BEFORE, EQUAL, GREATER, LESS
from filigree.formats.rpm.repomd import Reader, XmlError, read_items

_TEXTS = frozenset({
    "name", "arch", "summary", "description", "packager", "url", "license", "vendor", "group",
    "sourcerpm", "buildhost", "checksum",
})  # fmt: skip
_FACTS = frozenset({"version", "size", "time", "location", "checksum"})
RELATIONS = frozenset({
    "requires", "provides", "conflicts", "obsoletes", "recommends", "suggests", "supplements",
    "enhances",
})  # fmt: skip
_FLAGS = {"LT": LESS, "GT": GREATER, "EQ": EQUAL, "LE": LESS | EQUAL, "GE": GREATER | EQUAL}
_FIRST = BEFORE & -BEFORE
ENTRIES_LIMIT = 200_000


class Primary(NamedTuple):
    """One package: texts by the name of their element, and the facts of those that have attributes.

    `relations` are by kind: name, flags, version. `files` are the few paths that the list tells.
    """

    texts: dict[str, str]
    facts: dict[str, str]
    relations: dict[str, list[tuple[str, int, str]]]
    files: list[str]


def version_of(attributes: dict[str, str]) -> str:
    """A full version out of the attributes `epoch`, `ver` and `rel`; an epoch of 0 is left out."""
    epoch, version, release = (attributes.get(name, "") for name in ("epoch", "ver", "rel"))
    front = f"{epoch}:{version}" if epoch.strip("0") else version
    return f"{front}-{release}" if release else front


def read_primary(pieces: Iterable[bytes]) -> Iterator[Primary]:
    """The packages in their order. Raises XmlError."""
    return read_items(_PrimaryReader(), pieces)


class _PrimaryReader(Reader[Primary]):
    def __init__(self) -> None:
        super().__init__()
        self._now: Primary | None = None
        self._entries: list[tuple[str, int, str]] | None = None
        self._count = 0

    def opened(self, name: str, attributes: dict[str, str]) -> None:
        now = self._now
        if now is None:
            if name == "package":
                self._now = Primary({}, {}, {}, [])
                self._count = 0
        elif name == "entry":
            self._entry(attributes)
        elif name in RELATIONS:
            self._entries = now.relations.setdefault(name, [])
        elif name in _FACTS:
            now.facts.update((f"{name}.{key}", value) for key, value in attributes.items())

    def _entry(self, attributes: dict[str, str]) -> None:
        name = attributes.get("name")
        if self._entries is None or not name:
            return
        self._count += 1
        if self._count > ENTRIES_LIMIT:
            raise XmlError(f"a package with more than {ENTRIES_LIMIT} relations")
        flags = _FLAGS.get(attributes.get("flags", ""), 0)
        if attributes.get("pre") == "1":
            flags |= _FIRST
        self._entries.append((name, flags, version_of(attributes)))

    def closed(self, name: str) -> None:
        now = self._now
        if now is None:
            return
        if name == "package":
            self.done.append(now)
            self._now = self._entries = None
        elif name == "file":
            now.files.append(self.words)
        elif name in RELATIONS:
            self._entries = None
        elif name in _TEXTS:
            now.texts.setdefault(name, self.words)
