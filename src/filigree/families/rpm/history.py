"""Why packages are installed, and from which repository: out of whichever history the root has.

Three forms are known: two tables of text in the newest, a database of transactions before that, and
one folder a package in the oldest. What a newer one says goes before.
"""

import tomllib
from collections.abc import Collection, Iterable, Iterator, Mapping
from contextlib import contextmanager
from datetime import datetime
from typing import Any, NamedTuple

from filigree.access.sqlite_file import SqliteFile
from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Report
from filigree.families.rpm import places
from filigree.families.shared.logs import event_of, log_files
from filigree.families.shared.looking import names_in, read_or_report
from filigree.formats.change_logs import read_rpm_log
from filigree.formats.damage import text_of
from filigree.formats.random_access import ContainerError
from filigree.formats.version_parts import split_version
from filigree.model.answer import Gap, moment_of
from filigree.model.errors import AccessError, words_of
from filigree.model.events import Action, Clock, Event, Outcome, Session
from filigree.model.package import Reason

_QUERY = (
    "SELECT rpm.name, rpm.epoch, rpm.version, rpm.release, rpm.arch, trans_item.reason, repo.repoid"
    " FROM trans_item JOIN rpm ON rpm.item_id = trans_item.item_id"
    " LEFT JOIN repo ON repo.id = trans_item.repo_id ORDER BY trans_item.id"
)
_TABLES = frozenset({"rpm", "trans_item", "repo"})
_NONE = ("", "unknown", "@System", "@commandline")


_EVENTS = (
    "SELECT rpm.name, rpm.epoch, rpm.version, rpm.release, rpm.arch, trans_item.action, trans.id"
    " FROM trans_item JOIN rpm ON rpm.item_id = trans_item.item_id"
    " JOIN trans ON trans.id = trans_item.trans_id ORDER BY trans.id, trans_item.id"
)
_ACTIONS: Mapping[object, Action] = {
    1: Action.INSTALLED, 2: Action.INSTALLED, 3: Action.REPLACED, 5: Action.REPLACED,
    6: Action.INSTALLED, 7: Action.REPLACED, 8: Action.REMOVED, 9: Action.INSTALLED,
    10: Action.REPLACED,
}  # fmt: skip
"""By their numbers; a downgrade and an upgrade are both of the version that came."""


_NEWER = (
    "SELECT pkg_name.name, rpm.epoch, rpm.version, rpm.release, {machines}.name,"
    " trans_item_action.name, trans.id"
    " FROM trans_item JOIN rpm ON rpm.item_id = trans_item.item_id"
    " JOIN trans ON trans.id = trans_item.trans_id"
    " JOIN trans_item_action ON trans_item_action.id = trans_item.action_id"
    " JOIN pkg_name ON pkg_name.id = rpm.name_id JOIN {machines} ON {machines}.id = rpm.arch_id"
    " ORDER BY trans.id, trans_item.id"
)
_NEWER_TABLES = frozenset({"rpm", "trans", "trans_item", "trans_item_action", "pkg_name"})
_NEWER_ACTIONS: Mapping[object, Action] = {
    "Install": Action.INSTALLED, "Upgrade": Action.INSTALLED, "Downgrade": Action.INSTALLED,
    "Reinstall": Action.INSTALLED, "Replaced": Action.REPLACED, "Remove": Action.REMOVED,
}  # fmt: skip


_SESSION = ("dt_begin", "dt_end", "user_id", "cmdline", "description", "state", "state_id")
"""What of a transaction is told, in one form of such a database or another."""
_NOBODY = (None, "", -1, 0xFFFFFFFF)
_OUTCOMES: Mapping[object, Outcome] = {
    0: Outcome.UNFINISHED, 1: Outcome.COMPLETED, 2: Outcome.FAILED, "Started": Outcome.UNFINISHED,
    "Ok": Outcome.COMPLETED, "Error": Outcome.FAILED,
}  # fmt: skip
"""How one ended: by number in the older form, by word in the newer."""


