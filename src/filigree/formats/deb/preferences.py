"""Preferences among the versions that a `deb` system could take: pins.

    stanza    = Package: name…, Pin: what, Pin-Priority: number
    what      = "release" condition *("," condition) | "origin" host | "version" pattern
    condition = ("a" | "n" | "o" | "l" | "c" | "v" | "b") "=" pattern | pattern
    name      = pattern | "src:" pattern | name ":" architecture

As the manual page apt_preferences(5) describes them. A pattern is a glob, or a regular expression between
slashes. A condition without a letter is of the version where it begins with a digit, else of the suite or
the codename.
"""

import re
from collections.abc import Iterator, Mapping
from typing import NamedTuple

from filigree.formats.damage import Damage
from filigree.formats.patterns import Pattern, PatternError, expression, glob
from filigree.formats.stanzas import read_remarked_stanzas

_FACTS = {
    "a": ("suite",), "n": ("codename",), "o": ("origin",), "l": ("label",), "c": ("component",),
    "v": ("version",), "b": ("architecture",), "": ("suite", "codename"), "0": ("version",),
}  # fmt: skip


class NamedPin(NamedTuple):
    """Packages by a pattern: of their names, or of their sources'; for one machine, or for `any`."""

    pattern: str
    of_source: bool
    machine: str | None


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

    def named(self) -> Iterator["NamedPin"]:
        """The packages that it speaks of, each by its name or its source's, and perhaps its machine."""
        for one in self.packages:
            front, colon, machine = one.rpartition(":")
            if one.startswith("src:"):
                yield NamedPin(one[4:], True, None)
            elif colon and not one.startswith("/"):
                yield NamedPin(front, False, machine)
            else:
                yield NamedPin(one, False, None)

    def patterns(self) -> Iterator[str]:
        """Every pattern that it holds against an index, or a version."""
        yield from (pattern for _, pattern in self.conditions or ())
        yield from (one for one in (self.origin, self.version) if one is not None)

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
    try:
        return pattern_of(pattern).matches(text)
    except PatternError:  # whoever reads preferences tells of these, and leaves them out
        return False


def pattern_of(text: str) -> Pattern:
    """A glob, or a regular expression between slashes, which may match anywhere. Raises PatternError."""
    if len(text) > 1 and text.startswith("/") and text.endswith("/"):
        return expression(f"(?s:.*)(?:{text[1:-1]})(?s:.*)")
    return glob(text)


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
