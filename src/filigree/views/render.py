"""One place where every answer becomes text, in every format."""

from collections.abc import Iterator
from enum import StrEnum
from importlib import import_module
from typing import Any, cast

from filigree.model.answer import Answer, Flow
from filigree.views.options import (
    CensusOptions,
    CompareOptions,
    ContentsOptions,
    DrawOptions,
    FindingsOptions,
    FleetOptions,
    GroupsOptions,
    LayersOptions,
    NeedsOptions,
    OwnerOptions,
    ReposOptions,
    StraysOptions,
    VerifyOptions,
    ViewOptions,
)
from filigree.views.page import Ink
from filigree.views.plain import csv_text, json_flow, json_text, jsonl_text, lines_text
from filigree.views.screens.protocol import Screen
from filigree.views.screens.words import gap_lines

SCREENS = {
    "survey": "survey",
    "census": "census",
    "dossier": "dossier",
    "contents": "contents",
    "owner": "owner",
    "needs": "needs",
    "needed-by": "needs",
    "verify": "verify",
    "groups": "groups",
    "repos": "repos",
    "refresh": "refresh",
    "seek": "seek",
    "behind": "behind",
    "because": "because",
    "obstacles": "obstacles",
    "whatif": "whatif",
    "leftover": "leftover",
    "draw": "draw",
    "keys": "keys",
    "strays": "strays",
    "provenance": "provenance",
    "layers": "layers",
    "snapshot": "snapshot",
    "compare": "compare",
    "timeline": "timeline",
    "periods": "periods",
    "findings": "findings",
    "running": "running",
    "report": "report",
    "rules": "rules",
    **dict.fromkeys(
        (
            f"fleet {name}"
            for name in (
                "gather",
                "tidy",
                "hosts",
                "census",
                "behind",
                "owner",
                "rare",
                "differ",
                "changed",
                "findings",
                "keys",
                "repos",
                "gaps",
                "ask",
                "needed-by",
                "timeline",
            )
        ),
        "fleet",
    ),
}


OPTIONS: dict[str, type[ViewOptions]] = {
    "census": CensusOptions, "groups": GroupsOptions, "contents": ContentsOptions, "owner": OwnerOptions,
    "needs": NeedsOptions, "needed-by": NeedsOptions, "draw": DrawOptions, "verify": VerifyOptions,
    "strays": StraysOptions, "repos": ReposOptions, "layers": LayersOptions, "compare": CompareOptions,
    "findings": FindingsOptions, **{name: FleetOptions for name, at in SCREENS.items() if at == "fleet"},
}  # fmt: skip
"""What the views of a question take, where there is something to choose."""


class Format(StrEnum):
    """The form of an answer."""

    TABLE = "table"
    LINES = "lines"
    JSON = "json"
    JSONL = "jsonl"
    CSV = "csv"
    PARQUET = "parquet"


TEXTS = tuple(form for form in Format if form is not Format.PARQUET)
"""The forms that are text: a table of columns is bytes, and made by `handover.parquet`."""


FLOWING = (Format.LINES, Format.JSON, Format.JSONL, Format.CSV)
"""The forms that are written as records come; a table for people has to know how wide they are."""


def render_flow(
    flow: Flow[Any, Any], form: Format, options: ViewOptions | None = None
) -> Iterator[str]:
    """An answer's lines of text while its records pass. Raises ValueError for a form that has to have
    seen them all."""
    if form not in FLOWING:
        raise ValueError(f"{form.value} is written of all records at once")
    if form is Format.JSON:
        return json_flow(flow)
    return render(flow.passing(), form, Ink(False, 0), options)


def render(
    answer: Answer[Any, Any], form: Format, ink: Ink, options: ViewOptions | None = None
) -> Iterator[str]:
    """The answer as lines of text, without their line ends; `options` are those of its question.
    Raises ValueError for a form that is no text."""
    if form not in TEXTS:
        raise ValueError(f"{form.value} is no text")
    if form is Format.JSON:
        return json_text(answer)
    if form is Format.JSONL:
        return jsonl_text(answer)
    view = screen_of(answer.question)
    options = options or OPTIONS.get(answer.question, ViewOptions)()
    if form is Format.LINES:
        return lines_text(view.rows(answer, options))
    if form is Format.CSV:
        return csv_text(view.titles(options), view.rows(answer, options))
    return _screen(view, answer, ink, options)


def screen_of(question: str) -> Screen[Any, Any, Any]:
    """How the answers of a question are shown; loaded when it is asked for."""
    return cast(
        "Screen[Any, Any, Any]", import_module(f"filigree.views.screens.{SCREENS[question]}")
    )


def _screen(
    view: Screen[Any, Any, Any], answer: Answer[Any, Any], ink: Ink, options: ViewOptions
) -> Iterator[str]:
    yield from view.screen(answer, ink, options)
    if options.tells_gaps:
        yield from gap_lines(ink, answer.gaps)
