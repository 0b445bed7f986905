"""Which version a `deb` system would take.

Follows the manual page apt_preferences(5): a preference that names a package counts before those for all
of them, and the first that fits counts; the highest priority wins, then the newest version; an older
version than the installed one is taken from a priority of 1000 on; a negative one bars a version.
"""

from collections.abc import Iterable, Sequence
from functools import cmp_to_key
from typing import Any, NamedTuple

from filigree.families.protocol import Report
from filigree.families.shared.expressions import Expressions, Told
from filigree.formats.deb.preferences import Preference, pattern_of
from filigree.formats.deb.versions import compare_versions
from filigree.model.choices import Choice, Offering
from filigree.model.package import Package

INSTALLED = 100
BACKWARDS = 1000
_HERE = {"suite": "now"}


class Pin(NamedTuple):
    """A preference, and the file and line that it stands in."""

    preference: Preference
    place: str


class Pins:
    """Preferences in their order, found by the packages that they speak of."""

    def __init__(self, pins: Iterable[Pin], report: Report) -> None:
        self.every = list(pins)
        self.general = [pin for pin in self.every if pin.preference.general]
        self._told: dict[bool, dict[str, list[tuple[str | None, int]]]] = {False: {}, True: {}}
        for number, pin in enumerate(self.every):
            if not pin.preference.general:
                for one in pin.preference.named():
                    entry = (one.machine, number)
                    self._told[one.of_source].setdefault(one.pattern, []).append(entry)
        what = "which packages a preference is of"
        self._asked = {
            of_source: Expressions(
                (Told(text, self.every[found[0][1]].place) for text, found in told.items()),
                pattern_of, what, report,
            )
            for of_source, told in self._told.items()
        }  # fmt: skip

    def of(self, package: Package) -> list[Pin]:
        """Those that speak of a package by name, in their order, and then those of all."""
        found: set[int] = set()
        for of_source, text in ((False, package.name), (True, package.source or "")):
            for told in self._asked[of_source].every(text):
                found.update(
                    number
                    for machine, number in self._told[of_source][told.text]
                    if machine in (None, package.architecture, "any")
                )
        return [*(self.every[number] for number in sorted(found)), *self.general]


class _Version(NamedTuple):
    """One version: whether it is installed, and who offers it."""

    text: str
    installed: Package | None
    offers: list[Offering]

    @property
    def package(self) -> Package:
        return self.installed or self.offers[0].package


def choices(pins: Pins, installed: Sequence[Package], offered: Sequence[Offering]) -> list[Choice]:
    """All versions of one name for one kind of machine, the newest first."""
    here = max(installed, key=_key, default=None)
    versions = _versions(installed, offered)
    ranked = [(version, *_priority(version, pins)) for version in versions]
    taken = _candidate(ranked, here.version if here else None)
    return [
        Choice(
            version.text, version.package.architecture, version.installed is not None,
            tuple(version.offers), priority, why, version is taken,
            _verdict(version, priority, taken, here),
        )
        for version, priority, why in ranked
    ]  # fmt: skip


_order = cmp_to_key(compare_versions)


def _key(package: Package) -> Any:
    return _order(package.version)


def _versions(installed: Sequence[Package], offered: Sequence[Offering]) -> list[_Version]:
    """Every version once, the newest first. Two spellings of one version are one."""
    found: list[_Version] = []
    things: list[Package | Offering] = [*installed, *offered]
    for thing in sorted(things, key=lambda t: _key(_package(t)), reverse=True):
        package = _package(thing)
        if not found or compare_versions(found[-1].text, package.version) != 0:
            found.append(_Version(package.version, None, []))
        if isinstance(thing, Package):
            found[-1] = found[-1]._replace(installed=thing)
        else:
            found[-1].offers.append(thing)
    return found


def _package(thing: Package | Offering) -> Package:
    return thing if isinstance(thing, Package) else thing.package


def _priority(version: _Version, pins: Pins) -> tuple[int, str]:
    """The priority of a version, and where it comes from."""
    package = version.package
    places = [dict(one.repository.facts) for one in version.offers]
    if version.installed is not None:
        places.append(_HERE)
    for preference, place in pins.of(package):
        if preference.fits_version(version.text):
            return preference.priority, f"by {place}"
        # What is said of all packages of an index is in its priority.
        if not preference.general and any(map(preference.fits, places)):
            return preference.priority, f"by {place}"
    best = [
        (one.repository.priority or 0, one.repository.facts.get("priority_from", ""))
        for one in version.offers
    ]
    if version.installed is not None:
        best.append((INSTALLED, "it is installed"))
    return max(best, key=lambda pair: pair[0])


def _candidate(ranked: Sequence[tuple[_Version, int, str]], here: str | None) -> _Version | None:
    best: tuple[int, _Version] | None = None
    for version, priority, _ in ranked:
        older = here is not None and compare_versions(version.text, here) < 0
        if priority <= 0 or (older and priority < BACKWARDS):
            continue
        # They come newest first: of the same priority the first stays.
        if best is None or priority > best[0]:
            best = (priority, version)
    return best[1] if best else None


def _verdict(version: _Version, priority: int, taken: _Version | None, here: Package | None) -> str:
    if version is taken:
        return "it stays" if version.installed is not None else "it would be taken"
    if priority <= 0:
        return f"never taken: its priority is {priority}"
    older = here is not None and compare_versions(version.text, here.version) < 0
    if older and priority < BACKWARDS:
        return "older than what is installed"
    if taken is not None and compare_versions(version.text, taken.text) > 0:
        return "newer, but another has a higher priority"
    return "another has a higher priority" if taken is not None else "it is not taken"
