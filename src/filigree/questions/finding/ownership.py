"""Which package a path comes from: the search behind `owner`, and behind paths as subjects."""

import fnmatch
import re
from collections.abc import Collection, Iterable
from enum import StrEnum
from functools import lru_cache
from typing import TYPE_CHECKING, NamedTuple, Protocol

from filigree.access.trees.directories import LINK_LIMIT, encoded
from filigree.model.answer import Gap
from filigree.model.errors import AccessError
from filigree.model.package import Package
from filigree.model.repositories import ListedPath
from filigree.system import System

if TYPE_CHECKING:
    from filigree.questions.offers.catalogue import Catalogue

PROGRAM_DIRECTORIES = (
    "/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin",
    "/usr/local/games", "/usr/games",
)  # fmt: skip
"""Where a bare command name is looked up, in this order."""

_ANYWHERE = ("/", "/**/")
"""What stands before a glob without a slash in front: it matches anywhere."""
_GLOB = re.compile(r"[*?\[]")
_BYTECODE = re.compile(r"(.*)/__pycache__/([^/]+?)\.[a-z]+-\d+(?:\.opt-\d)?\.pyc")


def source_of_bytecode(path: str) -> str | None:
    """The Python source that a byte-compiled file is named after; None where the path is of none."""
    match = _BYTECODE.fullmatch(path)
    return f"{match[1]}/{match[2]}.py" if match else None


class How(StrEnum):
    """How it is known that a path comes from a package."""

    LISTED = "listed"
    ALIAS = "alias"
    DIVERTED = "diverted"
    ALTERNATIVE = "alternative"
    GENERATED = "generated"
    OFFERED = "offered"


class Owner(NamedTuple):
    package: Package
    how: How


class Owned(NamedTuple):
    """One path, absolute; what it leads to; and where it comes from: nobody, one, or many.

    `dead_end` is where a link points that leads to nothing.
    """

    path: str
    resolved: str | None
    owners: tuple[Owner, ...]
    dead_end: str | None = None


class Paths(Protocol):
    """Paths on record, and whose they are."""

    def named(self, name: str) -> Iterable[tuple[Package, str]]: ...

    def matching(self, pattern: str) -> Iterable[tuple[Package, str]]: ...


class ArchivePaths:
    """The paths of archives, instead of those of a system."""

    def __init__(self, system: System, packages: Iterable[Package]) -> None:
        self._listings = [(p, system.records(p).listing()) for p in packages]

    def named(self, name: str) -> Iterable[tuple[Package, str]]:
        return [(p, path) for p, listing in self._listings for path in listing.named(name)]

    def matching(self, pattern: str) -> Iterable[tuple[Package, str]]:
        compiled = re.compile(encoded(pattern), re.DOTALL)
        return [(p, path) for p, paths in self._listings for path in paths.matching(compiled)]


