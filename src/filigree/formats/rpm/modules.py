"""The index of module streams of an `rpm` repository: YAML documents, read one after the other.

A document tells a stream and the archives that belong to it, or which stream of a module is the default.
Anchors and references are not taken: no index needs them, and with them a short text can be endless.
"""

from collections.abc import Iterable, Iterator, Mapping
from typing import Any, NamedTuple

from filigree.formats.bounded_yaml import YamlError, read_documents

SIZE_LIMIT = 256 << 20


class ModulesError(ValueError):
    """A document that is no YAML, or asks for what is not given."""


class ModuleStream(NamedTuple):
    """One stream of a module; `archives` are written `name-epoch:version-release.architecture`.

    `needs` are ways to have what it needs, of which one is enough: streams by module, an empty tuple
    where any of them does.
    """

    module: str
    stream: str
    archives: tuple[str, ...]
    needs: tuple[Mapping[str, tuple[str, ...]], ...] = ()


class Default(NamedTuple):
    """Which stream of a module is followed where nobody said."""

    module: str
    stream: str


def read_modules(pieces: Iterable[bytes]) -> Iterator[ModuleStream | Default]:
    """The documents in their order. Raises ModulesError."""
    data = bytearray()
    for piece in pieces:
        data += piece
        if len(data) > SIZE_LIMIT:
            raise ModulesError(f"more than {SIZE_LIMIT} bytes")
    try:
        # A stream is called 1.10, and not 1.1: all that is told is text.
        for document in read_documents(bytes(data)):
            found = _told(document)
            if found is not None:
                yield found
    except YamlError as error:
        raise ModulesError(str(error)) from error


def _told(document: Any) -> ModuleStream | Default | None:
    if not isinstance(document, dict) or not isinstance(document.get("data"), dict):
        return None
    kind, data = document.get("document"), document["data"]
    if kind == "modulemd-defaults":
        module, stream = data.get("module"), data.get("stream")
        return Default(module, stream) if _texts(module, stream) else None
    if kind != "modulemd":
        return None
    name, stream = data.get("name"), data.get("stream")
    artifacts = data.get("artifacts")
    rows = artifacts.get("rpms") if isinstance(artifacts, dict) else None
    if not _texts(name, stream) or not isinstance(rows, list):
        return None
    archives = tuple(row for row in rows if isinstance(row, str))
    return ModuleStream(name, stream, archives, tuple(_needs(data.get("dependencies"))))


def _needs(told: Any) -> Iterator[Mapping[str, tuple[str, ...]]]:
    """What a stream needs to be run, in the form of either version of a document."""
    for one in told if isinstance(told, list) else [told]:
        asked = one.get("requires") if isinstance(one, dict) else None
        if isinstance(asked, dict):
            yield {module: _listed(streams) for module, streams in asked.items() if _texts(module)}


def _listed(streams: Any) -> tuple[str, ...]:
    return tuple(filter(_texts, streams if isinstance(streams, list) else [streams]))


def _texts(*values: Any) -> bool:
    return all(isinstance(value, str) and value for value in values)
