"""Groups of commands: each is loaded when it is named, and the help of all fits one screen."""

import inspect
import os
import shutil
from collections.abc import Iterator, MutableMapping, Sequence
from importlib import import_module
from typing import Any, ClassVar

import typer
from typer.core import TyperGroup
from typer.models import ParameterInfo

from filigree.cli.commands import CommandEntry
from filigree.cli.completing import completer_of

SETTINGS = {"help_option_names": ["-h", "--help"]}
_INDENT = 21
"""So wide is what stands before what a command says of itself."""


def named(where: str) -> Any:
    """What `module:name` is, below this package."""
    module, _, name = where.partition(":")
    return getattr(import_module(f"filigree.cli.{module}"), name)


def command_of(entry: CommandEntry) -> Any:
    """A command, loaded."""
    if entry.kind is not None and issubclass(kind := named(entry.kind), TyperGroup):
        return group_of(kind, entry.summary, entry.name)
    alone = typer.Typer(
        add_completion=False, pretty_exceptions_enable=False, rich_markup_mode="rich",
        context_settings=SETTINGS,
    )  # fmt: skip
    examples = "\n\n".join(["Examples:", *(f"  filigree {one}" for one in entry.examples)])
    kind = None if entry.kind is None else named(entry.kind)
    function = named(entry.made_by)
    _complete(function)
    alone.command(entry.name.split()[-1], cls=kind, epilog=examples)(function)
    return typer.main.get_command(alone)


def _complete(function: Any) -> None:
    """Let the options and arguments of a command be completed, by their names."""
    for name, parameter in inspect.signature(function).parameters.items():
        for info in getattr(parameter.annotation, "__metadata__", ()):
            if isinstance(info, ParameterInfo) and info.autocompletion is None:
                info.autocompletion = completer_of(name, info.metavar)


def group_of(kind: type[TyperGroup], summary: str, name: str) -> Any:
    """A group of commands inside of another."""
    group = typer.Typer(
        name=name, cls=kind, help=summary, add_completion=False,
        pretty_exceptions_enable=False, rich_markup_mode="rich", context_settings=SETTINGS,
    )  # fmt: skip
    group.callback()(_nothing)
    return typer.main.get_command(group)


def _nothing() -> None:
    """A group by itself does nothing."""


class LoadedWhenNamed(MutableMapping[str, Any]):
    """Commands by name, in the order of their table."""

    def __init__(self, entries: Sequence[CommandEntry]) -> None:
        self._entries = {one.name.split()[-1]: one for one in entries}
        self._loaded: dict[str, Any] = {}

    def __getitem__(self, name: str) -> Any:
        if name not in self._loaded:
            self._loaded[name] = command_of(self._entries[name])
        return self._loaded[name]

    def __setitem__(self, name: str, command: Any) -> None:
        raise TypeError("commands are in their table")

    def __delitem__(self, name: str) -> None:
        raise TypeError("commands are in their table")

    def __contains__(self, name: object) -> bool:
        return name in self._entries

    def __iter__(self) -> Iterator[str]:
        return iter(self._entries)

    def __len__(self) -> int:
        return len(self._entries)


class CommandGroup(TyperGroup):
    """A group whose commands are in a table."""

    table: ClassVar[Sequence[CommandEntry]] = ()

    def __init__(self, **attributes: Any) -> None:
        super().__init__(**attributes)
        self.commands = LoadedWhenNamed(self.table)

    def list_commands(self, _: Any) -> list[str]:
        """The names of the commands, in the order of the table."""
        return list(self.commands)

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        """A group alone tells its help, and that nothing was asked."""
        if not args and not ctx.resilient_parsing:
            typer.echo(ctx.get_help())
            ctx.exit(2)
        return super().parse_args(ctx, args)

    def format_help(self, ctx: Any, formatter: Any) -> None:
        """A line a command, by groups: it fits one screen, and nothing has to be loaded for it."""
        for line in self._help_lines(ctx):
            formatter.write(f"{line}\n")

    def _help_lines(self, ctx: Any) -> Iterator[str]:
        wide = max(60, shutil.get_terminal_size().columns)
        plain = bool(os.environ.get("NO_COLOR"))

        def strong(text: str) -> str:
            return text if plain else typer.style(text, bold=True)

        yield f"{strong(f'{ctx.command_path} COMMAND')}: {self.help}"
        yield ""
        group = None
        for one in self.table:
            head = f"{one.group if one.group != group else '':9}"
            group = one.group
            text = _cut(one.summary, wide - _INDENT)
            yield f"{head}{strong(f'{one.name.split()[-1]:11}')} {text}"
        yield ""
        options = (", ".join(one.opts) for one in self.get_params(ctx) if one.opts)
        yield f"Options: {'; '.join(options)}."
        yield f"{ctx.command_path} COMMAND --help tells of one of them; filigree manual of all."


def _cut(text: str, wide: int) -> str:
    """A text in one line: where it is too long, as many words as there is room for."""
    if len(text) <= wide:
        return text
    return f"{text[: wide - 1].rpartition(' ')[0]}…"