class OwnerSearch:
    """Looks for the owners of paths in one system; what many paths share is read once."""

    def __init__(self, system: System, paths: "Paths | None" = None) -> None:
        self._system = system
        installed = paths is None
        self._paths: Paths = system.paths if paths is None else paths
        self._on_disk_too = installed
        self._managed = system.managed_links if installed else {}
        relocations = system.relocations if installed else ()
        self._relocated = {r.original: r for r in relocations}
        self._arrived = {self._system.real(r.moved_to): r for r in self._relocated.values()}

    def find(self, asked: str) -> list[Owned]:
        """The owners of a path, of every path that a glob matches, or of every path with that last
        part."""
        if _GLOB.search(asked) and not asked.startswith("/"):
            found = {path for front in _ANYWHERE for path in self._expand(f"{front}{asked}")}
            if "/" not in asked:
                programs = (self._expand(f"{place}/{asked}") for place in PROGRAM_DIRECTORIES)
                found.update(path for paths in programs for path in paths)
            return [self._owned(path) for path in self._distinct(found)]
        if "/" not in asked and asked not in (".", ".."):
            return self._called(asked)
        path = absolute(self._system, asked)
        if _GLOB.search(path) and not self._system.tree.exists(path):
            return [self._owned(found) for found in self._expand(path)]
        return [self._owned(path)]

    def _owned(self, path: str) -> Owned:
        tree = self._system.tree
        try:
            resolved: str | None = tree.real_path(path)
            exact = tree.real_path(path, follow=False)
        except AccessError as error:
            if not error.absent:
                self._system.report(Gap(path, error.what))
            # A link may lead to where not even a directory is.
            exact = self._system.real(path)
            dead_end = self._target(exact) if self._on_disk_too else None
            return Owned(path, None, tuple(self._listed(path, exact)), dead_end)
        if resolved is not None and not tree.exists(resolved):
            resolved = None
        if not self._on_disk_too:
            # What an archive holds is nothing to do with what is at that path here.
            return Owned(path, None, tuple(self._listed(path, exact)))
        dead_end = None if resolved is not None else self._target(exact)
        return Owned(path, resolved, tuple(self._search(path, exact)), dead_end)

    def _target(self, path: str) -> str | None:
        """Where a link points; None where there is none."""
        try:
            return self._system.tree.observe(path).link_target
        except AccessError:
            return None

    def _search(self, path: str, exact: str) -> list[Owner]:
        """The owners of a path, by the first way of knowing that finds any."""
        found = self._listed(path, exact)
        if found:
            return found
        for step in self._chain(exact)[1:]:
            found = self._listed(step, step)
            if found:
                managed = {path, exact} & self._managed.keys()
                how = How.ALTERNATIVE if managed else How.ALIAS
                return [Owner(owner.package, how) for owner in found]
        return self._generated(exact)

    def _listed(self, path: str, exact: str) -> list[Owner]:
        """Packages that list the path itself, the same file by another path, or moved it here."""
        arrival = self._arrived.get(exact)
        names = {exact.rpartition("/")[2]}
        if arrival is not None:
            names.add(arrival.original.rpartition("/")[2])
        found = []
        for package, listed in (pair for name in names for pair in self._paths.named(name)):
            away = self._relocated.get(listed)
            if away is not None and away.keeper != package.name:
                if away is arrival:
                    found.append(Owner(package, How.DIVERTED))
            elif self._system.real(listed) == exact:
                found.append(
                    Owner(package, self._way(package, listed) if listed == path else How.ALIAS)
                )
        return _once(found)

    def _way(self, package: Package, path: str) -> How:
        """How it is known that a path is a package's: it is listed, or made at installation."""
        made_paths = self._system.database.made_paths
        made = self._on_disk_too and made_paths is not None and path in made_paths(package)
        return How.GENERATED if made else How.LISTED

    def _chain(self, path: str) -> list[str]:
        """The path, then what each link leads to, one step at a time."""
        tree = self._system.tree
        steps = [path]
        for _ in range(LINK_LIMIT):
            try:
                target = tree.observe(steps[-1]).link_target
                if target is None:
                    break
                base = steps[-1].rpartition("/")[0]
                following = target if target.startswith("/") else f"{base}/{target}"
                step = tree.real_path(following, follow=False)
            except AccessError:
                break
            if step in steps:
                break
            steps.append(step)
        return steps

    def _generated(self, path: str) -> list[Owner]:
        """Files that appear when a package is installed: its own records, and compiled caches."""
        keeper = self._system.database.keeper_of(path)
        if keeper is not None:
            return [Owner(keeper, How.GENERATED)]
        origin = source_of_bytecode(path)
        if origin is None and path.endswith("/__pycache__"):
            origin = path.rpartition("/")[0]
        if origin is None:
            return []
        return [Owner(owner.package, How.GENERATED) for owner in self._listed(origin, origin)]

    def _called(self, name: str) -> list[Owned]:
        """Every path on record whose last part is a name, programs first, and the program of that name
        that is on the disk where none is; the same file by several paths once."""
        found = {path for _, path in self._paths.named(name)}
        if self._on_disk_too:
            programs = (f"{place}/{name}" for place in PROGRAM_DIRECTORIES)
            found.update(path for path in programs if self._system.tree.exists(path))
        return [self._owned(path) for path in self._distinct(found)]

    def _distinct(self, paths: Collection[str]) -> list[str]:
        """Paths, programs first, each file once: by the path without links where that is among them."""
        first: dict[str, str] = {}
        ordered = _programs_first(paths)
        if self._on_disk_too:
            # A program that is there goes before one that has vanished.
            ordered.sort(key=lambda path: _is_program(path) and not self._system.tree.exists(path))
            ordered.sort(key=lambda path: not _is_program(path))
        for path in ordered:
            exact = self._system.real(path) if self._on_disk_too else path
            if exact not in first or path == exact:
                first[exact] = path
        return list(first.values())

    def _expand(self, pattern: str) -> list[str]:
        """The paths that a glob matches, on record and on the disk. `*` stays in one part."""
        found = {path for _, path in self._paths.matching(glob_pattern(pattern))}
        if self._on_disk_too and "**" not in pattern:
            found.update(self._on_disk(pattern))
        return sorted(found)

    def _on_disk(self, pattern: str) -> list[str]:
        paths = [""]
        for part in pattern.split("/")[1:]:
            if not _GLOB.search(part):
                paths = [f"{path}/{part}" for path in paths]
                continue
            chooses = re.compile(fnmatch.translate(part)).match
            paths = [f"{path}/{name}" for path in paths for name in self._names(path)
                     if chooses(name)]  # fmt: skip
        return [path for path in paths if self._system.tree.exists(path)]

    def _names(self, path: str) -> list[str]:
        try:
            return self._system.tree.names(path or "/")
        except AccessError:
            return []


