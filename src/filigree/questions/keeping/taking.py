"""Takes a snapshot: everything below a root is looked at once, and what questions read is kept.

Rules, before the code that keeps them:

- Every path is walked first, and looked at a second time when its content is digested: what was another
  thing by then is told as changed. A directory that was not looked into is told, too.
- Digested is what is on record, by the algorithm of the record and by SHA-256, and what can be run and is
  nobody's. Kept are the contents of what questions read, and no others.
"""

import hashlib
import stat
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import partial
from typing import NamedTuple

from filigree.access.snapshots.form import VERSION, EntryRow
from filigree.access.snapshots.writing import SecondLook, SnapshotWriter, row_of
from filigree.access.trees.walking import BY_KERNEL, kinds_of_file_systems
from filigree.access.workers import processors, share
from filigree.families.registry import is_archive_name
from filigree.model.answer import Answer, Gap, iso
from filigree.model.errors import AccessError, Obstacle
from filigree.questions.keeping.reading import (
    ARCHIVES,
    READERS,
    OnRecord,
    RecordReader,
    WhatWasRead,
    ask,
)
from filigree.questions.keeping.statement import signed
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System

_LARGEST = 1 << 30
_CHUNK = 400
_WAVE = 80 * _CHUNK
_PACKAGES = 20
_PACE = 4096
_WORTH_A_TRIAL = 8
"""So many jobs, of hundreds of files each, are worth it."""


class TakingProgress(NamedTuple):
    """How far a snapshot has come: what is being done, so many of so many (0 where nobody knows)."""

    what: str
    done: int
    total: int


@dataclass(frozen=True, slots=True)
class Taking:
    """How a snapshot is taken: by whom, with which version of the product, under which label.

    With `everything` all files are digested; without `indexes` the contents of indexes are left out; with
    `settings` the contents of edited settings are kept, with `archives` those of the archives that the
    system keeps. `key` is a secret key to sign with.
    """

    taken_by: str
    version: str
    label: str | None = None
    everything: bool = False
    indexes: bool = True
    settings: bool = False
    archives: bool = False
    key: bytes | None = None
    progress: Callable[[TakingProgress], None] | None = None

    @property
    def options(self) -> tuple[str, ...]:
        """What was asked for besides the usual, in words."""
        told = (
            (self.everything, "digests of all files"), (not self.indexes, "without indexes"),
            (self.settings, "with edited settings"), (self.archives, "with archives"),
        )  # fmt: skip
        return tuple(words for holds, words in told if holds)


@dataclass(frozen=True, slots=True)
class SnapshotRow:
    """A snapshot that was taken: how many paths it tells of, of how many files it has digests, how many
    contents, how many files changed meanwhile. `size` is that of the file, in bytes."""

    file: str
    size: int
    began: str
    ended: str
    paths: int
    digested: int
    contents: int
    contents_size: int
    changed: int
    unread: int
    unlisted: int
    signed: bool
    host: str | None
    label: str | None


@dataclass(frozen=True, slots=True)
class SnapshotSummary:
    """How many packages are on record, and how long it took, in seconds."""

    packages: int
    seconds: float


_Job = tuple[str, tuple[str, ...]]


def snapshot(
    system: System, out: str, how: Taking, options: RepositoryOptions = EVERYTHING
) -> Answer[SnapshotRow, SnapshotSummary]:
    """Take a snapshot of a root, and put it at `out`, whole or not at all.

    Raises BadQuestion where nothing can be written there.
    """
    writer = SnapshotWriter(out)
    try:
        row, seconds = _Taker(system, writer, how, options).taken(out)
    except BaseException:
        writer.discard()
        raise
    summary = SnapshotSummary(len(system.packages), seconds)
    return Answer("snapshot", system.system_label, [row], summary, system.gaps)


