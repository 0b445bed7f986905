"""The commands that trace: needs, needed-by."""

from typing import Annotated

import typer

from filigree.cli.options import Asked, Subjects, question, typed_path
from filigree.model.errors import BadQuestion
from filigree.model.needs import Relation
from filigree.questions.graph import HARD
from filigree.questions.scopes import Chosen, Scope
from filigree.system import System

_POSITIVE = [kind.value for kind in Relation if kind.positive]

Deep = Annotated[bool, typer.Option("--deep", help="All the way, as a tree.")]
Depth = Annotated[
    int | None, typer.Option(min=1, help="So many steps, as a tree.", show_default=False)
]
Kinds = Annotated[
    str | None,
    typer.Option(
        metavar="KIND,KIND…",
        help=f"Which ties to follow: {', '.join(_POSITIVE)}, or all. Default: what is required.",
        show_default=False,
    ),
]


@question
def needs(
    system: System,
    subjects: Subjects,
    deep: Deep = False,
    depth: Depth = None,
    kinds: Kinds = None,
    *,
    scope: Scope,
    sources: Chosen,
) -> Asked:
    """What a package requires, with versions, met or unmet."""
    from filigree.questions.needs import needs

    names = map(typed_path, subjects)
    return needs(system, names, _depth(deep, depth), _kinds(kinds), scope, sources), {}


@question
def needed_by(
    system: System,
    subjects: Subjects,
    deep: Deep = False,
    depth: Depth = None,
    kinds: Kinds = None,
    *,
    scope: Scope,
    sources: Chosen,
) -> Asked:
    """What requires a package."""
    from filigree.questions.needs import needed_by

    names = map(typed_path, subjects)
    return needed_by(system, names, _depth(deep, depth), _kinds(kinds), scope, sources), {}


def _depth(deep: bool, depth: int | None) -> int | None:
    return depth if depth is not None else None if deep else 1


def _kinds(text: str | None) -> frozenset[Relation]:
    if text is None:
        return HARD
    names = [name.strip() for name in text.split(",") if name.strip()]
    if names == ["all"]:
        names = _POSITIVE
    unknown = [name for name in names if name not in _POSITIVE]
    if unknown or not names:
        raise BadQuestion(
            f"no kind of need is called {unknown[0] if unknown else repr(text)}",
            None,
            f"known are {', '.join(_POSITIVE)}, and all",
        )
    return frozenset(Relation(name) for name in names)