def _programs_first(paths: Iterable[str]) -> list[str]:
    """Paths in their order, but for programs: those come first, in the order in which they are found."""
    places = {place: number for number, place in enumerate(PROGRAM_DIRECTORIES)}
    last = len(places)
    return sorted(paths, key=lambda path: (places.get(path.rpartition("/")[0], last), path))


def _is_program(path: str) -> bool:
    """Whether it is where programs are looked up."""
    return path.rpartition("/")[0] in PROGRAM_DIRECTORIES


class OfferedSearch:
    """Looks for what would bring a path, in the indexes of paths."""

    def __init__(self, system: System, offered: "Catalogue") -> None:
        self._system = system
        self._offered = offered

    def find(self, asked: str) -> list[Owned]:
        """What would bring a path, every path that a glob matches, or a command of that name."""
        if _GLOB.search(asked) and not asked.startswith("/"):
            rows = [row for front in _ANYWHERE for row in self._glob(f"{front}{asked}")]
            return self._in_order(self._grouped(rows))
        if "/" not in asked and asked not in (".", ".."):
            return self._in_order(self._grouped(self._offered.paths.named(asked)))
        path = absolute(self._system, asked)
        if _GLOB.search(path):
            return self._grouped(self._glob(path))
        found = self._offered.paths.at(path)
        for alias in self._aliases(path):
            found = found or [
                (ListedPath(path, listed.holder, listed.kind), package)
                for listed, package in self._offered.paths.at(alias)
            ]
        return self._grouped(found) or [Owned(path, None, ())]

    @staticmethod
    def _in_order(found: list[Owned]) -> list[Owned]:
        by_path = {owned.path: owned for owned in found}
        return [by_path[path] for path in _programs_first(by_path)]

    def _glob(self, pattern: str) -> list[tuple[ListedPath, Package]]:
        # The index's own globs cross slashes; ours do not.
        chooses = re.compile(glob_pattern(pattern)).fullmatch
        return [row for row in self._offered.paths.glob(pattern) if chooses(row[0].path)]

    @staticmethod
    def _aliases(path: str) -> list[str]:
        """Other ways to write a path, where one of the first directories is a link into another."""
        first = path.split("/")[1]
        if first == "usr":
            rest = path.removeprefix("/usr")
            return [rest] if rest.split("/")[1] in _MERGED else []
        return [f"/usr{path}"] if first in _MERGED else []

    @staticmethod
    def _grouped(rows: Iterable[tuple[ListedPath, Package]]) -> list[Owned]:
        found: dict[str, dict[tuple[str, str, str], Owner]] = {}
        for listed, package in rows:
            key = (package.name, package.architecture, package.version)
            owners = found.setdefault(listed.path, {})
            owners.setdefault(key, Owner(package, How.OFFERED))
        return [Owned(path, None, tuple(found[path].values())) for path in sorted(found)]


_MERGED = ("bin", "sbin", "lib", "lib32", "lib64", "libx32")


def absolute(system: System, path: str) -> str:
    """A path as the root sees it; a relative one starts where the system says that we are."""
    if not path.startswith("/"):
        path = f"{system.here.rstrip('/')}/{path}"
    parts = [part for part in path.split("/") if part not in ("", ".")]
    return "/" + "/".join(parts)


@lru_cache(maxsize=64)
def glob_pattern(pattern: str) -> str:
    """A glob over whole paths as a regular expression: `*` and `?` stop at `/`, `**` does not."""
    out = []
    at = 0
    while at < len(pattern):
        sign = pattern[at]
        closing = pattern.find("]", at + 2)
        if pattern.startswith("**", at):
            out.append(".*")
            at += 1
        elif sign == "*":
            out.append("[^/]*")
        elif sign == "?":
            out.append("[^/]")
        elif sign == "[" and closing > 0:
            inside = pattern[at + 1 : closing].replace("\\", "\\\\")
            inside = inside.replace("[", "\\[").replace("^", "\\^")
            out.append(f"[{'^' + inside[1:] if inside[0] == '!' else inside}]")
            at = closing
        else:
            out.append(re.escape(sign))
        at += 1
    return "".join(out)


def _once(owners: list[Owner]) -> list[Owner]:
    """Each package once; being listed by this very path goes before an alias."""
    best: dict[Package, Owner] = {}
    for owner in sorted(owners, key=lambda o: o.how is not How.LISTED):
        best.setdefault(owner.package, owner)
    order = {owner.package: None for owner in owners}
    return [best[key] for key in order]
