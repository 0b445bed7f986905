"""Which repositories a system is configured to use, and what stands behind their indexes."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime
from difflib import get_close_matches

from filigree.families.protocol import Judging
from filigree.model.answer import Answer, Gap
from filigree.model.repositories import Repository
from filigree.model.signatures import SignatureVerdict, Signer
from filigree.questions.evidence.trust import Trust
from filigree.questions.offers.fetched_copies import copies_folder, copies_of
from filigree.questions.offers.keeping import remembered_quietly
from filigree.questions.offers.naming import is_called
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System


@dataclass(frozen=True, slots=True)
class RepositoryRow:
    """One index of one repository, and the local copy of it. Sizes in bytes, times in UTC.

    `own` is whether we fetched the copy ourselves (`path` is then in your cache, and not below the root);
    `matches` is whether the copy is what the signed file says, None where nothing tells. `remarks` say
    in words what is wrong, or out of the ordinary. `other_release` is the release that it is of, None
    where that is the system's, or nothing tells.
    """

    identity: str
    name: str
    enabled: bool
    address: str | None
    suite: str | None
    component: str | None
    architecture: str | None
    priority: int | None
    packages: int | None
    size: int | None
    made_at: datetime | None
    fetched_at: datetime | None
    expires_at: datetime | None
    signature: SignatureVerdict | None
    signers: list[Signer]
    configured_in: str
    addresses: list[str]
    keys: list[str]
    must_be_signed: bool | None
    path: str | None
    own: bool | None
    matches: bool | None
    reason: str | None
    remarks: list[str]
    archives_must_be_signed: bool | None
    other_release: str | None

    @property
    def alarming(self) -> bool:
        """Whether it is bad news: a copy that is not what it claims, or lacks a signature it must
        have.
        """
        unsigned = self.must_be_signed is True and self.signature is SignatureVerdict.NONE
        return self.signature is SignatureVerdict.BAD or self.matches is False or unsigned


@dataclass(frozen=True, slots=True)
class ReposSummary:
    """What all indexes come to; `size` in bytes, `keys_of` who holds the keys that count."""

    indexes: int
    enabled: int
    packages: int
    size: int
    alarming: int
    never_fetched: int
    expired: int
    asked_at: datetime
    keys_of: str


def repos(
    system: System,
    names: Iterable[str] = (),
    keyring: Iterable[str] = (),
    now: datetime | None = None,
    options: RepositoryOptions = EVERYTHING,
) -> Answer[RepositoryRow, ReposSummary]:
    """Every configured index, or those of the repositories whose identity or name fits one of `names`.

    `options` says whether copies count that we fetched. With a `keyring` (the auditor's own key files
    or folders of them) signatures are judged with its keys alone; raises BadQuestion where it holds
    none. Bad news where a signature is bad, a copy is not what its signed file says, or a signature
    that must be there is missing.
    """
    moment = now or options.now or datetime.now(UTC)
    files = [*keyring, *options.keyring]
    keys = system.own_keys(files) if files else None
    known = remembered_quietly(system, options.cache)
    sources = system.sources(Judging(moment, keys, copies_of(system, options), known))
    place = copies_folder(system, options.cache) if options.cache else ""
    if sources is None:
        system.report(Gap("the repositories of this system", "those of this family are not read"))
    trust = Trust(system, options._replace(keyring=tuple(files), now=moment))
    every = sources.repositories() if sources is not None else []
    rows = [_row(one, place, trust if files else None) for one in every]
    notes: list[str] = []
    wanted = list(names)
    if wanted:
        asked: list[RepositoryRow] = []
        for name in wanted:
            found = [row for row in rows if is_called(row, name)]
            asked += (row for row in found if row not in asked)
            if not found:
                notes.append(_unknown(name, rows))
        rows = asked
    return Answer(
        "repos",
        system.system_label,
        rows,
        _summary(rows, moment, "auditor" if files else "root"),
        system.gaps,
        notes,
        bad_news=bool(notes) or any(row.alarming for row in rows),
    )


def _row(one: Repository, place: str, trust: Trust | None) -> RepositoryRow:
    copy = one.copy
    # With keys of the auditor's own it is told where the root has one that does not count.
    signature = (
        trust.completed(copy.signature) if copy and trust else copy.signature if copy else None
    )
    return RepositoryRow(
        identity=one.identity,
        name=one.name,
        enabled=one.enabled,
        address=one.addresses[0] if one.addresses else None,
        suite=one.suite,
        component=one.component,
        architecture=one.architecture,
        priority=one.priority,
        packages=copy.packages if copy else None,
        size=copy.size if copy else None,
        made_at=copy.made_at if copy else None,
        fetched_at=copy.fetched_at if copy else None,
        expires_at=copy.expires_at if copy else None,
        signature=signature.verdict if signature else None,
        signers=list(signature.signers) if signature else [],
        configured_in=one.configured_in,
        addresses=list(one.addresses),
        keys=list(one.keys),
        must_be_signed=one.must_be_signed,
        path=f"{place if copy.own else ''}{copy.path}" if copy else None,
        own=copy.own if copy else None,
        matches=copy.matches if copy else None,
        reason=signature.reason if signature else None,
        remarks=[*one.remarks, *(copy.remarks if copy else ())],
        archives_must_be_signed=one.archives_must_be_signed,
        other_release=one.other_release,
    )


def _unknown(name: str, rows: list[RepositoryRow]) -> str:
    known = list(dict.fromkeys(row.identity for row in rows))
    # A part of an identity is as good a hint as a misspelt one.
    close = [one for one in known if name in one][:3] or get_close_matches(name, known, n=3)
    hint = f"; did you mean {', '.join(close)}?" if close else ""
    return f"no repository is called {name}{hint}"


def _summary(rows: list[RepositoryRow], now: datetime, whose: str) -> ReposSummary:
    return ReposSummary(
        indexes=len(rows),
        enabled=sum(row.enabled for row in rows),
        packages=sum(row.packages or 0 for row in rows),
        size=sum(row.size or 0 for row in rows),
        alarming=sum(row.alarming for row in rows),
        never_fetched=sum(row.enabled and row.path is None for row in rows),
        expired=sum(row.expires_at is not None and row.expires_at < now for row in rows),
        asked_at=now,
        keys_of=whose,
    )
