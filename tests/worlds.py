"""Made-up worlds in memory, by the real rules of a family: what plans are made of in tests."""

from collections.abc import Callable, Iterable, Sequence
from itertools import chain, combinations

from filigree.families.deb.rules import DebRules
from filigree.families.deb.stanza import capabilities_of, needs_of
from filigree.families.protocol import Asked, Provided, Rules
from filigree.families.rpm.described import capabilities_of as rpm_capabilities
from filigree.families.rpm.described import needs_of as rpm_needs
from filigree.families.rpm.rules import RpmRules
from filigree.families.shared.expressions import Expressions
from filigree.formats.deb import versions as deb_versions
from filigree.formats.patterns import glob
from filigree.formats.relation_error import RelationError
from filigree.formats.rpm import versions as rpm_versions
from filigree.model.needs import Capability, Need, Relation
from filigree.model.package import Package, Reason, State
from filigree.questions.planning.world import Offered
from tests.planning.checking import checked

_FLAGS = {"<": 2, ">": 4, "=": 8, "<=": 10, ">=": 12}


class MadeWorld:
    """Packages that are there, and packages that are offered; each with why the rules pass it over."""

    def __init__(self, here: Sequence[Package], offered: Sequence[Package | Offered] = ()) -> None:
        self._asked: dict[int, Sequence[Need]] = {}
        self._provided: dict[int, Sequence[Capability]] = {}
        self.here = list(here)
        self.offered = [one if isinstance(one, Offered) else Offered(one) for one in offered]
        family = (*self.here, *(one.package for one in self.offered))[0].family
        self.compare: Callable[[str, str], int] = (
            deb_versions if family == "deb" else rpm_versions
        ).compare_versions
        self._is_deb = family == "deb"

    def order(self, one: Package, other: Package) -> int:
        return self.compare(one.version, other.version)

    def installed(self) -> Sequence[Package]:
        return self.here

    def needs(self, package: Package) -> Sequence[Need]:
        if id(package) not in self._asked:
            self._asked[id(package)] = self._needs(package)
        return self._asked[id(package)]

    def _needs(self, package: Package) -> Sequence[Need]:
        if self._is_deb:
            return needs_of(package)
        found = list(rpm_needs(lambda kind: _told(package, kind)))
        assert not any(isinstance(one, RelationError) for one in found)
        return [one for one in found if isinstance(one, Need)]

    def capabilities(self, package: Package) -> Sequence[Capability]:
        if id(package) not in self._provided:
            self._provided[id(package)] = self._capabilities(package)
        return self._provided[id(package)]

    def _capabilities(self, package: Package) -> Sequence[Capability]:
        if self._is_deb:
            return capabilities_of(package)
        return rpm_capabilities(lambda kind: _told(package, kind), package)

    def owns(self, package: Package, path: str) -> bool:
        return path in package.fields.get("paths", "").split()

    def owners(self, path: str) -> Sequence[Package]:
        return [package for package in self.here if self.owns(package, path)]

    def offers(self, name: str) -> Sequence[Offered]:
        found = [
            one
            for one in self.offered
            if any(c.name == name for c in self.capabilities(one.package))
            or self.owns(one.package, name)
        ]
        return sorted(found, key=lambda one: (one.package.name != name, one.package.name))

    def versions(self, name: str) -> Sequence[Offered]:
        found = [one for one in self.offered if one.package.name == name]
        return sorted(found, key=lambda one: one.passed_over is not None)

    def successors(self, name: str) -> Sequence[Offered]:
        return [
            one
            for one in self.offered
            if one.package.name != name
            for need in self.needs(one.package)
            if need.kind is Relation.OBSOLETES and str(need.condition).split(" ")[0] == name
        ]

    @property
    def _rules(self) -> Rules:
        if self._is_deb:
            return DebRules("amd64", (), dict, lambda: Expressions((), glob, "", print))
        return RpmRules("x86_64", lambda name: name.startswith("kern"))

    def satisfies(self, asked: Asked, provided: Provided) -> bool:
        return self._rules.satisfies(asked, provided)

    def forbids(self, kind: Relation, asked: Asked, provided: Provided) -> bool:
        return self._rules.forbids(kind, asked, provided)

    def stays(self, package: Package) -> bool:
        return "stays" in package.fields

    def machine_of(self, package: Package) -> str:
        return self._rules.machine_of(package)

    def rivals(self, one: Package, other: Package) -> str | None:
        return self._rules.rivals(one, other)


def deb(label: str, **fields: str) -> Package:
    """A package called `name` or `name=version`; fields by their names, `_` for a hyphen.

    `marks` are words: held, protected, dependency; `machine` is the architecture.
    """
    return _made("deb", "amd64", label, fields)


def rpm(label: str, **fields: str) -> Package:
    """The same of the other family; fields are kinds of relations, divided by semicolons."""
    return _made("rpm", "x86_64", label, fields)


def _made(family: str, native: str, label: str, fields: dict[str, str]) -> Package:
    name, _, version = label.partition("=")
    marks = fields.pop("marks", "").split()
    machine = fields.pop("machine", native)
    kept = {key.replace("_", "-"): text for key, text in fields.items()}
    return Package(
        name, version or "1", machine, family, State.INSTALLED, fields=kept,
        reason=Reason.DEPENDENCY if "dependency" in marks else Reason.CHOSEN,
        held="held" in marks, protected="protected" in marks,
    )  # fmt: skip


def to_come(package: Package) -> Package:
    """The package as a repository offers it."""
    from dataclasses import replace

    return replace(package, state=State.AVAILABLE, reason=None, repository="coast")


def _told(package: Package, kind: str) -> list[tuple[str, int, str]]:
    rows = []
    for text in filter(None, map(str.strip, package.fields.get(kind, "").split(";"))):
        words = text.split()
        if len(words) == 3 and words[1] in _FLAGS and not text.startswith("("):
            rows.append((words[0], _FLAGS[words[1]], words[2]))
        else:
            rows.append((text, 0, ""))
    return rows


def subsets(packages: Sequence[Package]) -> Iterable[tuple[Package, ...]]:
    """Every choice of packages, the largest first."""
    sizes = range(len(packages), -1, -1)
    return chain.from_iterable(combinations(packages, size) for size in sizes)


def is_sound(world: MadeWorld, packages: Iterable[Package]) -> bool:
    """Whether nothing is wrong with packages that are there together."""
    return not checked(world, packages)
