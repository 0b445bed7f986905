"""What an administrator declared of paths: diversions, owners and modes, and what to leave out."""

import re
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property

from filigree.access.trees.protocol import Tree
from filigree.families.deb import places
from filigree.families.protocol import Report
from filigree.families.shared.expressions import Expressions, Told
from filigree.families.shared.looking import names_in, read_or_report
from filigree.formats.damage import Damage
from filigree.formats.deb.configuration import read_configuration, read_lists
from filigree.formats.deb.layout import (
    Override,
    read_diversions,
    read_overrides,
    read_path_rules,
)
from filigree.formats.patterns import expression, glob
from filigree.model.answer import Gap
from filigree.model.files import FileRecord, LocalPolicy, Relocation, Sort
from filigree.model.needs import Relation


@dataclass(frozen=True)
class DebPolicy:
    """The declared policy of one root, ready to be asked about paths."""

    relocations: tuple[Relocation, ...] = ()
    overrides: dict[str, Override] = field(default_factory=dict)
    rules: Expressions | None = None
    taken_in: frozenset[Told] = frozenset()
    by_original: dict[str, Relocation] = field(default_factory=dict)

    @cached_property
    def declared(self) -> frozenset[str]:
        """The paths of which anything is declared by name."""
        return frozenset((*self.overrides, *self.by_original))

    def applied(self, record: FileRecord, package: str) -> FileRecord:
        """A record of a package, with all that is declared of its path."""
        path = record.path
        declared = [*self._moved(path, package), *self._overridden(path), *self._left_out(path)]
        if not declared:
            return record
        override = self.overrides.get(path)
        policies = tuple(declared)
        return record._replace(
            location=self._location(path, package),
            mode=override.mode if override else record.mode,
            owner=override.owner if override else record.owner,
            group=override.group if override else record.group,
            excuse=next((p.words for p in policies if p.sort is Sort.EXCLUSION), record.excuse),
            policies=(*record.policies, *policies),
            plain=record.plain or record,
        )

    def _location(self, path: str, package: str) -> str:
        """Where a package's file is on this root."""
        relocation = self.by_original.get(path)
        if relocation is None or relocation.keeper == package:
            return path
        return relocation.moved_to

    def _moved(self, path: str, package: str) -> Iterator[LocalPolicy]:
        relocation = self.by_original.get(path)
        if relocation is not None and relocation.keeper != package:
            whose = relocation.keeper or "the local administrator"
            words = f"moved to {relocation.moved_to} by a diversion of {whose}"
            yield LocalPolicy(Sort.DIVERSION, places.DIVERSIONS, words)

    def _overridden(self, path: str) -> Iterator[LocalPolicy]:
        one = self.overrides.get(path)
        if one is not None:
            words = f"declared to be of {one.owner} and {one.group}, with mode {one.mode:04o}"
            yield LocalPolicy(Sort.OVERRIDE, places.OVERRIDES, words)

    def _left_out(self, path: str) -> Iterator[LocalPolicy]:
        """The declared exclusion that matches a path last, if one does."""
        last = self.rules.last(path) if self.rules else None
        if last is not None and last not in self.taken_in:
            words = f"left out by the declared rule {last.text}"
            yield LocalPolicy(Sort.EXCLUSION, last.place, words)


def read_policy(tree: Tree, report: Report) -> DebPolicy:
    """The policy of a root. What cannot be read or parsed is reported, and the rest is kept."""
    relocations, damages = read_diversions(read_or_report(tree, places.DIVERSIONS, report))
    _tell(damages, places.DIVERSIONS, report)
    overrides, damages = read_overrides(read_or_report(tree, places.OVERRIDES, report))
    _tell(damages, places.OVERRIDES, report)
    told = list(_path_rules(tree, report))
    return DebPolicy(
        tuple(relocations),
        {override.path: override for override in overrides},
        Expressions((rule for _, rule in told), glob, "which paths are left out", report),
        frozenset(rule for include, rule in told if include),
        {relocation.original: relocation for relocation in relocations},
    )


def _path_rules(tree: Tree, report: Report) -> Iterator[tuple[bool, Told]]:
    """Whether a rule takes in, and the rule: the parts in the order of their names, then the main file,
    as the system reads them."""
    files = [
        f"{places.CONFIGURATION_PARTS}/{name}"
        for name in names_in(tree, places.CONFIGURATION_PARTS, report)
        if re.fullmatch(r"[A-Za-z0-9_-]+", name)
    ]
    for file in (*files, places.CONFIGURATION):
        for rule in read_path_rules(read_or_report(tree, file, report)):
            yield rule.include, Told(rule.pattern, file)


_PART = re.compile(r"[A-Za-z0-9_-]+(?:\.conf)?")


def read_settings(tree: Tree, report: Report) -> tuple[dict[str, str], dict[str, list[str]]]:
    """The settings of the package manager, and its lists, by their names in small letters."""
    settings: dict[str, str] = {}
    lists: dict[str, list[str]] = {}
    parts = names_in(tree, places.SETTINGS_PARTS, report)
    files = [f"{places.SETTINGS_PARTS}/{name}" for name in parts if _PART.fullmatch(name)]
    for file in (*files, places.SETTINGS):
        data = read_or_report(tree, file, report)
        settings |= read_configuration(data)
        for name, values in read_lists(data).items():
            lists.setdefault(name, []).extend(values)
    return settings, lists


_OFF = ("0", "no", "false", "without", "off", "disable")


def keeping(settings: Mapping[str, str]) -> frozenset[Relation]:
    """The kinds of ties that keep a dependency in place: what is recommended and suggested does, unless
    the settings say no."""
    wishes = {"recommends": Relation.RECOMMENDS, "suggests": Relation.SUGGESTS}
    found = {
        kind
        for name, kind in wishes.items()
        if settings.get(f"apt::autoremove::{name}important", "true").lower() not in _OFF
    }
    return frozenset({Relation.REQUIRES_FIRST, Relation.REQUIRES, *found})


def never_left_over(lists: Mapping[str, list[str]], report: Report) -> Expressions:
    """The names that are never taken for left over."""
    told = (Told(text, "the settings") for text in lists.get("apt::neverautoremove", ()))
    what = "which packages are never left over"
    return Expressions(told, expression, what, report, anywhere=True)


def _tell(damages: Iterable[Damage], path: str, report: Report) -> None:
    for damage in damages:
        report(Gap(f"{path}, line {damage.line}", damage.why))
