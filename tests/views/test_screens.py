"""Every screen is one: the type checker holds each module against the protocol here."""

from typing import Any

from filigree.views.options import ViewOptions
from filigree.views.render import OPTIONS, SCREENS, screen_of
from filigree.views.screens import (
    because,
    behind,
    census,
    compare,
    contents,
    dossier,
    draw,
    findings,
    fleet,
    groups,
    keys,
    layers,
    leftover,
    needs,
    obstacles,
    owner,
    periods,
    provenance,
    refresh,
    report,
    repos,
    rules,
    running,
    seek,
    snapshot,
    strays,
    survey,
    timeline,
    verify,
    whatif,
)
from filigree.views.screens.protocol import Screen

EVERY: tuple[Screen[Any, Any, Any], ...] = (
    because,
    behind,
    census,
    compare,
    contents,
    dossier,
    draw,
    findings,
    fleet,
    groups,
    keys,
    layers,
    leftover,
    needs,
    obstacles,
    owner,
    periods,
    provenance,
    refresh,
    report,
    repos,
    rules,
    running,
    seek,
    snapshot,
    strays,
    survey,
    timeline,
    verify,
    whatif,
)


def test_every_question_is_shown_by_a_screen_and_every_screen_shows_one() -> None:
    assert {screen_of(question) for question in SCREENS} == set(EVERY)


def test_a_screen_without_options_has_titles_for_each_part_of_a_row() -> None:
    for question in (one for one in SCREENS if screen_of(one) is not fleet):
        titles = screen_of(question).titles(OPTIONS.get(question, ViewOptions)())
        assert len(set(titles)) == len(titles) > 0
