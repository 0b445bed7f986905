"""What an administrator declared of packages: held at a version, or protected from removal."""

import tomllib
from collections.abc import Iterable, Mapping
from typing import NamedTuple

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Report
from filigree.families.rpm import places
from filigree.families.shared.expressions import Expressions, Told
from filigree.families.shared.looking import names_in, read_or_report
from filigree.formats.damage import text_of
from filigree.formats.patterns import glob
from filigree.formats.rpm.repo_files import read_sections
from filigree.formats.version_parts import split_version
from filigree.model.answer import Gap


class RpmPolicy(NamedTuple):
    """Names and patterns of what is held, names of what is protected."""

    held_names: frozenset[str]
    held_patterns: Expressions
    protected: frozenset[str]

    def holds(self, name: str, full: str, architecture: str) -> bool:
        """Whether a package, by its name, full version and architecture, is held."""
        if name in self.held_names:
            return True
        if not self.held_patterns:
            return False
        epoch, version, release = split_version(full)
        end = f"{version}-{release}.{architecture}"
        # Both ways of writing it are in use: the epoch before the version, or before the name.
        spelled = (f"{name}-{epoch or 0}:{end}", f"{epoch or 0}:{name}-{end}")
        return any(map(self.held_patterns.any, spelled))


def read_policy(tree: Tree, report: Report) -> RpmPolicy:
    """All that is declared."""
    told = (
        Told(line, path)
        for path in places.LOCKS
        for line in _lines(tree, path, report)
        if not line.startswith("!")
    )
    patterns = Expressions(told, glob, "what is held", report)
    protected = {
        line
        for folder in places.PROTECTED
        for name in names_in(tree, folder, report)
        if name.endswith(".conf")
        for line in _lines(tree, f"{folder}/{name}", report)
    }
    return RpmPolicy(_locked(tree, report), patterns, frozenset(protected))


def _locked(tree: Tree, report: Report) -> frozenset[str]:
    data = read_or_report(tree, places.LOCK_TABLE, report)
    try:
        rows = tomllib.loads(data.decode()).get("packages", [])
    except (ValueError, RecursionError) as error:
        report(Gap(places.LOCK_TABLE, f"it is no table: {error}"))
        return frozenset()
    if not isinstance(rows, list):
        return frozenset()
    names = (row.get("name") for row in rows if isinstance(row, dict))
    return frozenset(name for name in names if isinstance(name, str))


def main_words(tree: Tree, report: Report, *names: str) -> list[str]:
    """The words of settings of the configuration as a whole."""
    found: list[str] = []
    for path in places.SETTINGS:
        sections, _ = read_sections(read_or_report(tree, path, report))
        for section in sections:
            if section.name == "main":
                found += (word for name in names for word in words_of(section.values, name))
    return found


def words_of(values: Mapping[str, str], name: str) -> list[str]:
    """The words of one setting; commas divide them too."""
    return values.get(name, "").replace(",", " ").split()


def _lines(tree: Tree, path: str, report: Report) -> Iterable[str]:
    for line in text_of(read_or_report(tree, path, report)).split("\n"):
        words = line.partition("#")[0].strip()
        if words:
            yield words
