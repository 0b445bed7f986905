"""The program: its commands in their groups."""

from typing import Annotated

import typer

from filigree import __version__
from filigree.cli.commands import COMMANDS, FLEET
from filigree.cli.groups import SETTINGS, CommandGroup


class FleetCommands(CommandGroup):
    """The commands that ask many hosts."""

    table = FLEET


class FiligreeCommands(CommandGroup):
    """Every command."""

    table = COMMANDS


app = typer.Typer(
    name="filigree",
    cls=FiligreeCommands,
    help="An auditor of the packages on a Linux system. It only reads.",
    pretty_exceptions_enable=False,
    rich_markup_mode="rich",
    context_settings=SETTINGS,
)


def _version(asked: bool) -> None:
    if asked:
        typer.echo(f"filigree {__version__}")
        raise typer.Exit


@app.callback()
def _main(
    version: Annotated[
        bool,
        typer.Option(
            "--version", callback=_version, is_eager=True, help="Say the version, and end."
        ),
    ] = False,
) -> None:
    pass
