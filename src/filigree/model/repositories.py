"""Repositories: where packages can come from, copies of their indexes, and what stands behind those."""

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import NamedTuple


class SealVerdict(StrEnum):
    """What is to be said of a signature, or of what should bear one; worst first."""

    BAD = "bad"
    EXPIRED = "expired"
    WEAK = "weak"
    UNKNOWN_KEY = "unknown key"
    NONE = "none"
    GOOD = "good"


class Signer(NamedTuple):
    """One signature: the key that made it, whose that is as far as known, when, and the verdict."""

    fingerprint: str
    identity: str | None
    made_at: datetime | None
    verdict: SealVerdict
    key_file: str | None


@dataclass(frozen=True, slots=True)
class Seal:
    """What is to be said of all signatures of one thing. `reason` is for people."""

    verdict: SealVerdict
    signers: tuple[Signer, ...] = ()
    reason: str | None = None


@dataclass(frozen=True, slots=True)
class IndexCopy:
    """The local copy of an index. `matches` is whether it is what the signed file says, None unknown.

    `size` is in bytes as it lies on the disk.
    """

    path: str
    size: int
    packages: int | None
    made_at: datetime | None
    fetched_at: datetime | None
    expires_at: datetime | None
    seal: Seal
    matches: bool | None
    remarks: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Repository:
    """One index that a system is configured to use. `configured_in` is `path:line`.

    `keys` are what its index may be signed with: files, or fingerprints; none where any key that the
    system trusts will do. `must_be_signed` is None where the configuration leaves it to the system.
    """

    identity: str
    name: str
    enabled: bool
    addresses: tuple[str, ...]
    suite: str | None
    component: str | None
    architecture: str | None
    priority: int | None
    configured_in: str
    keys: tuple[str, ...] = ()
    must_be_signed: bool | None = None
    copy: IndexCopy | None = None
    remarks: tuple[str, ...] = ()
