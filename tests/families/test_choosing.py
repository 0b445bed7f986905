"""Priorities and candidates: tables of configuration, written from each family's published rules."""

from collections.abc import Iterable
from pathlib import Path

import pytest

from filigree.families.deb.choosing import Pin, Pins
from filigree.families.deb.choosing import choices as deb_choices
from filigree.families.deb.repositories import DebRepositories
from filigree.families.protocol import Judging
from filigree.families.rpm.choosing import choices as rpm_choices
from filigree.families.rpm.choosing import excluded
from filigree.families.shared.expressions import Expressions, Told
from filigree.formats.deb.configuration import read_configuration
from filigree.formats.deb.preferences import Preference, read_preferences
from filigree.formats.patterns import glob
from filigree.model.choices import Choice, Offering
from filigree.model.package import Package, State
from filigree.model.repositories import Repository

STABLE = {
    "suite": "stable", "codename": "saltmarsh", "origin": "Office", "label": "Coast",
    "version": "12.4", "component": "main", "architecture": "amd64", "host": "a.example",
}  # fmt: skip
SECURITY = {
    **STABLE,
    "label": "Coast-Security",
    "codename": "saltmarsh-security",
    "host": "s.example",
}
TESTING = {**STABLE, "suite": "testing", "codename": "mudflat", "version": "13"}
LATER = {**STABLE, "suite": "stable-later", "codename": "saltmarsh-later"}
PLACES = {
    "stable": (500, STABLE), "security": (500, SECURITY), "testing": (500, TESTING),
    "later": (100, LATER), "trials": (1, {**STABLE, "suite": "trials", "codename": "trials"}),
}  # fmt: skip


def package(version: str, state: State = State.AVAILABLE, machine: str = "amd64") -> Package:
    return Package("gauge", version, machine, "deb", state, source="tide")


def offering(place: str, version: str) -> Offering:
    priority, facts = PLACES[place]
    repository = Repository(
        place,
        place,
        True,
        (),
        facts["suite"],
        "main",
        "amd64",
        priority,
        "x:1",
        facts={**facts, "priority_from": "a rule"},
    )
    return Offering(package(version), repository)


def pins(text: str) -> list[Pin]:
    found = [pin for pin in read_preferences(text.encode()) if isinstance(pin, Preference)]
    return [Pin(pin, f"p:{pin.line}") for pin in found]


def pin(name: str, what: str, priority: int) -> str:
    return f"Package: {name}\nPin: {what}\nPin-Priority: {priority}\n\n"


def taken(found: Iterable[Choice]) -> str | None:
    return next((one.version for one in found if one.taken), None)


