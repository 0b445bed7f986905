"""What happened on a `deb` system: one log tells every step, another who asked for what.

The steps are those of the first; each belongs to the transaction of the second that names its package
and in whose time it was done, or else to one start of the program that did it. What only the second
tells is told by its time.
"""

from collections.abc import Collection, Iterator
from datetime import UTC, datetime

from filigree.access.trees.protocol import Tree
from filigree.families.deb import places
from filigree.families.protocol import Report
from filigree.families.shared.logs import Runs, event_of, log_files
from filigree.formats.change_logs import Logged, read_deb_log, read_deb_runs
from filigree.formats.deb.transactions import Transaction, TransactionStep, read_transactions
from filigree.model.events import Action, Clock, Event, Session

_ALWAYS = datetime.max.replace(tzinfo=UTC)
_What = tuple[Action, str, str]


class _Run:
    """A transaction, and those of its steps that the other log has not told so far."""

    def __init__(self, place: str, told: Transaction) -> None:
        self.session = Session(
            f"{place}@{told.offset}", told.began, told.ended, told.user, told.command, told.outcome,
            place,
        )  # fmt: skip
        self.left: dict[_What, list[TransactionStep]] = {}
        for step in told.steps:
            self.left.setdefault(step[:3], []).append(step)

    def spans(self, at: datetime | None) -> bool:
        """Whether it was under way at a time."""
        began, ended = self.session.began, self.session.ended or _ALWAYS
        return at is not None and began is not None and began <= at <= ended

    def tells(self, one: Logged) -> bool:
        """Whether it names a step, which then is told. Of packages for every architecture it tells the
        system's own."""
        machine = one.architecture
        steps = self.left.get((one.action, one.name, one.version), [])
        for step in steps:
            if machine in (None, "all", step.architecture) or step.architecture is None:
                steps.remove(step)
                return True
        return False


class DebHistory:
    """What the two logs of a root tell."""

    arrivals = True

    def __init__(self, tree: Tree, report: Report) -> None:
        self._tree = tree
        self._report = report

    def events(self, names: Collection[str] | None = None) -> Iterator[Event]:
        runs = [
            _Run(place, one)
            for place, data in log_files(self._tree, places.TRANSACTIONS, self._report)
            for one in read_transactions(data, names)
        ]
        asked: dict[_What, list[_Run]] = {}
        for run in runs:
            for what in run.left:
                asked.setdefault(what, []).append(run)
        for place, data in log_files(self._tree, places.LOG, self._report):
            starts = Runs(place, read_deb_runs(data))
            for one in read_deb_log(data, names):
                done = next(
                    (
                        run
                        for run in asked.get((one.action, one.name, one.version), ())
                        if run.spans(one.at) and run.tells(one)
                    ),
                    None,
                )
                yield event_of(one, place, done.session if done else starts.at(one.offset))
        for run in runs:
            for steps in run.left.values():
                for step in steps:
                    yield Event(
                        run.session.began, *step, run.session.told_in, Clock.LOCAL_LOG, run.session
                    )