class _Taker:
    def __init__(
        self, system: System, writer: SnapshotWriter, how: Taking, options: RepositoryOptions
    ) -> None:
        self._system = system
        self._tree = system.tree
        self._writer = writer
        self._how = how
        self._options = options._replace(quiet=True, progress=None, working=None)
        self._unwalked: list[str] = []
        self._workers: int | None = None
        self._contents: dict[str, None] = {}
        self._counts = {"paths": 0, "digested": 0, "contents": 0, "size": 0}
        self._unread = self._done = self._asked = 0

    def taken(self, out: str) -> tuple[SnapshotRow, float]:
        began = datetime.now(UTC)
        self._walk()
        self._ask()
        self._portray()
        self._keep_contents()
        ended = datetime.now(UTC)
        for what, why in self._system.gaps:
            self._writer.gap(what, why)
        about = self._about(began, ended)
        made = self._writer.lay(about, kinds_of_file_systems())
        if self._how.key is not None:
            made.execute("INSERT INTO signatures VALUES (?, ?)", signed(made, self._how.key))
        counts = {**self._counts, "changed": self._writer.changed_count()}
        size = self._writer.keep()
        row = SnapshotRow(
            file=out, size=size, began=about["began"], ended=about["ended"], paths=counts["paths"],
            digested=counts["digested"], contents=counts["contents"],
            contents_size=counts["size"], changed=counts["changed"], unread=self._unread,
            unlisted=len(self._unwalked), signed=self._how.key is not None,
            host=about.get("host"), label=self._how.label,
        )  # fmt: skip
        return row, (ended - began).total_seconds()

    def _about(self, began: datetime, ended: datetime) -> dict[str, str]:
        host = self._line("/etc/hostname")
        machine = self._line("/etc/machine-id")
        told = {
            "form": str(VERSION), "began": iso(began), "ended": iso(ended),
            "taken-by": self._how.taken_by, "version": self._how.version,
            "root": self._system.root, "family": self._system.family.name, "host": host,
            "machine": hashlib.sha256(machine.encode()).hexdigest() if machine else None,
            "label": self._how.label, "options": "\n".join(self._how.options),
        }  # fmt: skip
        return {name: value for name, value in told.items() if value is not None}

    def _line(self, path: str) -> str | None:
        try:
            data = self._tree.read_or_none(path, 4096) or b""
        except AccessError:
            return None
        return data.decode("utf-8", "replace").strip().partition("\n")[0] or None

    # -- the steps -------------------------------------------------------------------------

    def _walk(self) -> None:
        self._writer.seen("/", row_of(self._tree.portray("/")))
        count = 1
        own = self._writer.place_below(self._system.root)  # what is being written is none of it
        for found in self._tree.walk("/", others=True, made_up=True):
            if isinstance(found, Gap):
                self._writer.unlisted(*found)
                self._unwalked.append(found.what)
                if not found.why.startswith(BY_KERNEL):
                    self._system.report(found)
                continue
            if own is not None and (found.path == own or found.path.startswith(f"{own}/")):
                continue
            self._writer.walked(found)
            count += 1
            if count % _PACE == 0:
                self._say("paths seen", count, 0)
        self._counts["paths"] = count

    def _ask(self) -> None:
        names = sorted({package.name for package in self._system.packages})
        asking: list[_Job] = [(name, ()) for name in READERS]
        asking += [(ARCHIVES, ())] if self._how.archives else []
        records: list[_Job] = [
            ("", tuple(names[at : at + _PACKAGES])) for at in range(0, len(names), _PACKAGES)
        ]
        unwalked = tuple(self._unwalked)
        on_record = RecordReader(self._tree, self._how.settings)

        def work(job: _Job) -> WhatWasRead | OnRecord:
            name, packages = job
            if name:
                return ask(self._tree, name, unwalked, self._options)
            return on_record(packages)

        total = len(asking) + len(records)
        for jobs in (asking, records):  # by a crew each: what questions take is let go of
            for done in share(jobs, work):
                self._asked += 1
                self._say("questions asked", self._asked, total)
                self._noted(jobs[done.place], done.result, done.failure)
        kept = [path for path in self._contents if not self._is_left_out(path)]
        self._contents = dict.fromkeys(sorted(kept))
        self._writer.want((path, "sha256") for path in self._contents)
        self._writer.want_all(programs=not self._how.everything)

    def _noted(self, job: _Job, found: WhatWasRead | OnRecord | None, failure: str | None) -> None:
        name, packages = job
        if isinstance(found, OnRecord):
            self._writer.want(found.digests)
            self._contents.update(dict.fromkeys((*found.contents, *found.edited)))
            for gap in found.gaps:
                self._system.report(gap)
            return
        if isinstance(found, WhatWasRead):
            self._contents.update(dict.fromkeys(found.contents))
            self._writer.want((path, "sha256") for path in found.looked)
            failure = found.failure
        if failure is not None:
            what = f"what `{name}` reads" if name else f"the files of {packages[0]} and others"
            self._system.report(Gap(what, failure))

    def _is_left_out(self, path: str) -> bool:
        folders = self._system.database.archive_folders()
        if not self._how.archives and _is_below(path, folders) and is_archive_name(path):
            return True
        indexes = self._system.database.index_folders()
        return not self._how.indexes and _is_below(path, indexes)

    def _portray(self) -> None:
        after: str | None = None
        while wave := self._writer.left(_WAVE, after):
            after = wave[-1].path
            self._look_at(wave)
        self._look_at(self._writer.elsewhere())

    def _look_at(self, wave: list[SecondLook]) -> None:
        jobs = [wave[at : at + _CHUNK] for at in range(0, len(wave), _CHUNK)]
        for done in share(jobs, self._rows, self._workers_for(jobs)):
            job = jobs[done.place]
            why = done.failure or "it failed"
            if done.result is None:
                self._system.report(Gap(f"{len(job)} paths from {job[0].path} on", why))
            for number, look in enumerate(job):
                lost = AccessError(Obstacle.FAILED, look.path, why)
                self._took(look, *(done.result[number] if done.result else (None, lost)))
            self._done += len(job)
            self._say("files read", self._done, self._counts["paths"])

    def _workers_for(self, jobs: Sequence[Sequence[SecondLook]]) -> int | None:
        """How many are of use: told by a trial where enough is to be read, and kept to from then on."""
        if self._workers is None and len(jobs) >= _WORTH_A_TRIAL:
            groups = [partial(_to_be_read, job) for job in jobs]
            self._workers = self._tree.useful_workers(groups, processors())
        return self._workers

    def _rows(self, job: Sequence[SecondLook]) -> list[tuple[EntryRow | None, AccessError | None]]:
        found: list[tuple[EntryRow | None, AccessError | None]] = []
        for path, wanted, _ in job:
            try:
                found.append((row_of(self._tree.portray(path, wanted)), None))
            except AccessError as error:
                found.append((self._form_of(path), error))
        return found

    def _form_of(self, path: str) -> EntryRow | None:
        """What can be told of a file that cannot be read."""
        try:
            return row_of(self._tree.portray(path))
        except AccessError:
            return None

    def _took(self, look: SecondLook, row: EntryRow | None, error: AccessError | None) -> None:
        path, wanted, before = look
        if row is not None:
            self._writer.seen(path, row)
            self._counts["digested"] += row.sha256 is not None
            now = row[:7]
            if before is not None and before != now and stat.S_ISREG(row.mode):
                self._writer.changed(path)
        if error is None or (error.absent and before is None):
            return
        if error.absent:
            self._writer.changed(path)  # it went while we looked
            return
        if row is None:
            self._writer.as_walked(path)
        self._unread += 1
        self._writer.unread(path, error)
        if wanted:
            self._system.report(Gap(path, error.what))

    def _keep_contents(self) -> None:
        for count, path in enumerate(self._contents, 1):
            self._say("contents kept", count, len(self._contents))
            digest = self._writer.digest_of(path)
            if digest is None:
                continue  # why, was told when it was to be digested
            try:
                size = self._writer.content(digest, self._pieces(path))
            except AccessError as error:
                self._system.report(Gap(path, error.what))
                continue
            if size is None:
                why = "it changed while it was read: its content is not kept"
                self._system.report(Gap(path, why))
                self._writer.changed(path)
                continue
            self._counts["contents"] += 1
            self._counts["size"] += size

    def _pieces(self, path: str) -> Iterator[bytes]:
        total = 0
        for piece in self._tree.pieces(path):
            total += len(piece)
            if total > _LARGEST:
                raise AccessError(Obstacle.TOO_LARGE, path, "its content is not kept")
            yield piece

    def _say(self, what: str, done: int, total: int) -> None:
        if self._how.progress is not None:
            self._how.progress(TakingProgress(what, done, total))


def _to_be_read(looks: Sequence[SecondLook]) -> list[str]:
    return [one.path for one in looks if one.algorithms]


def _is_below(path: str, folders: Sequence[str]) -> bool:
    return any(path.startswith(f"{folder.rstrip('/')}/") for folder in folders)
