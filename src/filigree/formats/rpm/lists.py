"""The other indexes of an `rpm` repository: paths, changes, advisories and groups, read by events.

`filelists.xml` and `other.xml` have a package after the other, by name, version and architecture;
`updateinfo.xml` an update, `comps.xml` a group.
"""

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from filigree.formats.rpm.primary import version_of
from filigree.formats.rpm.repomd import Reader, XmlError, read_items

ITEMS_LIMIT = 2_000_000


class NamedList(NamedTuple):
    """A package as these lists name it, and its rows: (kind, path), or (author, time, text)."""

    name: str
    version: str
    architecture: str
    rows: list[tuple[str, ...]]


class Update(NamedTuple):
    """An advisory. `packages` are name, version, architecture; `references` kind, identity, address."""

    facts: dict[str, str]
    packages: list[tuple[str, str, str]]
    references: list[tuple[str, str, str | None]]


class Collection(NamedTuple):
    """A group, or an environment of groups. `members` are name and kind; `groups` are identities."""

    facts: dict[str, str]
    members: list[tuple[str, str]]
    groups: list[str]


def read_named(pieces: Iterable[bytes]) -> Iterator[NamedList]:
    """The packages of a list of paths or of changes. Raises XmlError."""
    return read_items(_Named(), pieces)


def read_updates(pieces: Iterable[bytes]) -> Iterator[Update]:
    """The advisories. Raises XmlError."""
    return read_items(_Updates(), pieces)


def read_collections(pieces: Iterable[bytes]) -> Iterator[Collection]:
    """The groups. Raises XmlError."""
    return read_items(_Collections(), pieces, typed=True)


def _bounded(rows: list[object] | list[tuple[str, ...]]) -> None:
    if len(rows) > ITEMS_LIMIT:
        raise XmlError(f"more than {ITEMS_LIMIT} rows of one package")


class _Named(Reader[NamedList]):
    def __init__(self) -> None:
        super().__init__()
        self._name, self._machine, self._version = "", "", ""
        self._rows: list[tuple[str, ...]] = []
        self._facts: tuple[str, ...] = ()

    def opened(self, name: str, attributes: dict[str, str]) -> None:
        if name == "package":
            self._name, self._machine = attributes.get("name", ""), attributes.get("arch", "")
            self._rows = []
        elif name == "version":
            self._version = version_of(attributes)
        elif name == "file":
            self._facts = (attributes.get("type", "file"),)
        elif name == "changelog":
            self._facts = (attributes.get("author", ""), attributes.get("date", ""))

    def closed(self, name: str) -> None:
        if name in ("file", "changelog"):
            self._rows.append((*self._facts, self.words))
            _bounded(self._rows)
        elif name == "package" and self._name:
            self.done.append(NamedList(self._name, self._version, self._machine, self._rows))
            self._rows = []


class _Updates(Reader[Update]):
    def __init__(self) -> None:
        super().__init__()
        self._now: Update | None = None

    def opened(self, name: str, attributes: dict[str, str]) -> None:
        if name == "update":
            self._now = Update({"type": attributes.get("type", "")}, [], [])
        elif self._now is None:
            return
        elif name == "issued":
            self._now.facts["issued"] = attributes.get("date", "")
        elif name == "reference":
            identity = attributes.get("id") or attributes.get("title", "")
            self._now.references.append((
                attributes.get("type", ""), identity, attributes.get("href") or None,
            ))  # fmt: skip
        elif name == "package" and attributes.get("name"):
            version = version_of({
                "epoch": attributes.get("epoch", ""), "ver": attributes.get("version", ""),
                "rel": attributes.get("release", ""),
            })  # fmt: skip
            row = (attributes["name"], version, attributes.get("arch", ""))
            self._now.packages.append(row)
            if len(self._now.packages) + len(self._now.references) > ITEMS_LIMIT:
                raise XmlError("an advisory of more packages than is reasonable")

    def closed(self, name: str) -> None:
        if self._now is None:
            return
        if name == "update":
            self.done.append(self._now)
            self._now = None
        elif name in ("id", "title", "severity"):
            self._now.facts.setdefault(name, self.words)


class _Collections(Reader[Collection]):
    def __init__(self) -> None:
        super().__init__()
        self._now: Collection | None = None
        self._kind = ""
        self._translated = False
        self._optional = False

    def opened(self, name: str, attributes: dict[str, str]) -> None:
        self._translated = "lang" in attributes or any(key.endswith(":lang") for key in attributes)
        if name in ("group", "environment"):
            self._now = Collection({"kind": name}, [], [])
        elif name == "packagereq":
            self._kind = attributes.get("type") or "mandatory"
        elif name == "optionlist":
            self._optional = True

    def closed(self, name: str) -> None:
        now = self._now
        if now is None:
            return
        if name in ("group", "environment"):
            self.done.append(now)
            self._now = None
        elif name == "packagereq":
            now.members.append((self.words, self._kind))
            if len(now.members) > ITEMS_LIMIT:
                raise XmlError("a group of more members than is reasonable")
        elif name == "groupid":
            if not self._optional:
                now.groups.append(self.words)
        elif name == "optionlist":
            self._optional = False
        elif name in ("id", "name", "description") and not self._translated:
            now.facts.setdefault(name, self.words)
