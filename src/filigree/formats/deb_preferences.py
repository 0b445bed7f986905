"""Preferences among the versions that a `deb` system could take: pins.

    stanza = Package: name…, Pin: ("release" condition… | "origin" host | "version" glob), Pin-Priority: n
    condition = ("a" | "n" | "o" | "l" | "c" | "v" | "b") "=" value, divided by commas

As the manual page apt_preferences(5) describes them. Values may be globs.
"""

import fnmatch
from collections.abc import Iterator
from typing import NamedTuple

from filigree.formats.damage import Damage
from filigree.formats.deb_release import Release
from filigree.formats.stanzas import read_remarked_stanzas


class Preference(NamedTuple):
    """One pin. `conditions` are by letter for a release; `origin` is a host, `version` a glob."""

    packages: tuple[str, ...]
    priority: int
    conditions: dict[str, str] | None = None
    origin: str | None = None
    version: str | None = None

    @property
    def general(self) -> bool:
        """Whether it speaks of every package."""
        return "*" in self.packages

    def fits(self, release: Release | None, component: str | None, host: str) -> bool:
        """Whether it speaks of an index, by its signed file, its component and its host."""
        if self.origin is not None:
            return fnmatch.fnmatchcase(host, self.origin)
        if self.conditions is None or release is None:
            return False
        facts = {
            "a": release.suite, "n": release.codename, "o": release.origin, "l": release.label,
            "v": release.version, "c": (component or "").rpartition("/")[2],
        }  # fmt: skip
        return all(
            fnmatch.fnmatchcase(facts.get(letter) or "", value)
            for letter, value in self.conditions.items()
        )


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
        if not names or not number.lstrip("-").isdecimal() or len(number) > 6:
            yield Damage(stanza.line, "a preference without a package, or without a priority")
            continue
        priority = int(number)
        value = value.strip()
        if kind == "release":
            parts = (part.strip().partition("=") for part in value.split(","))
            yield Preference(names, priority, {letter: text for letter, _, text in parts if letter})
        elif kind == "origin":
            yield Preference(names, priority, origin=value.strip('"'))
        elif kind == "version":
            yield Preference(names, priority, version=value)
        else:
            yield Damage(stanza.line, "a preference for nothing that is known")