def _sessions_in(file: SqliteFile, path: str) -> dict[object, Session]:
    """The transactions themselves, by their numbers. What a form does not tell is None."""
    there = [column for column in _SESSION if column in file.columns("trans")]
    words = (
        dict(file.rows("SELECT id, name FROM trans_state"))
        if "trans_state" in file.tables()
        else {}
    )
    found: dict[object, Session] = {}
    for number, *values in file.rows(f"SELECT id, {', '.join(there) or 'NULL'} FROM trans"):
        told = dict(zip(there, values, strict=False))
        began, ended = (
            moment_of(at) if isinstance(at := told.get(name), int) else None
            for name in ("dt_begin", "dt_end")
        )
        state = told.get("state", words.get(told.get("state_id")))
        user = told.get("user_id")
        command = _text(told.get("cmdline")) or _text(told.get("description"))
        found[number] = Session(
            f"{path}@{number}", began, ended, None if user in _NOBODY else str(user),
            command or None, _OUTCOMES.get(state), path,
        )  # fmt: skip
    return found


def transactions(tree: Tree, names: Collection[str] | None, report: Report) -> Iterator[Event]:
    """What the histories of a root tell of packages of these names, or of all.

    The logs tell the same steps over again: they are asked for those before the first transaction only.
    """
    first: datetime | None = None
    for path in (places.HISTORY, places.TRANSACTIONS):
        for event in _transactions_in(tree, path, report):
            if event.at is not None and (first is None or event.at < first):
                first = event.at
            if names is None or event.name in names:
                yield event
    for path in places.LOGS:
        for place, data in log_files(tree, path, report):
            for one in read_rpm_log(data, names):
                if first is None or one.at is None or one.at < first:
                    yield event_of(one, place)


def _transactions_in(tree: Tree, path: str, report: Report) -> Iterator[Event]:
    """The steps that a database of transactions tells, of either form."""
    with _opened(tree, path, report) as file:
        if file is None:
            return
        tables = file.tables()
        machines = next((one for one in ("arch", "pkg_arch") if one in tables), None)
        actions = _ACTIONS
        if tables >= _TABLES | {"trans"} and "pkg_name" not in tables:
            query = _EVENTS
        elif tables >= _NEWER_TABLES and machines is not None:
            query, actions = _NEWER.format(machines=machines), _NEWER_ACTIONS
        else:
            report(Gap(path, "it is a history in a form that is not known"))
            return
        sessions = _sessions_in(file, path)
        for name, epoch, version, release, machine, action, number in file.rows(query):
            done = actions.get(action)
            if done is None:
                continue
            front = f"{epoch}:" if epoch not in (None, 0, "0", "") else ""
            session = sessions.get(number)
            yield Event(
                session.began if session else None, done, str(name), f"{front}{version}-{release}",
                str(machine), path, Clock.LOG, session,
            )  # fmt: skip


@contextmanager
def _opened(tree: Tree, path: str, report: Report) -> Iterator[SqliteFile | None]:
    """A database of transactions; None where there is none. What cannot be read of it is reported."""
    file = None
    try:
        file = SqliteFile(tree, path) if tree.exists(path) else None
    except (AccessError, ContainerError) as error:
        report(Gap(path, words_of(error)))
    try:
        yield file
    except (AccessError, ContainerError) as error:
        report(Gap(path, words_of(error)))
    finally:
        if file is not None:
            file.close()


class RpmHistory:
    """What the histories and logs of a root tell."""

    arrivals = True

    def __init__(self, tree: Tree, report: Report) -> None:
        self._tree = tree
        self._report = report

    def events(self, names: Collection[str] | None = None) -> Iterator[Event]:
        return transactions(self._tree, names, self._report)


class Origin(NamedTuple):
    """Why a package is installed and where it came from; None where nothing tells."""

    reason: Reason | None = None
    repository: str | None = None


