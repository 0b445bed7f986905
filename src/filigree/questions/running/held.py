"""Files that processes hold, looked up in the records of one root: each path once."""

import os
import re
from collections.abc import Iterable
from functools import cached_property

from filigree.access.processes import HeldFile
from filigree.model.answer import Gap
from filigree.model.errors import AccessError
from filigree.model.files import Evidence, FileRecord, Verdict
from filigree.model.package import Package
from filigree.questions.commands.verify import verify
from filigree.questions.finding.ownership import OwnerSearch
from filigree.questions.offers.options import RepositoryOptions
from filigree.questions.running.rows import HeldRow, RunningState
from filigree.questions.verifying.judging import judge
from filigree.questions.verifying.verdicts import Manner
from filigree.system import System

_MODULE = re.compile(r"/([^/]+)\.ko(?:\.(?:xz|gz|zst))?$")


class RootOfProcesses:
    """One root with its records: each path is looked up and judged once."""

    def __init__(self, system: System) -> None:
        self.system = system
        self._search = OwnerSearch(system)
        self._known: dict[str, tuple[str | None, Verdict | None]] = {}
        self._better: dict[str, Evidence] | None = None

    def judge_by(self, least: Evidence, options: RepositoryOptions, paths: Iterable[str]) -> None:
        """Judge some paths by better evidence: what cannot be judged so has no verdict, and is a gap."""
        owners: dict[str, Package] = {}
        for path in paths:
            if path.startswith("/"):
                for owned in self._search.find(path):
                    owners.update((path, owner.package) for owner in owned.owners)
        labels = dict.fromkeys(package.label for package in owners.values())
        told = verify(
            self.system, labels, frozenset(Verdict), manner=Manner(least=least), options=options
        )
        verdicts = {self.system.real(row.path): row for row in told.records}
        self._better = {path: row.evidence for path, row in verdicts.items()}
        for path, package in owners.items():
            row = verdicts.get(path)
            self._known[path] = package.name, None if row is None else row.verdict

    def evidence(self, path: str) -> Evidence | None:
        """What the verdict on a path rests on; None where there is none."""
        if self._known.get(path, (None, None))[1] is None:
            return None
        return Evidence.RECORD if self._better is None else self._better.get(path)

    def held(self, held: HeldFile) -> HeldRow:
        """A file that a process holds."""
        package, verdict = self._judged(held.path)
        if held.on_disk is None:
            state = RunningState.GONE
        elif not held.same:
            state = RunningState.REPLACED
        else:
            state = RunningState.OF_NOBODY if package is None else RunningState.AS_ON_DISK
        return HeldRow(held.path, package, verdict, state)

    def on_disk(self, path: str) -> HeldRow:
        """A file that is there: nobody knows whether it is what was read when it was needed."""
        package, verdict = self._judged(path)
        state = RunningState.OF_NOBODY if package is None else RunningState.AS_ON_DISK
        return HeldRow(path, package, verdict, state)

    def script(self, path: str) -> HeldRow | None:
        """A script by its path; None where no regular file is there."""
        try:
            real = self.system.tree.real_path(path)
            if self.system.tree.observe(real).kind.value != "file":
                return None
        except AccessError:
            return None
        return self.on_disk(real)

    def _judged(self, path: str) -> tuple[str | None, Verdict | None]:
        if path not in self._known:
            self._known[path] = self._look(path)
        return self._known[path]

    def _look(self, path: str) -> tuple[str | None, Verdict | None]:
        if not path.startswith("/"):
            return None, None
        owners = [owner.package for owned in self._search.find(path) for owner in owned.owners]
        for package in owners:
            record = self._record(package, path)
            if record is not None:
                return package.name, judge(self.system, record, whose=package).verdict
        return (owners[0].name, None) if owners else (None, None)

    def _record(self, package: Package, path: str) -> FileRecord | None:
        name = path.rpartition("/")[2]
        for record in self.system.database.files(package):
            same = record.location.rpartition("/")[2] == name
            if same and self.system.real(record.location) == path:
                return record
        return None

    def open_places(self, path: str) -> list[str]:
        """The places above a program, and itself, that anybody may write to."""
        found: list[str] = []
        while path and path != "/":
            try:
                if self.system.tree.observe(path).mode & 0o002:
                    found.append(f"anybody may write to {path}")
            except AccessError:
                pass
            path = path.rpartition("/")[0]
        return found

    @cached_property
    def module_files(self) -> dict[str, str]:
        """Where the files of the running kernel's modules are, by name."""
        found: dict[str, str] = {}
        top = f"/lib/modules/{os.uname().release}"
        try:
            real = self.system.tree.real_path(top)
        except AccessError:
            return found
        if not self.system.tree.is_directory(real):
            return found
        for entry in self.system.tree.walk(real):
            if isinstance(entry, Gap):
                self.system.report(entry)
                continue
            match = _MODULE.search(entry.path)
            if match is not None:
                found[match[1].replace("-", "_")] = entry.path
        return found
