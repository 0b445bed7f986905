"""What a `deb` system writes of what was asked of it, a stanza a transaction.

    Start-Date: 2026-01-12  08:30:00
    Commandline: PROGRAM ARGUMENT…
    Requested-By: NAME (NUMBER)
    Install: NAME:ARCHITECTURE (VERSION[, automatic]), …
    Upgrade: NAME:ARCHITECTURE (OLD, NEW), …
    Error: SENTENCE
    End-Date: 2026-01-12  08:30:07

Times are in the system's own zone, which is not told: they are taken for UTC. A transaction without an
end is one that did not come to it.
"""

import re
from collections.abc import Collection, Iterator
from datetime import UTC, datetime
from typing import NamedTuple

from filigree.formats.damage import text_of
from filigree.model.events import Action, Outcome

_ITEM = re.compile(r"([^\s:(),]+)(?::([^\s:(),]+))? \(([^()]*)\)")
_DATE = re.compile(r"(\d{4}-\d\d-\d\d) +(\d\d:\d\d:\d\d)")
_DONE: dict[str, tuple[Action, ...]] = {
    "Install": (Action.INSTALLED,), "Reinstall": (Action.REPLACED, Action.INSTALLED),
    "Upgrade": (Action.REPLACED, Action.INSTALLED), "Downgrade": (Action.REPLACED, Action.INSTALLED),
    "Remove": (Action.REMOVED,), "Purge": (Action.REMOVED,),
}  # fmt: skip


class TransactionStep(NamedTuple):
    """One thing that a transaction was to do: the version that came or went."""

    action: Action
    name: str
    version: str
    architecture: str | None


class Transaction(NamedTuple):
    """One stanza; `offset` is where in the log it starts, in bytes."""

    offset: int
    began: datetime | None
    ended: datetime | None
    user: str | None
    command: str | None
    outcome: Outcome
    steps: list[TransactionStep]


def read_transactions(data: bytes, names: Collection[str] | None = None) -> Iterator[Transaction]:
    """Every transaction of a log, with its steps of packages of these names, or of all."""
    offset = 0
    for block in re.split(rb"\n[ \t\r]*\n", data):
        at = data.find(block, offset)
        offset = at + len(block)
        lead = len(block) - len(block.lstrip())
        fields: dict[str, str] = {}
        for line in text_of(block).split("\n"):
            name, mark, value = line.partition(":")
            if mark and name not in fields:
                fields[name] = value.strip()
        if "Start-Date" in fields:
            yield _transaction(at + lead, fields, names)


def _transaction(offset: int, fields: dict[str, str], names: Collection[str] | None) -> Transaction:
    ended = _moment(fields.get("End-Date", ""))
    outcome = Outcome.COMPLETED if "End-Date" in fields else Outcome.UNFINISHED
    if "Error" in fields:
        outcome = Outcome.FAILED
    steps: list[TransactionStep] = []
    for what, actions in _DONE.items():
        for found in _ITEM.finditer(fields.get(what, "")):
            name, machine, told = found.groups()
            if names is not None and name not in names:
                continue
            versions = [one.strip() for one in told.split(",") if one.strip() != "automatic"]
            if not versions:
                continue
            for action in actions:
                version = versions[-1] if action is Action.INSTALLED else versions[0]
                steps.append(TransactionStep(action, name, version, machine))
    return Transaction(
        offset, _moment(fields["Start-Date"]), ended, fields.get("Requested-By") or None,
        fields.get("Commandline") or None, outcome, steps,
    )  # fmt: skip


def _moment(text: str) -> datetime | None:
    found = _DATE.fullmatch(text)
    if found is None:
        return None
    try:
        return datetime.fromisoformat(f"{found[1]}T{found[2]}").replace(tzinfo=UTC)
    except ValueError:
        return None