# Installed version, what is offered where, preferences, and the version that is taken.
CASES: list[tuple[str | None, str, str, str | None]] = [
    # Without preferences: the highest priority, then the newest version.
    ("1", "stable=2", "", "2"),
    ("2", "stable=2", "", "2"),
    ("3", "stable=2", "", "3"),
    (None, "stable=2", "", "2"),
    ("1", "stable=2 security=3", "", "3"),
    ("1", "security=2 testing=3", "", "3"),
    # 1 for what is not automatic, 100 where upgrades are asked for; what is installed has 100.
    (None, "trials=3", "", "3"),
    ("1", "trials=3", "", "1"),
    (None, "stable=2 trials=3", "", "2"),
    ("1", "later=3", "", "3"),
    ("1", "stable=2 later=3", "", "2"),
    ("2", "stable=2 later=3", "", "2"),
    ("2.5", "stable=2 later=3", "", "3"),
    ("3", "later=2", "", "3"),
    # A specific preference by release, origin or version.
    ("1", "stable=2 testing=3", pin("gauge", "release a=stable", 990), "2"),
    ("1", "stable=2 testing=3", pin("gauge", "release n=mudflat", 990), "3"),
    ("1", "stable=2 security=3", pin("gauge", 'origin "a.example"', 990), "2"),
    ("1", "stable=2 testing=3", pin("gauge", "version 2*", 990), "2"),
    ("1", "stable=2 testing=3", pin("gauge", "version 7", 990), "3"),
    ("1", "stable=2 testing=3", pin("gau*", "release a=stable", 990), "2"),
    ("1", "stable=2 testing=3", pin("/^gau/", "release a=stable", 990), "2"),
    ("1", "stable=2 testing=3", pin("src:tide", "release a=stable", 990), "2"),
    ("1", "stable=2 testing=3", pin("src:other", "release a=stable", 990), "3"),
    ("1", "stable=2 testing=3", pin("gauge:amd64", "release a=stable", 990), "2"),
    ("1", "stable=2 testing=3", pin("gauge:arm64", "release a=stable", 990), "3"),
    ("1", "stable=2 testing=3", pin("other gauge", "release l=Coast, v=12*", 990), "2"),
    # The first specific preference that fits counts, not the highest.
    ("1", "stable=2 testing=3",
     pin("gauge", "release a=testing", -1) + pin("gauge", "release a=testing", 990), "2"),
    # A negative priority bars a version, and 0 takes nothing by itself.
    ("1", "stable=2", pin("gauge", "release a=stable", -10), "1"),
    (None, "stable=2", pin("gauge", "release a=stable", -10), None),
    (None, "stable=2", pin("gauge", "release a=stable", 0), None),
    # Going back takes a priority of 1000 or more.
    ("3", "stable=2", pin("gauge", "release a=stable", 999), "3"),
    ("3", "stable=2", pin("gauge", "release a=stable", 1001), "2"),
    ("3", "stable=2", pin("gauge", "version 2", 1000), "2"),
    # From 100 to 499: taken unless another, or what is installed, is as good.
    ("1", "stable=2 testing=3", pin("gauge", "release a=testing", 400), "2"),
    ("1", "testing=3", pin("gauge", "release a=testing", 50), "1"),
    (None, "testing=3", pin("gauge", "release a=testing", 50), "3"),
    # The installed version is of the release `now`, and can be pinned by its version.
    ("1", "stable=2", pin("gauge", "release a=now", 990), "1"),
    ("1", "stable=2", pin("gauge", "version 1", 990), "1"),
]  # fmt: skip


@pytest.mark.parametrize(("installed", "offered", "preferences", "expected"), CASES)
def test_which_version_is_taken(
    installed: str | None, offered: str, preferences: str, expected: str | None
) -> None:
    offers = [offering(*word.split("=")) for word in offered.split()]
    here = [package(installed, State.INSTALLED)] if installed else []
    found = deb_choices(Pins(pins(preferences), lambda _: None), here, offers)
    assert taken(found) == expected
    assert [one.version for one in found] == sorted({one.version for one in found}, reverse=True)
    assert all(one.why and one.verdict for one in found)
    assert [one.version for one in found if one.installed] == ([installed] if installed else [])


def test_a_version_has_the_best_priority_of_those_who_offer_it() -> None:
    here = [package("1", State.INSTALLED)]
    found = deb_choices(
        Pins([], lambda _: None), here, [offering("trials", "2"), offering("stable", "2")]
    )
    told = [(one.version, one.priority, len(one.offers)) for one in found]
    assert told == [("2", 500, 2), ("1", 100, 0)]


# Files of the configuration, and the priority that the one repository has by them.
GENERAL: list[tuple[dict[str, str], int]] = [
    ({}, 500),
    ({"preferences": pin("*", "release a=saltmarsh", 600)}, 600),
    ({"preferences": pin("*", "release n=other", 600)}, 500),
    ({"preferences.d/a": pin("*", "origin packages.example", 300),
      "preferences": pin("*", "release a=saltmarsh", 600)}, 300),
    ({"preferences.d/a.bak": pin("*", "origin packages.example", 300)}, 500),
    ({"preferences.d/a.pref": pin("*", "origin packages.example", 300)}, 300),
    ({"apt.conf": 'APT::Default-Release "saltmarsh";'}, 990),
    ({"apt.conf.d/50x": 'APT { Default-Release "saltmarsh"; };'}, 990),
    ({"apt.conf": '# APT::Default-Release "saltmarsh";\n/* APT::Default-Release "saltmarsh"; */'}, 500),
    ({"apt.conf": 'APT::Default-Release "saltmarsh";',
      "preferences": pin("*", "release a=saltmarsh", 600)}, 600),
    ({"apt.conf": 'APT::Default-Release "other";'}, 500),
]  # fmt: skip


