"""Writes the pages of the manual for `man`, as the commands are: `python -m tools.manual FOLDER`."""

import os
import sys

import typer

from filigree import __version__
from filigree.cli.app import app
from filigree.cli.manual import manual_pages
from filigree.views.pages.manual import ManualPage, roff


def pages() -> dict[str, ManualPage]:
    """Every page by the command's name."""
    return manual_pages(typer.main.get_command(app))


def write_pages(folder: str) -> list[str]:
    """Write every page into a folder; the names of the files."""
    names = []
    for page in pages().values():
        names.append(f"{page.name}.1")
        with open(os.path.join(folder, names[-1]), "w", encoding="utf-8") as out:
            out.writelines(f"{line}\n" for line in roff(page, __version__))
    return names


if __name__ == "__main__":
    write_pages(sys.argv[1])
