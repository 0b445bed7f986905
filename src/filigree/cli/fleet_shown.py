"""What the commands about a fleet have in common: which hosts, as of when, how the answer is shown."""

import functools
import inspect
from collections.abc import Callable
from dataclasses import fields, is_dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer

from filigree.cli.asked import Shared, When
from filigree.cli.files import cache_folder
from filigree.cli.options import typed_path
from filigree.model.answer import Answer
from filigree.model.errors import BadQuestion
from filigree.views.options import FleetOptions
from filigree.views.render import Format

if TYPE_CHECKING:
    from filigree.fleet.asked import Fleet
    from filigree.fleet.engines import Engine

_PANEL = "Showing the answer"
StorePlace = Annotated[
    str, typer.Argument(metavar="STORE", help="The folder of the store.", show_default=False)
]
HostGlobs = Annotated[
    list[str] | None,
    typer.Option(
        "--host", metavar="GLOB", help="Only of these hosts; repeatable.", show_default=False
    ),
]
AsOf = Annotated[
    str | None,
    typer.Option(
        "--as-of", metavar="TIME", help="As they were seen last before: 2026-03-01, '3 days'.",
        show_default=False,
    ),
]  # fmt: skip
GroupBy = Annotated[
    str | None,
    typer.Option(
        "--group-by", metavar="host", show_default=False,
        help="host: each host by itself, and not all of them together.",
    ),
]  # fmt: skip
EngineAt = Annotated[
    str | None,
    typer.Option(
        "--engine", metavar="sc://HOST:PORT", show_default=False,
        help="Ask this cluster of Apache Spark: its machines have to see the store under the same path.",
    ),
]  # fmt: skip
_SHOWN: dict[str, tuple[Any, Any]] = {
    "form": (
        Annotated[Format | None, typer.Option(
            "--format", rich_help_panel=_PANEL, show_default=False,
            help="The default is a table on a terminal, and lines elsewhere.")], None,
    ),
    "color": (
        Annotated[When, typer.Option("--color", rich_help_panel=_PANEL, help="When to use colour.")],
        When.AUTO,
    ),
    "no_pager": (
        Annotated[bool, typer.Option("--no-pager", rich_help_panel=_PANEL, help="Do not page.")], False,
    ),
}  # fmt: skip
Told = tuple[Answer[Any, Any], type]
"""An answer, and what its records are."""


def shown(command: Callable[..., Told]) -> Callable[..., None]:
    """Make a command of a function that returns an answer: with the options of showing it."""
    signature = inspect.signature(command)
    own = list(signature.parameters.values())
    added = [
        inspect.Parameter(
            name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation
        )
        for name, (annotation, default) in _SHOWN.items()
    ]

    @functools.wraps(command)
    def run(*args: Any, **kwargs: Any) -> None:
        from filigree.cli.showing import refuse_bytes_to_a_terminal, show

        shared = Shared(**{name: kwargs.pop(name) for name in _SHOWN})
        refuse_bytes_to_a_terminal(shared)
        answer, record = command(*args, **kwargs)
        names = (
            [one.name for one in fields(record)] if is_dataclass(record) else answer.summary.columns
        )
        show(answer, shared, FleetOptions(tuple(names)))
        raise typer.Exit(answer.exit_status)

    run.__signature__ = signature.replace(parameters=[*own, *added], return_annotation=None)  # type: ignore[attr-defined]
    run.__annotations__ = {one.name: one.annotation for one in [*own, *added]}
    return run


def time_from(text: str | None, end: bool = False) -> datetime | None:
    from filigree.questions.timeline.times import moment_from

    return None if text is None else moment_from(text, datetime.now(UTC), end)


class AskedStore(NamedTuple):
    """What a command asks with: which store, which hosts, as of when, of which engine."""

    store: str
    hosts: tuple[str, ...]
    as_of: datetime | None
    engine: str | None

    def __call__(
        self, question: Callable[["Fleet"], Answer[Any, Any]], by_host: bool = False
    ) -> Answer[Any, Any]:
        """The answer to a question, each host by itself where that is wanted."""
        from filigree.fleet.asked import FleetWish, asked
        from filigree.fleet.store import FleetStore

        wish = FleetWish(self.hosts, self.as_of, by_host)
        store = FleetStore(self.store, cache=cache_folder())
        with asked(store, wish, engine_at(self.engine)) as fleet:
            return question(fleet)


_ASKING: dict[str, tuple[Any, Any]] = {
    "host": (HostGlobs, None), "as_of": (AsOf, None), "engine": (EngineAt, None),
}  # fmt: skip


def asking(command: Callable[..., Told]) -> Callable[..., None]:
    """Make a command of a function that asks: it is given what to ask with (`AskedStore`) in the place of
    the store, and has the options that say which hosts, as of when, and of which engine."""
    signature = inspect.signature(command)
    _, *own = signature.parameters.values()
    store = inspect.Parameter(
        "store", inspect.Parameter.POSITIONAL_OR_KEYWORD, annotation=StorePlace
    )
    added = [
        inspect.Parameter(
            name, inspect.Parameter.KEYWORD_ONLY, default=default, annotation=annotation
        )
        for name, (annotation, default) in _ASKING.items()
    ]

    @functools.wraps(command)
    def run(**kwargs: Any) -> Told:
        told = {name: kwargs.pop(name) for name in ("store", *_ASKING)}
        asked = AskedStore(
            typed_path(told["store"]), tuple(map(typed_path, told["host"] or ())),
            time_from(told["as_of"], end=True), told["engine"] and typed_path(told["engine"]),
        )  # fmt: skip
        return command(asked, **kwargs)

    run.__signature__ = signature.replace(parameters=[store, *own, *added])  # type: ignore[attr-defined]
    return shown(run)


def engine_at(address: str | None) -> "Engine | None":
    """The engine at an address; None for the embedded one. Raises BadQuestion."""
    if address is None:
        return None
    from filigree.fleet.cluster_engine import SCHEME, SparkEngine

    if not address.startswith(SCHEME):
        raise BadQuestion(
            "it is no address of an engine", address, f"one is like {SCHEME}host:15002"
        )
    return SparkEngine(address)


def one_of(text: str, *known: str) -> str:
    if text not in known:
        raise BadQuestion(f"there is no {text!r} to choose", None, f"known are {', '.join(known)}")
    return text
