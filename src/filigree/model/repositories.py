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


class Offer(NamedTuple):
    """One package as an index tells of it. Sizes in bytes, `built` in seconds since 1970."""

    name: str
    version: str
    architecture: str
    section: str | None
    source: str | None
    summary: str | None
    homepage: str | None
    license: str | None
    maintainer: str | None
    vendor: str | None
    installed_size: int | None
    archive_size: int | None
    built: int | None
    place: str | None
    digest: str | None


@dataclass(frozen=True, slots=True)
class IndexCopy:
    """The local copy of an index. `matches` is whether it is what the signed file says, None unknown.

    `size` is in bytes as it lies on the disk. `list_path` is where the list of packages lies, and
    `list_digest` that of its text, or of its bytes: whichever was computed.
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
    list_path: str | None = None
    list_digest: str | None = None

    @property
    def usable(self) -> bool:
        """Whether it may be believed: its seal is not bad, and it is what the signed file says."""
        return (
            self.list_path is not None
            and self.list_digest is not None
            and self.matches is not False
            and self.seal.verdict is not SealVerdict.BAD
        )


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
