"""Fetching the indexes of repositories into the auditor's own cache; the root is never written to."""

import contextlib
import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from enum import StrEnum
from typing import Any, NamedTuple

from filigree.access.fetching import Fetcher, FetchError
from filigree.access.jail import Jail
from filigree.access.private_folder import copy_private, make_private
from filigree.families.protocol import ADDED, Own, Sources
from filigree.model.answer import Answer, Gap
from filigree.model.errors import AccessError, BadQuestion
from filigree.model.repositories import Refreshed, Repository
from filigree.model.seals import SealVerdict
from filigree.questions.asking.keeping import needed_cache
from filigree.questions.asking.scopes import EVERYTHING, RepositoryOptions
from filigree.questions.offers.available import Available, copies_folder, is_called
from filigree.system import System


class Outcome(StrEnum):
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
    outcome: Outcome
    why: str | None
    seal: SealVerdict | None
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


class _Fetch:
    """Fetches for one repository, and keeps what is to be kept."""

    def __init__(self, fetcher: Fetcher, copies: str) -> None:
        self._fetcher = fetcher
        self._copies = copies
        self.sent = 0
        self.kept = False

    def get(
        self, address: str, limit: int, digest: str | None = None, size: int | None = None
    ) -> str:
        found = self._fetcher.fetch(address, limit, digest, size)
        self.sent += found.sent
        return found.path

    def forget(self, address: str) -> None:
        self._fetcher.forget(address)

    def drop(self, place: str) -> None:
        with contextlib.suppress(OSError):
            os.unlink(self._path(place))

    def keep(self, got: str, place: str) -> None:
        path = self._path(place)
        try:
            make_private(os.path.dirname(path))
            if os.path.exists(path) and os.path.samefile(got, path):
                return
            new = f"{path}.{os.getpid()}.new"
            try:
                os.link(got, new)
            except OSError:
                copy_private(got, new)
            os.replace(new, path)
        except OSError as error:
            raise FetchError(f"it could not be kept: {error.strerror}", place) from error
        self.kept = True

    def _path(self, place: str) -> str:
        """A place below the copies: whatever a repository calls its files, nothing else is written to."""
        parts = [part for part in place.split("/") if part not in ("", ".", "..")]
        return os.path.join(self._copies, *parts)


def bring(system: System, options: RepositoryOptions) -> None:
    """Fetch the repositories whose addresses were given; what is refused, or out of reach, is a gap."""
    answer = refresh(system, options=options, added_only=True)
    for row in answer.records:
        if row.outcome is Outcome.REFUSED:
            system.report(Gap(f"what {row.identity} offers now", row.why or "it was refused"))


def refresh(
    system: System,
    names: Iterable[str] = (),
    options: RepositoryOptions = EVERYTHING,
    fetcher: Fetcher | None = None,
    added_only: bool = False,
) -> Answer[RefreshRow]:
    """Fetch the indexes of the enabled repositories, or of those called one of `names`.

    They are verified before they are kept below the cache; the root is not touched. With `options.paths`
    the indexes of paths and of changes, too, which are large. `added_only` leaves out what the system is
    configured to use. Bad news where something was refused; what could not be reached is a gap.
    """
    wanted = list(names)
    cache = needed_cache(options.cache)
    used = fetcher or Fetcher(os.path.join(cache, "fetched"), options.progress)
    rows: list[RefreshRow] = []
    notes: list[str] = []
    try:
        folder = copies_folder(system, cache)
        make_private(folder)
        now = options.now or datetime.now(UTC)
        keys = system.own_keys(options.keyring) if options.keyring else None
        own = Own(Jail(folder), tuple(options.addresses))
        sources = system.database.sources(now, keys, own)
        if sources is None:
            system.report(Gap("what could be installed", "no repositories of this family are read"))
        else:
            every = [one for one in sources.repositories() if one.enabled]
            if added_only:
                every = [one for one in every if one.configured_in == ADDED]
            for name in wanted:
                if not any(is_called(one, name) for one in every):
                    notes.append(f"no enabled repository is called {name}")
            asked = [
                one for one in every if not wanted or any(is_called(one, name) for name in wanted)
            ]
            rows = _refreshed(system, sources, asked, used, folder, options)
    except OSError as error:
        raise BadQuestion(
            f"the cache cannot be written to: {error.strerror}", options.cache
        ) from error
    finally:
        used.close()
    for row in rows:
        if row.outcome is Outcome.FAILED:
            system.report(Gap(f"what is new at {row.identity}", row.why or "it cannot be reached"))
    return Answer(
        "refresh", system.system_label, rows, _summary(rows), system.gaps, notes,
        bad_news=bool(notes) or any(row.outcome is Outcome.REFUSED or row.older for row in rows),
    )  # fmt: skip


def _refreshed(
    system: System,
    sources: Sources,
    repositories: Sequence[Repository],
    fetcher: Fetcher,
    folder: str,
    options: RepositoryOptions,
) -> list[RefreshRow]:
    """Refresh one after another; what is offered is compared before the first and after the last."""
    if not repositories:
        return []
    before = _offered(system, options, repositories)
    done = [(one, *_asked(sources, one, fetcher, folder, options)) for one in repositories]
    kept = any(fetch.kept for _, fetch, _ in done)
    after = _offered(system, options, repositories) if kept else before
    return [
        _row(system, one, fetch, found, before[one.identity], after[one.identity])
        for one, fetch, found in done
    ]


def _asked(
    sources: Sources, repository: Repository, fetcher: Fetcher, folder: str, options: RepositoryOptions
) -> tuple[_Fetch, Refreshed | FetchError]:
    fetch = _Fetch(fetcher, folder)
    try:
        return fetch, sources.refresh(repository, fetch, options.paths)
    except FetchError as error:
        return fetch, error
    except AccessError as error:  # what came could not be judged, and so it is not kept
        return fetch, FetchError(error.what, repository.identity)


def _row(
    system: System,
    repository: Repository,
    fetch: _Fetch,
    found: Refreshed | FetchError,
    before: _Offered,
    after: _Offered,
) -> RefreshRow:
    address = repository.addresses[0] if repository.addresses else None
    if isinstance(found, FetchError):
        return RefreshRow(
            repository.identity, address, repository.architecture, Outcome.FAILED, str(found), None,
            None, None, None, fetch.sent, [], [],
        )  # fmt: skip
    outcome = Outcome.FETCHED if fetch.kept else Outcome.UNCHANGED
    if found.refused is not None:
        outcome = Outcome.REFUSED
    now = after if outcome is Outcome.FETCHED else before
    older, untold = _gone_back(system, before.newest, now.newest)
    remarks = list(found.remarks)
    if untold:
        remarks.append(f"whether it went back with {untold:,} packages is not told: {_NO_ORDER}")
    return RefreshRow(
        repository.identity, address, repository.architecture, outcome, found.refused,
        found.seal.verdict, found.made_at, found.expires_at, now.total or None, fetch.sent,
        remarks, older,
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
    offered = Available(system, only)
    try:
        for repository, table in offered.tables:
            if repository.identity not in found:
                continue
            newest, total = found[repository.identity]
            for name, version in table.versions():
                total += 1
                if name not in newest or compare(version, newest[name]) > 0:
                    newest[name] = version
            found[repository.identity] = _Offered(newest, total)
        return found
    finally:
        offered.close()


def _summary(rows: list[RefreshRow]) -> dict[str, Any]:
    return {
        "repositories": len(rows),
        **{one.value: sum(row.outcome is one for row in rows) for one in Outcome},
        "sent": sum(row.sent for row in rows),
        "older": sum(len(row.older) for row in rows),
    }
