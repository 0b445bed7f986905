"""The configuration of repositories on a `deb` system, in both of its forms.

    line   = type ["[" *(option "=" value) "]"] uri suite *component        "#" starts a remark
    stanza = Types, URIs, Suites, Components, Enabled, Signed-By, Architectures, Trusted …

As the manual page sources.list(5) describes them. A suite that ends in `/` is a directory of its own,
without components.
"""

import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import product
from typing import NamedTuple

from filigree.formats.damage import Damage, text_of
from filigree.formats.stanzas import read_remarked_stanzas

_OPTIONS = re.compile(r"\[([^\]]*)\]")
_YES = frozenset({"yes", "true", "with", "on", "enable", "1"})
_NO = frozenset({"no", "false", "without", "off", "disable", "0"})
_TYPES = frozenset({"deb", "deb-src"})
_INLINE = "-----BEGIN PGP"


class Source(NamedTuple):
    """One address, suite and component of one entry; `line` is where the entry starts.

    `signed_by` are paths, fingerprints, or one inline key; `trusted` is whether no signature is asked
    for.
    """

    line: int
    type: str
    uri: str
    suite: str
    component: str | None
    enabled: bool = True
    architectures: tuple[str, ...] = ()
    signed_by: tuple[str, ...] = ()
    trusted: bool = False

    @property
    def flat(self) -> bool:
        """Whether it is a folder of packages without suites."""
        return self.suite.endswith("/")


def read_lines(data: bytes) -> Iterator[Source | Damage]:
    """The entries of a file of lines."""
    for number, text in enumerate(text_of(data).split("\n"), 1):
        words = text.partition("#")[0].strip()
        if not words:
            continue
        options: dict[str, str] = {}
        match = _OPTIONS.search(words)
        if match:
            for option in match[1].split():
                name, given, value = option.partition("=")
                if not given:
                    yield Damage(number, f"a setting without a value: {option[:80]}")
                options[name.lower().rstrip("+-")] = value
            words = words[: match.start()] + " " + words[match.end() :]
        kind, *rest = words.split() or [""]
        if kind not in _TYPES or len(rest) < 2 or rest[0].startswith("["):
            yield Damage(number, "a line that is no repository")
            continue
        yield from _doubtful(number, options)
        uri, suite, *components = rest
        if not components and not suite.endswith("/"):
            yield Damage(number, "a repository without a component")
            continue
        yield from _Entry(
            number, [kind], [uri], [suite], components, options.get("enabled", "yes"),
            options.get("arch", "").replace(",", " ").split(),
            tuple(filter(None, options.get("signed-by", "").split(","))),
            options.get("trusted", ""),
        ).sources()  # fmt: skip


def read_source_stanzas(data: bytes) -> Iterator[Source | Damage]:
    """The entries of a file of stanzas."""
    for stanza in read_remarked_stanzas(data):
        if isinstance(stanza, Damage):
            yield stanza
            continue
        fields = {name.lower(): value for name, value in stanza.fields.items()}
        listed = {
            name: fields.get(name, "").split()
            for name in ("types", "uris", "suites", "components", "architectures")
        }
        if not all(listed[name] for name in ("types", "uris", "suites")):
            yield Damage(stanza.line, "a repository without a type, an address or a suite")
            continue
        types = [kind for kind in listed["types"] if kind in _TYPES]
        unknown = [kind for kind in listed["types"] if kind not in _TYPES]
        if unknown:
            yield Damage(stanza.line, f"a type of repository that is not known: {unknown[0][:80]}")
        bare = [suite for suite in listed["suites"] if not suite.endswith("/")]
        if bare and not listed["components"]:
            yield Damage(stanza.line, f"a repository without a component: {bare[0][:80]}")
        if listed["components"] and len(bare) < len(listed["suites"]):
            yield Damage(stanza.line, "components of a suite that ends in / and has none")
        yield from _doubtful(stanza.line, fields)
        yield from _Entry(
            stanza.line, types, listed["uris"], listed["suites"], listed["components"],
            fields.get("enabled", "yes"), listed["architectures"],
            _signed_by(fields.get("signed-by", "")), fields.get("trusted", ""),
        ).sources()  # fmt: skip


def _doubtful(line: int, fields: Mapping[str, str]) -> Iterator[Damage]:
    """Settings that are read as yes or no and are neither."""
    for name in ("enabled", "trusted"):
        value = fields.get(name, "").strip().lower()
        if value and value not in _YES | _NO:
            yield Damage(line, f"{name.title()} is neither yes nor no: {value[:80]}")


def sources_at(address: str) -> Iterator[Source]:
    """The sources that an address names on a command line: with a suite and components, or flat."""
    uri, *rest = address.split()
    suite, *components = rest or ["./"]
    if not components and not suite.endswith("/"):
        components = ["main"]
    yield from _Entry(0, ["deb"], [uri], [suite], components).sources()


def _signed_by(text: str) -> tuple[str, ...]:
    """Paths or fingerprints, or an armoured key that stands in the field itself."""
    if _INLINE not in text:
        return tuple(text.split())
    lines = [line.strip() for line in text.split("\n")]
    return ("\n".join("" if line == "." else line for line in lines if line),)


class _Entry(NamedTuple):
    """One entry as it is written: it may name several of each, and then all of them are meant."""

    line: int
    types: Sequence[str]
    uris: Sequence[str]
    suites: Sequence[str]
    components: Sequence[str]
    enabled: str = "yes"
    architectures: Sequence[str] = ()
    signed_by: tuple[str, ...] = ()
    trusted: str = ""

    def sources(self) -> Iterator[Source]:
        """A source for each address, suite and component."""
        on, free = (text.strip().lower() in _YES for text in (self.enabled, self.trusted))
        for kind, uri, suite in product(self.types, self.uris, self.suites):
            for component in [None] if suite.endswith("/") else self.components:
                yield Source(
                    line=self.line, type=kind, uri=uri if uri.endswith("/") else f"{uri}/",
                    suite=suite, component=component, enabled=on,
                    architectures=tuple(self.architectures), signed_by=self.signed_by, trusted=free,
                )  # fmt: skip
