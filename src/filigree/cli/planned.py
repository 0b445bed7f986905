"""The options by which a plan is told, of each command that makes one."""

from typing import Annotated, Any

import typer
from typer.core import TyperCommand

_PANEL = "The plan"

Add = Annotated[
    list[str] | None,
    typer.Option(
        "--add", metavar="SUBJECT", show_default=False, rich_help_panel=_PANEL,
        help="If this came: a package that is offered, or an archive; repeatable.",
    ),
]  # fmt: skip
Drop = Annotated[
    list[str] | None,
    typer.Option(
        "--drop", metavar="SUBJECT", show_default=False, rich_help_panel=_PANEL,
        help="If this went; repeatable.",
    ),
]  # fmt: skip
Upgrade = Annotated[
    list[str] | None,
    typer.Option(
        "--upgrade", metavar="[SUBJECT]", show_default=False, rich_help_panel=_PANEL,
        help="If this became newer, or everything; repeatable.",
    ),
]  # fmt: skip


class BareUpgrade(TyperCommand):
    """A command whose `--upgrade` may stand without a subject: then it means everything."""

    def parse_args(self, ctx: Any, args: list[str]) -> list[str]:
        """Let `--upgrade` stand without a name: for everything."""
        ahead = [*args[1:], "--"]
        bare = [
            f"{word}=*" if word == "--upgrade" and after.startswith("-") else word
            for word, after in zip(args, ahead, strict=True)
        ]
        return super().parse_args(ctx, bare)