@pytest.mark.parametrize(("files", "expected"), GENERAL)
def test_the_priority_of_a_repository(tmp_path: Path, files: dict[str, str], expected: int) -> None:
    from datetime import UTC, datetime

    from filigree.access.trees.directory import DirectoryTree

    folder = tmp_path / "etc/apt"
    for name, text in {
        "sources.list": "deb http://packages.example/x saltmarsh main\n",
        **files,
    }.items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text)
    configured = DebRepositories(
        DirectoryTree(str(tmp_path)), lambda _: None, ["amd64"], Judging(datetime.now(UTC))
    )
    (one,) = configured.all()
    assert one.priority == expected
    assert one.facts["priority_from"]


def test_settings_in_scopes() -> None:
    text = b'a::B "1"; c { d "2"; e { f 3; }; }; // g "4";\nA::b "5"; h { "x"; };'
    assert read_configuration(text) == {"a::b": "5", "c::d": "2", "c::e::f": "3"}


# -- the other family -----------------------------------------------------------------------

Offer = tuple[str, int, str | None]

RPM_CASES: list[tuple[list[str], list[Offer], str | None]] = [
    (["1-1"], [("2-1", 99, None)], "2-1"),
    (["2-1"], [("2-1", 99, None)], "2-1"),
    (["3-1"], [("2-1", 99, None)], "3-1"),
    ([], [("2-1", 99, None)], "2-1"),
    (["1-1"], [("2-1", 99, None), ("3-1", 99, None)], "3-1"),
    # The lowest number wins, even with an older version.
    (["1-1"], [("2-1", 10, None), ("3-1", 99, None)], "2-1"),
    (["2-1"], [("2-1", 10, None), ("3-1", 99, None)], "2-1"),
    (["2.5-1"], [("2-1", 10, None), ("3-1", 99, None)], "2.5-1"),
    ([], [("2-1", 10, None), ("3-1", 99, None)], "2-1"),
    # What is left out is not there, and does not hide what another offers.
    (["1-1"], [("2-1", 99, "left out")], "1-1"),
    (["1-1"], [("2-1", 10, "left out"), ("3-1", 99, None)], "3-1"),
    ([], [("2-1", 99, "left out")], None),
    # Several versions side by side.
    (["1-1", "2-1"], [("3-1", 99, None)], "3-1"),
    (["1-1", "3-1"], [("2-1", 99, None)], "3-1"),
    # Epochs, and signs for what comes before.
    (["1:1-1"], [("2-1", 99, None)], "1:1-1"),
    (["2~rc1-1"], [("2-1", 99, None)], "2-1"),
]


@pytest.mark.parametrize(("installed", "offered", "expected"), RPM_CASES)
def test_which_version_is_taken_in_the_other_family(
    installed: list[str], offered: list[Offer], expected: str | None
) -> None:
    offers = [
        Offering(
            package(version),
            Repository(f"r{number}", "r", True, (), None, None, None, number, "x:1"),
            barred,
        )
        for version, number, barred in offered
    ]
    here = [package(version, State.INSTALLED) for version in installed]
    found = rpm_choices(here, offers)
    assert taken(found) == expected
    assert {one.version for one in found} == {*installed, *(version for version, _, _ in offered)}
    assert all(one.verdict for one in found)


@pytest.mark.parametrize(
    ("pattern", "fits"),
    [("gauge", True), ("gau*", True), ("gauge.amd64", True), ("gauge-2.1", True),
     ("gauge-2.1-3", True), ("gauge-2.1-3.amd64", True), ("gauge-1:2.1-3.amd64", True),
     ("gauge-0:2.1-3", False), ("gaug", False), ("gauge-2.2", False), ("*.noarch", False)],
)  # fmt: skip
def test_how_what_is_left_out_is_written(pattern: str, fits: bool) -> None:
    asked = Expressions([Told(pattern, "here")], glob, "what is left out", lambda _: None)
    assert (excluded(package("1:2.1-3"), asked) == pattern) is fits
