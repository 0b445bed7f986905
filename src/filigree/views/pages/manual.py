"""Pages of the manual: as plain text for a terminal, and as `man` takes them (the macros of man(7))."""

import textwrap
from collections.abc import Iterator, Sequence
from typing import NamedTuple

_WIDE = 78


class ManualEntry(NamedTuple):
    """One thing that is told of by its name: an option, a status, a file."""

    name: str
    words: str


class ManualSection(NamedTuple):
    """A section of a page: paragraphs, then entries, then lines that stand as they are."""

    title: str
    paragraphs: tuple[str, ...] = ()
    entries: tuple[ManualEntry, ...] = ()
    lines: tuple[str, ...] = ()


class ManualPage(NamedTuple):
    """A page: its name (`filigree-verify`), what it is about in a line, and its sections."""

    name: str
    about: str
    sections: tuple[ManualSection, ...]


def roff(page: ManualPage, version: str) -> Iterator[str]:
    """A page as man(7) has it, line by line."""
    title = page.name.upper()
    yield f'.TH "{_quoted(title)}" 1 "" "filigree {version}" "Manual of filigree"'
    yield ".SH NAME"
    yield _plain(f"{page.name} - {page.about}")
    for section in page.sections:
        yield f".SH {section.title.upper()}"
        for number, text in enumerate(section.paragraphs):
            if number:
                yield ".PP"
            yield _plain(text)
        for entry in section.entries:
            yield ".TP"
            yield f".B {_plain(entry.name)}"
            yield _plain(entry.words)
        if section.lines:
            yield ".PP"
            yield ".nf"
            yield from (_plain(line) for line in section.lines)
            yield ".fi"


def plain_text(page: ManualPage) -> Iterator[str]:
    """A page for a terminal, line by line."""
    yield f"{page.name} - {page.about}"
    for section in page.sections:
        yield ""
        yield section.title
        for number, text in enumerate(section.paragraphs):
            if number:
                yield ""
            yield from _wrapped(text, "  ")
        for entry in section.entries:
            yield f"  {entry.name}"
            yield from _wrapped(entry.words, "      ")
        yield from (f"  {line}" for line in section.lines)


def _wrapped(text: str, indent: str) -> Sequence[str]:
    return textwrap.wrap(
        text, _WIDE, initial_indent=indent, subsequent_indent=indent, break_on_hyphens=False,
        break_long_words=False,
    )  # fmt: skip


def _plain(text: str) -> str:
    """A line in which nothing is a request or an escape of roff, and a hyphen is what is typed."""
    told = text.replace("\\", "\\e").replace("-", "\\-").replace("\n", " ")
    return f"\\&{told}" if told[:1] in (".", "'") else told


def _quoted(text: str) -> str:
    return _plain(text).replace('"', '""')
