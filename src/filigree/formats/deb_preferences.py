"""Preferences among the versions that a `deb` system could take: pins.

    stanza    = Package: name…, Pin: what, Pin-Priority: number
    what      = "release" condition *("," condition) | "origin" host | "version" pattern
    condition = ("a" | "n" | "o" | "l" | "c" | "v" | "b") "=" pattern | pattern
    name      = pattern | "src:" pattern | name ":" architecture

As the manual page apt_preferences(5) describes them. A pattern is a glob, or a regular expression between
slashes. A condition without a letter is of the version where it begins with a digit, else of the suite or
the codename.
"""

import fnmatch
import re
from collections.abc import Iterator, Mapping
from functools import lru_cache
from typing import NamedTuple

from filigree.formats.damage import Damage
from filigree.formats.stanzas import read_remarked_stanzas

_FACTS = {
    "a": ("suite",), "n": ("codename",), "o": ("origin",), "l": ("label",), "c": ("component",),
    "v": ("version",), "b": ("architecture",), "": ("suite", "codename"), "0": ("version",),
}  # fmt: skip


class Preference(NamedTuple):
    """One pin. `conditions` are letter and pattern; `origin` is a host, `version` a pattern."""

    packages: tuple[str, ...]
    priority: int
    conditions: tuple[tuple[str, str], ...] | None = None
    origin: str | None = None
    version: str | None = None
    line: int = 0

    @property
    def general(self) -> bool:
        """Whether it speaks of every package."""
        return "*" in self.packages

    def names(self, name: str, source: str, architecture: str) -> bool:
        """Whether it speaks of a package, by its name, that of its source, and its architecture."""
        for one in self.packages:
            if one.startswith("src:"):
                if matches(one[4:], source):
                    return True
                continue
            front, colon, machine = one.rpartition(":")
            if colon and not one.startswith("/"):
                if matches(front, name) and machine in (architecture, "any"):
                    return True
            elif matches(one, name):
                return True
        return False

    def fits(self, facts: Mapping[str, str]) -> bool:
        """Whether it speaks of an index, by the facts of its signed file, its component and its host."""
        if self.origin is not None:
            return "host" in facts and matches(self.origin, facts["host"])
        if self.conditions is None:
            return False
        return all(
            any(matches(pattern, facts.get(fact, "")) for fact in _FACTS.get(letter, ()))
            for letter, pattern in self.conditions
        )

    def fits_version(self, version: str) -> bool:
        """Whether it speaks of a version, wherever that is from."""
        return self.version is not None and matches(self.version, version)


def matches(pattern: str, text: str) -> bool:
    """Whether a glob, or a regular expression between slashes, matches."""
    compiled = _compiled(pattern)
    return compiled is not None and compiled(text)


@lru_cache(maxsize=1024)
def _compiled(pattern: str):  # type: ignore[no-untyped-def]
    if len(pattern) > 1 and pattern.startswith("/") and pattern.endswith("/"):
        try:
            search = re.compile(pattern[1:-1]).search
        except re.error:
            return None
        return lambda text: search(text) is not None
    if re.search(r"[*?\[]", pattern):
        return lambda text: fnmatch.fnmatchcase(text, pattern)
    return pattern.__eq__


def release_conditions(text: str) -> tuple[tuple[str, str], ...]:
    """The conditions of a release, by letter; "" and "0" where none is given."""
    found = []
    for part in text.split(","):
        letter, equals, pattern = part.strip().partition("=")
        if not equals:
            letter, pattern = ("0" if letter[:1].isdigit() else ""), letter
        if pattern:
            found.append((letter.strip(), pattern.strip()))
    return tuple(found)


def read_preferences(data: bytes) -> Iterator[Preference | Damage]:
    """The pins of a file, in their order."""
    for stanza in read_remarked_stanzas(data):
        if isinstance(stanza, Damage):
            yield stanza
            continue
        fields = {name.lower(): value for name, value in stanza.fields.items()}
        kind, _, value = fields.get("pin", "").strip().partition(" ")
        number = fields.get("pin-priority", "").strip()
        names = tuple(fields.get("package", "").split())
        if not names or not re.fullmatch(r"[-+]?[0-9]{1,5}", number):
            yield Damage(stanza.line, "a preference without a package, or without a priority")
            continue
        pin = Preference(names, int(number), line=stanza.line)
        value = value.strip()
        if kind == "release":
            yield pin._replace(conditions=release_conditions(value))
        elif kind == "origin":
            yield pin._replace(origin=value.strip('"'))
        elif kind == "version":
            yield pin._replace(version=value)
        else:
            yield Damage(stanza.line, "a preference for nothing that is known")
