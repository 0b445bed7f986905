"""Fetching the indexes of repositories into the auditor's own cache; the root is never written to."""

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import NamedTuple

from filigree.access.fetching import Fetcher
from filigree.access.web import FetchError
from filigree.model.answer import Answer
from filigree.model.repositories import Refreshed, Repository
from filigree.model.signatures import SignatureVerdict
from filigree.questions.offers.catalogue import open_catalogue
from filigree.questions.offers.fetched_copies import (
    CopyFetcher,
    Fetching,
    open_copies,
    report_unreached,
)
from filigree.questions.offers.naming import is_called
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System


class FetchOutcome(StrEnum):
    """How the refreshing of one repository went."""

    FETCHED = "fetched"
    UNCHANGED = "unchanged"
    REFUSED = "refused"
    FAILED = "failed"


@dataclass(frozen=True, slots=True)
class RefreshRow:
    """One repository: what came of it, and what is kept now. `sent` is how many bytes were sent for it.

    `why` is why it was refused or failed; what was kept of it before is kept on. `older` are packages of
    which it now offers nothing as new as it did before.
    """

    identity: str
    address: str | None
    architecture: str | None
    outcome: FetchOutcome
    why: str | None
    signature: SignatureVerdict | None
    made_at: datetime | None
    expires_at: datetime | None
    packages: int | None
    sent: int
    remarks: list[str]
    older: list[str]


_NO_ORDER = "their versions have no order of their own"


class _Offered(NamedTuple):
    """The newest version of each name that a repository offers, and how many packages that are in all."""

    newest: dict[str, str]
    total: int


@dataclass(frozen=True, slots=True)
class RefreshSummary:
    """How the refreshing of all repositories went; `sent` in bytes, `older` counts packages."""

    repositories: int
    fetched: int
    unchanged: int
    refused: int
    failed: int
    sent: int
    older: int


def refresh(
    system: System,
    names: Iterable[str] = (),
    options: RepositoryOptions = EVERYTHING,
    fetcher: Fetcher | None = None,
    added_only: bool = False,
) -> Answer[RefreshRow, RefreshSummary]:
    """Fetch the indexes of the enabled repositories, or of those called one of `names`.

    They are verified before they are kept below the cache; the root is not touched. With `options.paths`
    the indexes of paths and of changes, too, which are large. `added_only` leaves out what the system is
    configured to use. Bad news where something was refused; what could not be reached is a gap.
    """
    wanted = list(names)
    notes: list[str] = []
    with open_copies(system, options, fetcher) as copies:
        every = copies.enabled(added_only)
        if copies.sources is not None:
            notes += (
                f"no enabled repository is called {name}"
                for name in wanted
                if not any(is_called(one, name) for one in every)
            )
        asked = [one for one in every if not wanted or any(is_called(one, name) for name in wanted)]
        rows = _refreshed(system, copies, asked, options)
    for row in rows:
        if row.outcome is FetchOutcome.FAILED:
            report_unreached(system, row.identity, row.why or "")
    return Answer(
        "refresh", system.system_label, rows, _summary(rows), system.gaps, notes,
        bad_news=bool(notes) or any(row.outcome is FetchOutcome.REFUSED or row.older for row in rows),
    )  # fmt: skip


def _refreshed(
    system: System,
    copies: CopyFetcher,
    repositories: Sequence[Repository],
    options: RepositoryOptions,
) -> list[RefreshRow]:
    """Refresh one after another; what is offered is compared before the first and after the last."""
    if not repositories:
        return []
    before = _offered(system, options, repositories)
    done = [(one, *copies.fetch(one)) for one in repositories]
    kept = any(fetching.kept for _, fetching, _ in done)
    after = _offered(system, options, repositories) if kept else before
    return [
        _row(system, one, fetching, found, before[one.identity], after[one.identity])
        for one, fetching, found in done
    ]


def _row(
    system: System,
    repository: Repository,
    fetching: Fetching,
    found: Refreshed | FetchError,
    before: _Offered,
    after: _Offered,
) -> RefreshRow:
    address = repository.addresses[0] if repository.addresses else None
    if isinstance(found, FetchError):
        return RefreshRow(
            identity=repository.identity, address=address, architecture=repository.architecture,
            outcome=FetchOutcome.FAILED, why=str(found), signature=None,
            made_at=None, expires_at=None, packages=None, sent=fetching.sent, remarks=[], older=[],
        )  # fmt: skip
    outcome = FetchOutcome.FETCHED if fetching.kept else FetchOutcome.UNCHANGED
    if found.refused is not None:
        outcome = FetchOutcome.REFUSED
    now = after if outcome is FetchOutcome.FETCHED else before
    older, untold = _gone_back(system, before.newest, now.newest)
    remarks = list(found.remarks)
    if untold:
        remarks.append(f"whether it went back with {untold:,} packages is not told: {_NO_ORDER}")
    return RefreshRow(
        identity=repository.identity, address=address, architecture=repository.architecture,
        outcome=outcome, why=found.refused,
        signature=found.signature.verdict, made_at=found.made_at, expires_at=found.expires_at,
        packages=now.total or None, sent=fetching.sent,
        remarks=remarks, older=older,
    )  # fmt: skip


def _gone_back(
    system: System, before: Mapping[str, str], now: Mapping[str, str]
) -> tuple[list[str], int]:
    """What is older now than it was, and of how many packages that cannot be told."""
    older, untold = [], 0
    for name in sorted(before.keys() & now.keys()):
        order = system.family.order(now[name], before[name])
        if order is None:
            untold += 1
        elif order < 0:
            older.append(f"{name} {now[name]}, {before[name]} before")
    return older, untold


def _offered(
    system: System, options: RepositoryOptions, repositories: Sequence[Repository]
) -> dict[str, _Offered]:
    """What repositories offer by the copies that are there now, by their identity."""
    compare = system.family.compare_versions
    found = {one.identity: _Offered({}, 0) for one in repositories}
    only = options._replace(repositories=tuple(found), refreshed=True, quiet=True)
    with open_catalogue(system, only) as offered:
        for repository, table in offered.indexes.tables:
            if repository.identity not in found:
                continue
            newest, total = found[repository.identity]
            for name, version in table.versions():
                total += 1
                if name not in newest or compare(version, newest[name]) > 0:
                    newest[name] = version
            found[repository.identity] = _Offered(newest, total)
        return found


def _summary(rows: list[RefreshRow]) -> RefreshSummary:
    counted = Counter(row.outcome for row in rows)
    return RefreshSummary(
        repositories=len(rows), fetched=counted[FetchOutcome.FETCHED],
        unchanged=counted[FetchOutcome.UNCHANGED], refused=counted[FetchOutcome.REFUSED],
        failed=counted[FetchOutcome.FAILED], sent=sum(row.sent for row in rows),
        older=sum(len(row.older) for row in rows),
    )  # fmt: skip
