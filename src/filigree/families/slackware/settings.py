"""The settings by which a `slackware` system takes new packages; read as text, never run.

mirrors      an address a line; those that count are not behind a `#`
settings     NAME=value, NAME=( words ), as a shell has them
left out     a name, `series/`, or an expression a line, of what is to stay as it is
"""

import re
from collections.abc import Callable

from filigree.access.jail import Jail
from filigree.families.looking import read_or_report
from filigree.families.protocol import Report
from filigree.families.slackware import places
from filigree.families.slackware.described import called
from filigree.formats.damage import text_of
from filigree.formats.slackware_names import split_label
from filigree.model.answer import Gap
from filigree.model.package import Package

_LIMIT = 1 << 20
_VALUE = re.compile(
    r"^[ \t]*([A-Z_]+)=(?:\(([^)]*)\)|\"([^\"\n]*)\"|'([^'\n]*)'|(\S*))", re.MULTILINE
)
_PLAIN = re.compile(r"[\w.+-]+", re.ASCII)
_CALM = re.compile(r"(?:[\w.+@-]|\[[\w-]{1,40}\]|\.\*|[*+?^$\\])+", re.ASCII)
_LONGEST, _MOST = 80, 3
"""What an expression may be for its search to come to an end soon."""


def lines_of(jail: Jail, path: str, report: Report) -> list[tuple[int, str]]:
    """The lines of a file that say something, each with its number."""
    found = []
    text = text_of(read_or_report(jail, path, report, _LIMIT))
    for number, line in enumerate(text.split("\n"), 1):
        said = line.partition("#")[0].strip()
        if said:
            found.append((number, said))
    return found


def read_values(jail: Jail, report: Report) -> dict[str, list[str]]:
    """The words of each setting; of one that stands twice the last counts."""
    text = text_of(read_or_report(jail, places.SETTINGS, report, _LIMIT))
    return {
        name: (several or one or other or bare).split()
        for name, several, one, other, bare in _VALUE.findall(text)
    }


def left_out(jail: Jail, report: Report) -> Callable[[Package], bool]:
    """What tells whether a package is to stay as it is."""
    tests: list[Callable[[Package], bool]] = []
    for number, line in lines_of(jail, places.LEFT_OUT, report):
        test = _test(line)
        if test is None:
            report(Gap(f"{places.LEFT_OUT}, line {number}", "an expression that is not read"))
        else:
            tests.append(test)
    return lambda package: any(test(package) for test in tests)


def _test(line: str) -> Callable[[Package], bool] | None:
    if line.endswith("/") and _PLAIN.fullmatch(line[:-1]):
        return lambda package: package.section == line[:-1]
    if _PLAIN.fullmatch(line):
        label = split_label(line)
        if label is not None:
            return lambda p: (p.name, p.version) == (label.name, label.full_version)
        return lambda package: package.name == line
    repeats = sum(line.count(sign) for sign in "*+?")
    if len(line) > _LONGEST or repeats > _MOST or not _CALM.fullmatch(line):
        return None
    try:
        pattern = re.compile(line, re.ASCII)
    except re.error:
        return None
    return lambda p: any(
        pattern.fullmatch(text) for text in (p.name, p.version.rpartition("-")[2], called(p))
    )
