"""The manual, made of the commands themselves: what `filigree manual` prints, and the pages for `man`."""

import enum
from collections.abc import Iterator
from importlib import import_module
from typing import Annotated, Any

import typer

from filigree.model.errors import BadQuestion
from filigree.views.pages.manual import ManualEntry, ManualPage, ManualSection, plain_text, roff

_STATUSES = (
    ManualEntry("0", "answered, and nothing is wrong"),
    ManualEntry(
        "1", "answered, and the answer is bad news: a discrepancy, an unmet need, no match"
    ),
    ManualEntry("2", "the question was malformed"),
    ManualEntry("3", "no bad news, but something could not be looked at"),
    ManualEntry("130", "interrupted, with what was found so far"),
)
_FILES = (
    ManualEntry("~/.cache/filigree", "what was fetched or read of immutable things, under its digests; "
                "what others could have written there is not believed"),
)  # fmt: skip
_ENVIRONMENT = (
    ManualEntry("NO_COLOR", "no colour, whatever it holds"),
    ManualEntry("PAGER", "what pages long answers on a terminal"),
    ManualEntry("COLUMNS", "how wide tables are where that is no terminal"),
    ManualEntry("XDG_CACHE_HOME", "where the cache is, in the place of ~/.cache"),
)


def _commands(root: Any) -> dict[str, Any]:
    found: dict[str, Any] = {"": root}
    for name, command in root.commands.items():
        found[name] = command
        for inner, one in getattr(command, "commands", {}).items():
            found[f"{name} {inner}"] = one
    return found


def manual_pages(root: Any) -> dict[str, ManualPage]:
    """Every page by the command's name, of the program's own command: the first, without any name, is of
    the program itself."""
    found = _commands(root)
    return {name: _page(name, command, found) for name, command in found.items()}


def _page(name: str, command: Any, every: dict[str, Any]) -> ManualPage:
    title = "-".join(["filigree", *name.split()])
    inner = {other: one for other, one in every.items() if _is_below(name, other)}
    about = " ".join(
        (command.help or "Audits the packages of a Linux system; it only reads.").split()
    )
    sections = [ManualSection("Synopsis", (_synopsis(name, command, bool(inner)),))]
    if inner:
        entries = (ManualEntry(f"filigree {other}", _first(one)) for other, one in inner.items())
        sections.append(ManualSection("Commands", (), tuple(entries)))
    arguments, options = _told(command)
    if arguments:
        sections.append(ManualSection("Arguments", (), arguments))
    if options:
        sections.append(ManualSection("Options", (), options))
    fields = _fields(name)
    if fields:
        words = "Each record has, in lines and CSV in this order: " + ", ".join(fields) + "."
        sections.append(ManualSection("Output", (words, "docs/output.md tells what each means.")))
    sections.append(ManualSection("Exit status", (), _STATUSES))
    sections.append(ManualSection("Files", (), _FILES))
    sections.append(ManualSection("Environment", (), _ENVIRONMENT))
    examples = [line.strip() for line in (command.epilog or "").splitlines()[1:] if line.strip()]
    if examples:
        sections.append(ManualSection("Examples", (), (), tuple(examples)))
    if name:
        above = " ".join(name.split()[:-1])
        other = "-".join(["filigree", *above.split()])
        sections.append(ManualSection("See also", (f"{other}(1)",)))
    return ManualPage(title, about.rstrip("."), tuple(sections))


def _is_below(name: str, other: str) -> bool:
    if not other or other == name:
        return False
    return other.rpartition(" ")[0] == name


def _first(command: Any) -> str:
    return " ".join((command.help or "").split())


def _synopsis(name: str, command: Any, has_inner: bool) -> str:
    words = ["filigree", *name.split()]
    words += ["COMMAND …"] if has_inner else []
    words += ["[OPTION …]"] if not has_inner else []
    for one in command.params:
        if one.opts and not one.opts[0].startswith("-"):
            told = one.metavar or one.name.upper()
            told = f"{told} …" if one.nargs == -1 else told
            words.append(told if one.required else f"[{told}]")
    return " ".join(words)


def _told(command: Any) -> tuple[tuple[ManualEntry, ...], tuple[ManualEntry, ...]]:
    arguments, options = [], []
    for one in command.params:
        if getattr(one, "hidden", False):
            continue
        if one.opts and not one.opts[0].startswith("-"):
            arguments.append(ManualEntry(one.metavar or one.name.upper(), one.help or ""))
            continue
        options.append(ManualEntry(_option(one), " ".join(_words(one))))
    return tuple(arguments), tuple(options)


def _option(one: Any) -> str:
    names = ", ".join([*one.opts, *one.secondary_opts])
    if one.is_flag:
        return names
    return f"{names} {one.metavar or '|'.join(_choices(one)) or 'VALUE'}"


def _words(one: Any) -> Iterator[str]:
    if one.help:
        yield one.help
    choices = _choices(one)
    if choices and one.metavar and not all(value in (one.help or "") for value in choices):
        yield f"One of {', '.join(choices)}."
    if one.show_default and one.default not in (None, False, True, ()):
        value = one.default.value if isinstance(one.default, enum.Enum) else one.default
        yield f"Default: {value}."


def _choices(one: Any) -> list[str]:
    """The values of an option that is one of a few."""
    kind = one.type_descriptor.annotation
    for part in (kind, *getattr(kind, "__args__", ())):
        if isinstance(part, type) and issubclass(part, enum.Enum):
            return [str(member.value) for member in part]
    return []


def _fields(name: str) -> list[str]:
    """What the lines of a question have."""
    from filigree.views.options import FleetOptions, ViewOptions
    from filigree.views.render import OPTIONS, SCREENS

    options = OPTIONS.get(name, ViewOptions)
    if name not in SCREENS or options is FleetOptions:
        return []
    screen = import_module(f"filigree.views.screens.{SCREENS[name]}")
    return list(screen.titles(options()))


def manual(
    ctx: typer.Context,
    command: Annotated[
        list[str] | None,
        typer.Argument(metavar="COMMAND", help="Of which command.", show_default=False),
    ] = None,
    as_man: Annotated[
        bool, typer.Option("--roff", help="As man takes it, and not as plain text.")
    ] = False,
) -> None:
    """The manual: of the program, or of one command."""
    from filigree import __version__

    pages = manual_pages(ctx.find_root().command)
    name = " ".join(command or ())
    page = pages.get(name)
    if page is None:
        import difflib

        close = difflib.get_close_matches(name, pages, 3)
        raise BadQuestion(
            f"no command is called {name}",
            None,
            f"did you mean {', '.join(close)}?" if close else None,
        )
    for line in roff(page, __version__) if as_man else plain_text(page):
        typer.echo(line)
