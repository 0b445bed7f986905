"""The settings by which a `slackware` system takes new packages; read as text, never run.

mirrors      an address a line; those that count are not behind a `#`
settings     NAME=value, NAME=( words ), as a shell has them
left out     a name, `series/`, or an expression a line, of what is to stay as it is
"""

import re
from collections.abc import Callable

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Report
from filigree.families.shared.expressions import Expressions, Told
from filigree.families.shared.looking import read_or_report
from filigree.families.slackware import places
from filigree.families.slackware.described import called
from filigree.formats.damage import text_of
from filigree.formats.patterns import expression
from filigree.model.package import Package

_LIMIT = 256 << 10
_VALUE = re.compile(
    r"^[ \t]*([A-Z_]+)=(?:\(([^)]{0,512})\)|\"([^\"\n]*)\"|'([^'\n]*)'|(\S*))", re.MULTILINE
)
_PLAIN = re.compile(r"[\w.+-]+", re.ASCII)


def lines_of(tree: Tree, path: str, report: Report) -> list[tuple[int, str]]:
    """The lines of a file that say something, each with its number."""
    found = []
    text = text_of(read_or_report(tree, path, report, _LIMIT))
    for number, line in enumerate(text.split("\n"), 1):
        said = line.partition("#")[0].strip()
        if said:
            found.append((number, said))
    return found


def read_values(tree: Tree, report: Report) -> dict[str, list[str]]:
    """The words of each setting; of one that stands twice the last counts."""
    text = text_of(read_or_report(tree, places.SETTINGS, report, _LIMIT))
    return {
        name: (several or one or other or bare).split()
        for name, several, one, other, bare in _VALUE.findall(text)
    }


def left_out(tree: Tree, report: Report) -> Callable[[Package], bool]:
    """What tells whether a package is to stay as it is."""
    plain: set[str] = set()
    told: list[Told] = []
    for number, line in lines_of(tree, places.LEFT_OUT, report):
        if _PLAIN.fullmatch(line.removesuffix("/")):
            plain.add(line)
        else:
            told.append(Told(line, f"{places.LEFT_OUT}, line {number}"))
    patterns = Expressions(told, expression, "what stays as it is", report)

    def stays(package: Package) -> bool:
        label = called(package)
        if plain & {package.name, label, f"{package.section}/"}:
            return True
        texts = (package.name, package.version.rpartition("-")[2], label)
        return any(map(patterns.any, texts))

    return stays
