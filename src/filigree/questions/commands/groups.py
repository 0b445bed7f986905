"""Groups: packages that are offered together, and which of them are installed."""

import fnmatch
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from filigree.model.answer import Answer
from filigree.model.repositories import Group, Membership
from filigree.questions.asking.silence import report_silence
from filigree.questions.asking.subjects import close_names
from filigree.questions.offers.catalogue import open_catalogue
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System


@dataclass(frozen=True, slots=True)
class GroupMember:
    """One member: how firmly it belongs, whether it is installed, and whether it is offered."""

    name: str
    membership: Membership
    installed: bool
    offered: bool


@dataclass(frozen=True, slots=True)
class GroupRow:
    """One group. `installed` and `missing` count its members; optional ones are never missing.

    `groups` are the groups that it is made of, if it is made of groups; their members are its own.
    """

    identity: str
    name: str
    summary: str | None
    repository: str
    installed: int
    missing: int
    members: list[GroupMember]
    groups: list[str]


@dataclass(frozen=True, slots=True)
class GroupsSummary:
    """How many groups are told, how many of them are `whole` here, and what of their members is."""

    groups: int
    whole: int
    installed: int
    missing: int


def groups(
    system: System, wanted: Iterable[str] = (), options: RepositoryOptions = EVERYTHING
) -> Answer[GroupRow, GroupsSummary]:
    """Which groups the repositories tell of, or those called one of `wanted`, with their members.

    A group is called by its identity, its name, or a glob of one. Bad news where none is called so.
    """
    names = list(wanted)
    with open_catalogue(system, options) as offered:
        every = _merged(offered.notices.groups())
        members = (n for group, _ in every.values() for n, _ in group.members)
        known = offered.known(members)
        here = {p.name for p in system.packages if p.state.present}
        silent = report_silence(system, "groups", "what belongs together")
        rows = [_row(group, repository, every, here, known) for group, repository in every.values()]
        notes = offered.notes
        if names:
            notes += (
                _unknown(one, rows) for one in names if not any(_called(r, one) for r in rows)
            )
            rows = [row for row in rows if any(_called(row, name) for name in names)]
        elif not rows and not silent:
            notes.append("no repository tells of any group")
        return Answer(
            "groups", system.system_label, rows, _summary(rows), system.gaps, notes,
            bad_news=bool(notes),
        )  # fmt: skip


def _summary(rows: Sequence[GroupRow]) -> GroupsSummary:
    return GroupsSummary(
        groups=len(rows),
        whole=sum(not row.missing for row in rows),
        installed=len({m.name for row in rows for m in row.members if m.installed}),
        missing=sum(row.missing for row in rows),
    )


_Known = dict[str, tuple[Group, str]]


def _merged(told: Iterable[tuple[Group, str]]) -> _Known:
    """Each group once, with what every repository tells of it."""
    found: _Known = {}
    for group, repository in told:
        if group.identity in found:
            known, first = found[group.identity]
            members = dict((*known.members, *group.members))
            subgroups = tuple(dict.fromkeys((*known.groups, *group.groups)))
            merged = Group(
                known.identity, known.name, known.summary, tuple(members.items()), subgroups
            )
            found[group.identity] = merged, first
        else:
            found[group.identity] = group, repository
    return found


def _row(group: Group, repository: str, every: _Known, here: set[str], known: set[str]) -> GroupRow:
    members: dict[str, Membership] = {}
    for one in (group, *(every[name][0] for name in group.groups if name in every)):
        for name, kind in one.members:
            members.setdefault(name, kind)
    rows = [
        GroupMember(name, kind, name in here, name in known)
        for name, kind in sorted(members.items(), key=lambda pair: (_FIRM.index(pair[1]), pair[0]))
    ]
    return GroupRow(
        group.identity, group.name, group.summary, repository,
        sum(row.installed for row in rows),
        sum(not row.installed and row.membership in _EXPECTED for row in rows),
        rows, list(group.groups),
    )  # fmt: skip


_FIRM = list(Membership)
_EXPECTED = (Membership.MANDATORY, Membership.DEFAULT)


def _called(row: GroupRow, name: str) -> bool:
    texts = (row.identity.casefold(), row.name.casefold())
    return any(fnmatch.fnmatchcase(text, name.casefold()) for text in texts)


def _unknown(name: str, rows: list[GroupRow]) -> str:
    close = close_names(name, [row.identity for row in rows])
    hint = f"; did you mean {', '.join(close)}?" if close else ""
    return f"no group is called {name}{hint}"
