"""What happened on a `slackware` system: records of what was removed or replaced are kept."""

from collections.abc import Collection, Iterator, Sequence
from datetime import UTC, datetime

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Report
from filigree.families.shared.looking import names_in
from filigree.formats.slackware.names import split_gone, split_label
from filigree.model.answer import Gap, moment_of
from filigree.model.errors import AccessError
from filigree.model.events import Action, Clock, Event


class RemovedRecords:
    """The records in folders of what is gone, each called by what it was and when it went."""

    arrivals = False

    def __init__(self, tree: Tree, folders: Sequence[str], report: Report) -> None:
        self._tree = tree
        self._folders = folders
        self._report = report

    def events(self, names: Collection[str] | None = None) -> Iterator[Event]:
        """What was removed or replaced: a record of it is kept, called by the time."""
        for folder in self._folders:
            for name in names_in(self._tree, folder, self._report):
                gone = split_gone(name)
                label = split_label(gone.label)
                if names is not None and (label is None or label.name not in names):
                    continue
                if label is None:
                    self._report(Gap(f"{folder}/{name}", "it is not called as a package is"))
                    continue
                yield Event(
                    self._gone_at(f"{folder}/{name}", gone.moment),
                    Action.REPLACED if gone.moment else Action.REMOVED,
                    label.name, label.full_version, label.architecture, f"{folder}/{name}",
                    Clock.LOCAL_LOG if gone.moment else Clock.FILE,
                )  # fmt: skip

    def _gone_at(self, path: str, told: tuple[int, ...] | None) -> datetime | None:
        try:
            if told is not None:
                year, month, day, hour, minute, second = told
                return datetime(year, month, day, hour, minute, second, tzinfo=UTC)
            return moment_of(self._tree.observe(path).modified // 10**9)
        except (ValueError, AccessError):
            return None
