"""Why a file is where no package put it, as far as a record or the system's own policy tells.

A cause is a hint for whoever looks on, and no proof: whoever could put a file there could have given it
a cause.
"""

import re
from collections.abc import Callable, Collection, Iterator
from enum import StrEnum
from functools import cached_property, partial

from filigree.access.trees.protocol import Entry
from filigree.families.shared import common_places as places
from filigree.families.shared.expressions import Expressions, Told
from filigree.families.shared.looking import names_in, read_or_report
from filigree.formats.patterns import glob
from filigree.formats.temporary_files import Rule, read_rules
from filigree.model.errors import AccessError
from filigree.model.files import Kind
from filigree.questions.finding.ownership import source_of_bytecode
from filigree.system import System


class Cause(StrEnum):
    """Why a file of no package is there."""

    ALTERNATIVE = "alternative"
    BYTECODE = "byte-compiled"
    DIVERTED = "diverted"
    TEMPORARY = "temporary-files"
    USERS = "users"
    KEPT = "kept-configuration"
    DATABASE = "database"
    LOG = "log"
    LINK = "link"
    SCRIPT = "script"


_NAMED = re.compile(r"/(?:etc|usr|lib\w*|s?bin|boot|opt|var|srv)/[\w.+@/-]*[\w+]")
_LIMIT = 1 << 20


class Causes:
    """Looks a file up in all that could tell of it. What it takes is read when it is first needed."""

    def __init__(self, system: System, owned: Collection[str]) -> None:
        self._system = system
        self._owned = owned

    def of(self, entry: Entry) -> tuple[Cause | None, str | None]:
        """The cause of one file, and what is to be said of it; nothing where nothing tells."""
        for cause, told in self._asked:
            detail = told(entry)
            if detail is not None:
                return cause, detail
        return None, None

    @cached_property
    def _asked(self) -> list[tuple[Cause, Callable[[Entry], str | None]]]:
        return [
            (Cause.ALTERNATIVE, self._alternative),
            (Cause.BYTECODE, self._bytecode),
            (Cause.DIVERTED, self._diverted),
            (Cause.TEMPORARY, self._temporary),
            (Cause.USERS, self._account),
            (Cause.KEPT, self._kept),
            (Cause.DATABASE, self._database),
            (Cause.LOG, self._log),
            (Cause.LINK, self._link),
            (Cause.SCRIPT, self._script),
        ]

    # -- one after the other ---------------------------------------------------------------

    def _alternative(self, entry: Entry) -> str | None:
        group = self._managed.get(entry.path)
        return None if group is None else f"the system's choice of {group}"

    @cached_property
    def _managed(self) -> dict[str, str]:
        links = self._system.managed_links
        return {self._system.real(link.path): link.group for link in links.values()}

    def _bytecode(self, entry: Entry) -> str | None:
        source = source_of_bytecode(entry.path)
        return f"made of {source}" if source in self._owned else None

    def _diverted(self, entry: Entry) -> str | None:
        one = self._relocated.get(entry.path)
        return None if one is None else f"in the place of a file that is diverted to {one}"

    @cached_property
    def _relocated(self) -> dict[str, str]:
        every = self._system.relocations
        return {self._system.real(one.original): one.moved_to for one in every}

    def _temporary(self, entry: Entry) -> str | None:
        for path, file in self._exact.get(entry.path, ()):
            return f"{path} by {file}"
        above = entry.path
        while self._copied and (above := above.rpartition("/")[0]):
            if above in self._copied:
                return f"{above} by {self._copied[above]}"
        told = self._globs.last(entry.path) if self._globs else None
        return f"{told.text} by {told.place}" if told else None

    @cached_property
    def _every_rule(self) -> list[tuple[Rule, str]]:
        return [
            (rule, file)
            for file in self._files(places.TEMPORARY, ".conf")
            for rule in read_rules(
                read_or_report(self._system.tree, file, self._system.report, _LIMIT)
            )
        ]

    @cached_property
    def _exact(self) -> dict[str, list[tuple[str, str]]]:
        found: dict[str, list[tuple[str, str]]] = {}
        for rule, file in self._every_rule:
            if not rule.patterned:
                found.setdefault(self._system.real(rule.path), []).append((rule.path, file))
        return found

    @cached_property
    def _copied(self) -> dict[str, str]:
        """What is copied with all that lies below it, and the file that says so."""
        return {rule.path: file for rule, file in self._every_rule if rule.copies}

    @cached_property
    def _globs(self) -> Expressions:
        told = (Told(rule.path, file) for rule, file in self._every_rule if rule.patterned)
        what = "what is made at the start"
        return Expressions(told, partial(glob, parts=True), what, self._system.report)

    def _files(self, folders: tuple[str, ...], ending: str) -> Iterator[str]:
        for folder in folders:
            for name in names_in(self._system.tree, folder, self._system.report):
                if name.endswith(ending):
                    yield f"{folder}/{name}"

    def _account(self, entry: Entry) -> str | None:
        if not places.ACCOUNTS.fullmatch(entry.path) or not self._has_users:
            return None
        return "accounts are declared, and made here"

    @cached_property
    def _has_users(self) -> bool:
        return any(True for _ in self._files(places.USERS, ".conf"))

    def _kept(self, entry: Entry) -> str | None:
        for ending in self._system.database.kept_endings:
            if (
                entry.path.endswith(ending)
                and (path := entry.path.removesuffix(ending)) in self._owned
            ):
                return f"another state of {path}, kept when its package changed"
        return None

    def _database(self, entry: Entry) -> str | None:
        keeper = self._system.database.keeper_of(entry.path)
        return None if keeper is None else f"part of the record of {keeper.name}"

    def _log(self, entry: Entry) -> str | None:
        return "it lies among the logs" if entry.path.startswith("/var/log/") else None

    def _link(self, entry: Entry) -> str | None:
        if entry.kind is not Kind.LINK:
            return None
        try:
            target = self._system.tree.real_path(entry.path)
        except AccessError:
            return None
        if target != entry.path and (target in self._owned or self._system.owners_of(target)):
            return f"it leads to {target}, which is a package's"
        return None

    def _script(self, entry: Entry) -> str | None:
        name = self._named.get(entry.path)
        return None if name is None else f"a script of {name} speaks of it"

    @cached_property
    def _named(self) -> dict[str, str]:
        """Paths that stand in maintainers' scripts, with the package."""
        database = self._system.database
        found: dict[str, str] = {}
        for package in self._system.packages:
            if package.state.present:
                for text in database.script_texts(package):
                    for path in _NAMED.findall(text):
                        found.setdefault(path, package.name)
        return found
