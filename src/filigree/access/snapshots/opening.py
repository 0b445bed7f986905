"""A snapshot, opened: the tree that was recorded in it."""

from functools import cached_property
from typing import Any

from filigree.access.snapshots.record import SnapshotContents, SnapshotRecord, check_form
from filigree.access.sqlite_file import SqliteFile
from filigree.access.trees.directory import DirectoryTree
from filigree.access.trees.recorded import RecordedTree
from filigree.model.errors import AccessError, NoSystem, words_of
from filigree.model.snapshots import SnapshotFacts


class SnapshotTree(RecordedTree):
    """What a root was when a snapshot was taken of it. `file` is where the snapshot lies."""

    def __init__(self, root: str, record: SnapshotRecord) -> None:
        super().__init__(root, record, SnapshotContents(record))
        self.record = record

    @cached_property
    def taken(self) -> SnapshotFacts:  # type: ignore[override]
        """What it says of its own taking."""
        told: dict[str, Any] = dict(self.record.asked("SELECT name, value FROM about LIMIT 99"))

        def text(name: str) -> str:
            return str(told.get(name, ""))[:4096]

        def count(table: str) -> int:
            return int(next(self.record.asked(f"SELECT count(*) FROM {table}"))[0])

        return SnapshotFacts(
            began=text("began"), ended=text("ended"), taken_by=text("taken-by"),
            version=text("version"), root=text("root"), family=text("family"),
            host=text("host") or None, machine=text("machine") or None, label=text("label") or None,
            options=tuple(filter(None, text("options").split("\n"))),
            paths=count("entries"), changed=count("changed"), gaps=count("gaps"),
            signed=bool(count("signatures")),
        )  # fmt: skip


def open_snapshot(path: str) -> SnapshotTree:
    """The tree of a snapshot. Raises NoSystem where it is none that can be read."""
    outside = DirectoryTree("/")
    try:
        file = SqliteFile(outside, path)
    except AccessError as error:
        raise NoSystem(f"it cannot be opened: {words_of(error)}", path) from error
    try:
        check_form(file, path)
        return SnapshotTree(path, SnapshotRecord(file, path))
    except AccessError as error:
        file.close()
        raise NoSystem(words_of(error), path) from error
    except NoSystem:
        file.close()
        raise
