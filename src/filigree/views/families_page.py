"""The page of the documentation that says what each command rests on, by family: made, not written."""

from collections.abc import Iterator, Sequence

from filigree.families.protocol import Family
from filigree.families.shared.notions import NOTIONS
from filigree.questions.asking.notions import ASKS

_HEAD = """# What each answer rests on

This page is made from what the families and the questions declare of themselves (`make docs`); it is not
edited by hand. The first table has the commands by families: what an answer rests on, in the words of the
second table, and which of it a family **cannot say**. An answer that would need it says so in one
sentence, in JSON by `null` and among the `gaps`, and the exit status is 3 unless there is bad news. That
records are unsigned, or that nothing is moved on purpose, is no gap: `verify` and `provenance` tell
what each verdict rests on.
"""
_MORE = """
## What a family knows, and from where

Paths are below the root. In *italics* is what a family does not know.
"""


def families_page(families: Sequence[Family]) -> str:
    """The whole page, in Markdown."""
    parts = [_HEAD, "## Commands by families\n", *_commands(families), _MORE, *_notions(families)]
    return "\n".join(parts) + "\n"


def _commands(families: Sequence[Family]) -> Iterator[str]:
    yield _row(["command", "rests on", *(f"`{family.name}`" for family in families)])
    yield _row(["---"] * (len(families) + 2))
    for command, asked in ASKS.items():
        cells = [_cell(family, asked) for family in families]
        yield _row([f"`{command}`", ", ".join(map(_word, asked)), *cells])


def _cell(family: Family, asked: Sequence[str]) -> str:
    silent = [notion for notion in asked if notion not in family.rests_on]
    return f"**cannot say** {', '.join(map(_word, silent))}" if silent else "all of it"


def _notions(families: Sequence[Family]) -> Iterator[str]:
    yield _row(["word", "tells", *(f"`{family.name}`" for family in families)])
    yield _row(["---"] * (len(families) + 2))
    for notion, tells in NOTIONS.items():
        cells = []
        for family in families:
            ground = family.rests_on.get(notion)
            cells.append(f"*{family.silent_on[notion]}*" if ground is None else ground)
        yield _row([f"**{_word(notion)}**", tells, *cells])


def _word(notion: str) -> str:
    return notion.replace("_", " ")


def _row(cells: Sequence[str]) -> str:
    return f"| {' | '.join(cells)} |"


if __name__ == "__main__":
    import sys

    from filigree.families.registry import families

    sys.stdout.write(families_page(list(families())))
