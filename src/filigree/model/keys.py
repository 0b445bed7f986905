"""Keys: what signatures are judged with, of whatever kind."""

from collections.abc import Iterable, Iterator
from datetime import datetime
from enum import StrEnum
from typing import Any, NamedTuple


class KeyKind(StrEnum):
    """What a key is written as. Each kind has its own form of signatures."""

    OPENPGP = "OpenPGP certificate"
    PUBLIC = "public key"


class Key(NamedTuple):
    """One key, or a certificate of several: its fingerprints, its own first, whose it is, where it lies.

    `algorithm` is that of its own key, with its size where it has one; `weakness` is why it is not
    to be relied on, None where nothing speaks against it. `doubt` is why it is not known whether it was
    revoked, None where that is known. `names` are what signatures may call it besides its fingerprints.
    `material` is what the library has that judges by it.
    """

    fingerprints: tuple[str, ...]
    identity: str | None
    made_at: datetime | None
    expires_at: datetime | None
    revoked: bool
    file: str
    material: Any
    algorithm: str = "unknown"
    weakness: str | None = None
    revoked_at: datetime | None = None
    doubt: str | None = None
    kind: KeyKind = KeyKind.OPENPGP
    names: tuple[str, ...] = ()

    @property
    def fingerprint(self) -> str:
        """What it is told apart by, in hex."""
        return self.fingerprints[0]

    def made(self, issuer: str) -> bool:
        """Whether it is the one that a signature names: by a fingerprint, the end of one, or a name."""
        if not issuer:
            return False
        return issuer in self.names or any(one.endswith(issuer) for one in self.fingerprints)


def of_kind(keys: Iterable[Key], kind: KeyKind) -> Iterator[Key]:
    """The keys of one kind."""
    return (one for one in keys if one.kind is kind)
