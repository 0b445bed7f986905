"""Which keys a system trusts, for what; and which are named by signatures and held nowhere."""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime

from filigree.families.protocol import Judging, RootKey, Sources
from filigree.model.answer import Answer, Gap
from filigree.model.errors import AccessError, DatabaseError
from filigree.model.keys import Key
from filigree.model.signatures import Signatures, SignatureVerdict, Signer
from filigree.questions.evidence.trust import Trust
from filigree.questions.offers.options import EVERYTHING, RepositoryOptions
from filigree.system import System

_TOLD = 200


@dataclass(frozen=True, slots=True)
class KeyRow:
    """One key, in one file. `scope` are the repositories whose indexes may be signed with it.

    `everything` is whether it is trusted for whatever no other key is asked for; `how` is why it counts.
    `weakness` is why a signature by it is no longer relied on. `held_by` is `root`, `auditor` or `both`,
    None for one that is needed and held nowhere: `needed_by` is then what is signed with it.
    `archives` is whether archives that are signed themselves are judged by it.
    """

    fingerprint: str
    identity: str | None
    algorithm: str | None
    made_at: datetime | None
    expires_at: datetime | None
    revoked: bool | None
    file: str | None
    scope: list[str]
    everything: bool
    how: str
    weakness: str | None
    revoked_at: datetime | None
    held_by: str | None
    needed_by: list[str]
    subkeys: list[str]
    archives: bool

    def expired(self, now: datetime) -> bool:
        """Whether it had expired when that was asked."""
        return self.expires_at is not None and self.expires_at < now

    @property
    def alarming(self) -> bool:
        """Whether it is bad news: trusted for something, and revoked or too weak; or not there."""
        counts = self.everything or bool(self.scope)
        return self.held_by is None or (
            counts and (bool(self.revoked) or self.weakness is not None)
        )


@dataclass(frozen=True, slots=True)
class KeysSummary:
    """How many keys there are, and how many of them are of which sort.

    `only_root` counts those that an auditor's own keyring lacks; None without one. `needed` is whether
    those were asked for that nobody holds, `keys_of` whose keys count.
    """

    keys: int
    trusted_for_everything: int
    expired: int
    revoked: int
    weak: int
    without_use: int
    only_root: int | None
    needed: bool
    keys_of: str
    asked_at: datetime


def keys(
    system: System, needed: bool = False, options: RepositoryOptions = EVERYTHING
) -> Answer[KeyRow, KeysSummary]:
    """Every key that the root holds; `needed` those instead that signatures name and nobody holds.

    With a keyring of the auditor's own in `options`, its keys are listed beside the root's, and each key
    says who holds it; what is needed is then what that keyring lacks. Raises BadQuestion where it holds
    none. Bad news where a key that counts is revoked or too weak, or where one is needed.
    """
    trust = Trust(system, options)
    if system.sources(Judging(trust.now)) is None:
        system.report(Gap("the keys of this root", "no keys of this family are read"))
    rows = list(_needed(system, trust) if needed else _held(trust))
    return Answer(
        "keys", system.system_label, rows, _summary(rows, trust, needed), system.gaps,
        bad_news=any(row.alarming for row in rows),
    )  # fmt: skip


# -- what is held ---------------------------------------------------------------------------


def _held(trust: Trust) -> Iterator[KeyRow]:
    own = {key.fingerprint for key in trust.own or ()}
    root = {one.key.fingerprint for one in trust.held}
    every = [_row(one, "both" if one.key.fingerprint in own else "root") for one in trust.held]
    every.sort(key=lambda row: (not row.everything, not row.scope))
    yield from every
    for key in trust.own or ():
        who = "both" if key.fingerprint in root else "auditor"
        yield _row(RootKey(key, "your own: it counts in the place of the root's"), who)


def _row(one: RootKey, held_by: str) -> KeyRow:
    key: Key = one.key
    return KeyRow(
        fingerprint=key.fingerprint, identity=key.identity, algorithm=key.algorithm,
        made_at=key.made_at, expires_at=key.expires_at, revoked=key.revoked, file=key.file,
        scope=list(one.scope), everything=one.everything, how=one.how, weakness=key.weakness,
        revoked_at=key.revoked_at, held_by=held_by, needed_by=[],
        subkeys=list(key.fingerprints[1:]), archives=one.archives,
    )  # fmt: skip


# -- what is needed -------------------------------------------------------------------------


def _needed(system: System, trust: Trust) -> Iterator[KeyRow]:
    """Keys that signatures name and nobody who counts holds, each with what is signed with it."""
    signed: dict[str, tuple[list[str], Signer]] = {}
    own = trust.own is not None
    held = trust.own if trust.own is not None else [one.key for one in trust.held]
    for what, signature in _signatures(system, trust):
        for signer in signature.signers:
            name = signer.fingerprint
            if signer.verdict is SignatureVerdict.UNKNOWN_KEY and not any(
                k.made(name) for k in held
            ):
                whats = signed.setdefault(name, ([], signer))[0]
                if what not in whats:
                    whats.append(what)
    for name, (whats, signer) in sorted(signed.items()):
        here = next((one for one in trust.held if own and one.key.made(name)), None)
        identity = here.key.identity if here else None
        said = signer.reason or "nothing tells whose it is"
        how = f"only the root holds it, in {here.key.file}" if here else said
        yield KeyRow(
            fingerprint=name, identity=identity, algorithm=None, made_at=None, expires_at=None,
            revoked=None, file=here.key.file if here else None, scope=[], everything=False, how=how,
            weakness=None, revoked_at=None, held_by="root" if here else None, needed_by=whats[:_TOLD],
            subkeys=[], archives=False,
        )  # fmt: skip


def _signatures(system: System, trust: Trust) -> Iterator[tuple[str, Signatures]]:
    """Every signature that the system has: of indexes, of records, of the archives that it keeps."""
    sources = system.sources(Judging(trust.now, trust.own))
    yield from _distinct(sources)
    for package in (one for one in system.packages if one.state.present):
        signature = trust.record_signature(package)
        if signature is None:
            break  # this family keeps none
        yield f"the record of {package.label}", signature
    for path in system.cached_archives():
        try:
            with system.looking_into(path, below=True) as archive:
                beside = system.beside(path, below=True)
                yield path, archive.signature(trust.keys, trust.now, beside)
        except (AccessError, DatabaseError) as error:
            system.report(Gap(path, error.what))


def _distinct(sources: Sources | None) -> list[tuple[str, Signatures]]:
    found = []
    for one in sources.repositories() if sources is not None else ():
        if one.copy is not None:
            found.append((f"the index of {one.identity}", one.copy.signature))
    return list(dict.fromkeys(found))


def counts(row: KeyRow) -> bool:
    """Whether it is good for something, as far as the system says."""
    return row.everything or bool(row.scope) or row.held_by != "root" or row.archives


def _prints(rows: Iterable[KeyRow]) -> set[str]:
    return {row.fingerprint for row in rows}


def _summary(rows: Sequence[KeyRow], trust: Trust, needed: bool) -> KeysSummary:
    return KeysSummary(
        keys=len({row.fingerprint for row in rows}),
        trusted_for_everything=sum(row.everything for row in rows),
        expired=sum(row.expired(trust.now) for row in rows),
        revoked=sum(bool(row.revoked) for row in rows),
        weak=sum(row.weakness is not None for row in rows),
        without_use=0 if needed else len(_prints(rows) - _prints(filter(counts, rows))),
        only_root=sum(row.held_by == "root" for row in rows) if trust.own is not None else None,
        needed=needed,
        keys_of=trust.keys_of,
        asked_at=trust.now,
    )