class Origins:
    """What the histories say, by name and architecture, and by full version."""

    def __init__(self, tree: Tree, report: Report) -> None:
        self._tree = tree
        self._report = report
        self._reasons: dict[str, Reason] = {}
        self._exact: dict[str, Origin] = {}
        for part in (self._oldest, self._transactions, self._newest):
            part()

    def of(self, name: str, full: str, architecture: str) -> Origin:
        """What is known of one package, by its name, full version and architecture."""
        if not self._exact and not self._reasons:
            return Origin()
        epoch, version, release = split_version(full)
        key = f"{name}-{epoch or 0}:{version}-{release or ''}.{architecture}"
        exact = self._exact.get(key, Origin())
        reason = self._reasons.get(f"{name}.{architecture}", exact.reason)
        return Origin(reason, exact.repository)

    def _newest(self) -> None:
        for name, facts in self._table(places.REASONS, "packages"):
            reason = reason_of(_text(facts.get("reason")))
            if reason is not None:
                self._reasons[name] = reason
        for name, facts in self._table(places.SOURCES, "nevras"):
            self._note(name, None, _text(facts.get("from_repo")))

    def _table(self, path: str, name: str) -> Iterable[tuple[str, dict[str, Any]]]:
        data = read_or_report(self._tree, path, self._report)
        try:
            table = tomllib.loads(data.decode()).get(name, {})
        except (ValueError, RecursionError) as error:
            self._report(Gap(path, f"it is no table: {error}"))
            return []
        if not isinstance(table, dict):
            return []
        return [(key, facts) for key, facts in table.items() if isinstance(facts, dict)]

    def _transactions(self) -> None:
        with _opened(self._tree, places.HISTORY, self._report) as file:
            if file is None or not file.tables() >= _TABLES:
                return
            for name, epoch, version, release, machine, reason, source in file.rows(_QUERY):
                full = f"{name}-{epoch or 0}:{version}-{release}.{machine}"
                known = reason_of(reason) if isinstance(reason, (int, str)) else None
                self._note(full, known, _text(source))

    def _oldest(self) -> None:
        for letter in names_in(self._tree, places.OLD_STATE, self._report):
            for folder in names_in(self._tree, f"{places.OLD_STATE}/{letter}", self._report):
                path = f"{places.OLD_STATE}/{letter}/{folder}"
                # The folder is called after a digest, the name, version, release, architecture.
                parts = folder.partition("-")[2].rsplit("-", 3)
                if len(parts) == 4:
                    name, version, release, machine = parts
                    full = f"{name}-0:{version}-{release}.{machine}"
                    self._note(full, reason_of(self._line(f"{path}/reason")),
                               self._line(f"{path}/from_repo"))  # fmt: skip

    def _note(self, full: str, reason: Reason | None, repository: str | None) -> None:
        known = self._exact.get(full, Origin())
        if repository in _NONE:
            repository = None
        self._exact[full] = Origin(reason or known.reason, repository or known.repository)

    def _line(self, path: str) -> str:
        return text_of(read_or_report(self._tree, path, self._report)).strip()


def _text(value: object) -> str | None:
    return value if isinstance(value, str) else None


def reason_of(word: str | int | None) -> Reason | None:
    """Why a package is installed, by the word or number of any history; None where it is not known.

    What came with a group was chosen with the group.
    """
    return _REASONS.get(word.lower() if isinstance(word, str) else word)


_REASONS: dict[str | int | None, Reason] = {
    1: Reason.DEPENDENCY, 2: Reason.CHOSEN, 3: Reason.CHOSEN, 4: Reason.DEPENDENCY,
    5: Reason.CHOSEN, "dep": Reason.DEPENDENCY, "dependency": Reason.DEPENDENCY,
    "weak dependency": Reason.DEPENDENCY, "weak-dependency": Reason.DEPENDENCY,
    "user": Reason.CHOSEN, "group": Reason.CHOSEN, "external user": Reason.CHOSEN,
}  # fmt: skip
