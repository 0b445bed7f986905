"""The command that shows what all of this is for."""

import os
import shutil
import sys
import tempfile
from pathlib import Path
from typing import Annotated

import typer


def demo(
    into: Annotated[
        Path | None,
        typer.Option(
            metavar="DIR",
            help="Where to build the stations. Default: a temporary folder.",
            show_default=False,
        ),
    ] = None,
    build_only: Annotated[
        bool, typer.Option("--build-only", help="Build the stations, and ask nothing.")
    ] = False,
    table_only: Annotated[
        bool, typer.Option("--table-only", help="Only the table that compares the stations.")
    ] = False,
) -> None:
    """Build the made-up systems, and walk through an audit of them."""
    from filigree.demo.walk import beside, build_stations, walk

    folder = into or Path(tempfile.mkdtemp(prefix="filigree-"))
    try:
        roots = build_stations(folder)
        if not table_only:
            for name, root in roots.items():
                typer.echo(f"Built station {name} in {root}")
        colour = sys.stdout.isatty() and not os.environ.get("NO_COLOR")
        if table_only:
            with tempfile.TemporaryDirectory() as cache:
                for text in beside(roots, colour, cache):
                    typer.echo(text)
        elif not build_only:
            walk(roots, typer.echo, colour)
    finally:
        if into is None and not build_only:
            shutil.rmtree(folder, ignore_errors=True)
