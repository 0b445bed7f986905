"""The configuration of an `arch` system: sections, with what other files they take in.

    line = "[" section "]" | name [ "=" value ] | "#" remark

`Include` takes in every file that a pattern matches, in the section where it stands; what a file takes in
that was taken in before is passed over. Of a name that stands several times all values count.
"""

from collections.abc import Iterator
from typing import NamedTuple

from filigree.access.trees.protocol import Tree
from filigree.families.arch import places
from filigree.families.protocol import Report
from filigree.families.shared.expressions import Expressions, Told
from filigree.families.shared.looking import names_in, read_or_report
from filigree.formats.damage import text_of
from filigree.formats.patterns import glob
from filigree.model.answer import Gap

OPTIONS = "options"
_DEEPEST = 10
_MOST_FILES = 1000
"""Files that are taken in, each as often as it is: ten that take in each other are millions."""
_LIMIT = 4 << 20
_PATTERN = frozenset("*?[")


class Setting(NamedTuple):
    """One line that says something: its section, its name, its value, and where it stands."""

    section: str
    name: str
    value: str
    file: str
    line: int


def read_settings(tree: Tree, report: Report) -> list[Setting]:
    """Every setting, in the order in which the system reads them."""
    return list(_file(tree, report, places.SETTINGS, "", [places.SETTINGS], [_MOST_FILES]))


def told_words(settings: list[Setting], name: str) -> list[Told]:
    """The words of a name among the options, each with its file."""
    return [
        Told(word, one.file)
        for one in settings
        if one.section == OPTIONS and one.name.lower() == name.lower()
        for word in one.value.split()
    ]


def option_words(settings: list[Setting], name: str) -> list[str]:
    """The words of a name among the options."""
    return [one.text for one in told_words(settings, name)]


def _file(
    tree: Tree, report: Report, path: str, section: str, way: list[str], left: list[int]
) -> Iterator[Setting]:
    for number, text in enumerate(
        text_of(read_or_report(tree, path, report, _LIMIT)).split("\n"), 1
    ):
        line = text.strip()
        if not line or line.startswith("#"):
            continue
        if line.startswith("[") and line.endswith("]"):
            section = line[1:-1].strip()
            yield Setting(section, "", "", path, number)
            continue
        name, _, value = (part.strip() for part in line.partition("="))
        if name != "Include":
            yield Setting(section, name, value, path, number)
            continue
        for other in _matching(tree, report, value):
            if other in way or len(way) >= _DEEPEST:
                report(Gap(f"{path}, line {number}", f"it takes in {other}, which takes in itself"))
            elif left[0] <= 0:
                report(
                    Gap(f"{path}, line {number}", f"more than {_MOST_FILES:,} files are taken in")
                )
                return
            else:
                left[0] -= 1
                yield from _file(tree, report, other, section, [*way, other], left)


def _matching(tree: Tree, report: Report, pattern: str) -> list[str]:
    """The files that a pattern matches; only its last part may be one."""
    folder, _, name = pattern.rpartition("/")
    if not _PATTERN & set(name):
        return [pattern]
    told = [Told(name, f"an Include of {folder}")]
    chooses = Expressions(told, glob, "which files are taken in", report)
    return [f"{folder}/{one}" for one in names_in(tree, folder, report) if chooses.any(one)]
