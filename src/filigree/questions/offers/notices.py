"""What belongs to repositories as a whole: advisories, groups of packages, and changes."""

import json
from collections.abc import Iterable, Iterator, Sequence
from datetime import UTC, datetime
from functools import cached_property
from typing import Any

from filigree.access.tables import keyed
from filigree.model.answer import moment_of
from filigree.model.package import Package
from filigree.model.repositories import (
    Advisory,
    Change,
    Group,
    IndexKind,
    Membership,
    Reference,
    Repository,
)
from filigree.questions.offers.opening import OpenIndexes

_Advisories = keyed("advisories")
_Groups = keyed("groups")
_Changes = keyed("changes")


class Notices:
    """Asks the indexes of advisories, groups and changes."""

    def __init__(self, indexes: OpenIndexes) -> None:
        self._indexes = indexes

    def advisories(self, names: Sequence[str]) -> dict[str, list[Advisory]]:
        """The advisories that speak of packages of these names."""
        found: dict[str, list[Advisory]] = {}
        for _, table in self._advisory_tables:
            for name, text in table.of(names):
                advisory = _advisory_of(text)
                if advisory not in found.setdefault(name, []):
                    found[name].append(advisory)
        return found

    @property
    def tells_advisories(self) -> bool:
        """Whether there is any index of advisories."""
        return bool(self._advisory_tables)

    @cached_property
    def _advisory_tables(self) -> list[tuple[Repository, Any]]:
        def rows(told: Iterator[Advisory]) -> Iterator[tuple[str, str]]:
            for advisory in told:
                for name in dict.fromkeys(name for name, _, _ in advisory.fixed):
                    yield name, _text_of(advisory, name)

        return self._indexes.others(IndexKind.ADVISORIES, _Advisories, rows)

    def groups(self) -> list[tuple[Group, str]]:
        """Every group, with the repository that tells it."""

        def rows(told: Iterator[Group]) -> Iterator[tuple[str, str]]:
            for group in told:
                members = [[name, kind.value] for name, kind in group.members]
                fields = [group.name, group.summary, members, group.groups]
                yield group.identity, json.dumps(fields, ensure_ascii=False)

        found: list[tuple[Group, str]] = []
        for repository, table in self._indexes.others(IndexKind.GROUPS, _Groups, rows):
            for identity, text in table.all():
                name, summary, members, groups = json.loads(text)
                kinds = tuple((one, Membership(kind)) for one, kind in members)
                group = Group(identity, name, summary, kinds, tuple(groups))
                found.append((group, repository.identity))
        for repository, offers in self._indexes.tables:
            told = list(offers.other_names("group"))
            if told:
                names = dict(offers.names())
                pairs = [(group, names[number]) for group, number in told]
                membership = self._indexes.sources.membership
                found += ((group, repository.identity) for group in _groups_told(pairs, membership))
        return found

    def changes(self, package: Package) -> list[Change] | None:
        """What changed in a package, the newest first; None where no index tells."""

        def rows(told: Iterator[tuple[str, Change]]) -> Iterator[tuple[str, str]]:
            for holder, change in told:
                at = int(change.at.timestamp()) if change.at else None
                yield holder, json.dumps([at, change.who, change.what], ensure_ascii=False)

        tables = self._indexes.others(IndexKind.CHANGES, _Changes, rows)
        if not tables:
            return None
        holder = self._indexes.sources.holder(package)
        found = dict.fromkeys(text for _, table in tables for _, text in table.of([holder]))
        changes = [Change(moment_of(at), who, what) for at, who, what in map(json.loads, found)]
        return sorted(
            changes, key=lambda one: one.at or datetime.min.replace(tzinfo=UTC), reverse=True
        )


def _groups_told(members: Iterable[tuple[str, str]], membership: Membership) -> Iterator[Group]:
    """The groups that packages themselves say they are of, from pairs of group and package."""
    found: dict[str, dict[str, None]] = {}
    for group, name in members:
        found.setdefault(group, {})[name] = None
    for group, names in sorted(found.items()):
        yield Group(group, group, None, tuple((name, membership) for name in names))


def _text_of(advisory: Advisory, name: str) -> str:
    """An advisory as it is kept for the packages of one name."""
    issued = int(advisory.issued_at.timestamp()) if advisory.issued_at else None
    fixed = [one for one in advisory.fixed if one[0] == name]
    fields = [
        advisory.identity, advisory.kind, advisory.severity, advisory.title, issued,
        advisory.references, fixed,
    ]  # fmt: skip
    return json.dumps(fields, ensure_ascii=False)


def _advisory_of(text: str) -> Advisory:
    identity, kind, severity, title, issued, references, fixed = json.loads(text)
    return Advisory(
        identity, kind, severity, title, moment_of(issued),
        tuple(Reference(*one) for one in references), tuple((n, v, a) for n, v, a in fixed),
    )  # fmt: skip
