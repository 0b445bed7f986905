"""Signatures: what is to be said of the signatures on something, and of the keys that made them."""

from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum
from typing import NamedTuple


class SignatureVerdict(StrEnum):
    """What is to be said of a signature, or of what should bear one; worst first."""

    BAD = "bad"
    EXPIRED = "expired"
    WEAK = "weak"
    UNKNOWN_KEY = "unknown key"
    NONE = "none"
    GOOD = "good"


class Signer(NamedTuple):
    """One signature: the key that made it, whose that is as far as known, when, and the verdict.

    `reason` is why the verdict is not `good`, for people.
    """

    fingerprint: str
    identity: str | None
    made_at: datetime | None
    verdict: SignatureVerdict
    key_file: str | None
    reason: str | None = None


@dataclass(frozen=True, slots=True)
class Signatures:
    """What is to be said of all signatures of one thing. `reason` is for people."""

    verdict: SignatureVerdict
    signers: tuple[Signer, ...] = ()
    reason: str | None = None


class Check(NamedTuple):
    """One digest or size that is told of something, held against what was found.

    `what` names the thing and who tells it, for people; `found` is None where there is nothing.
    """

    what: str
    expected: str
    found: str | None

    @property
    def holds(self) -> bool:
        return self.expected == self.found
