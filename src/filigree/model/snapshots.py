"""What a snapshot says of its own taking."""

from dataclasses import dataclass

from filigree.model.signatures import Signatures


@dataclass(frozen=True, slots=True)
class SnapshotFacts:
    """Who took a snapshot, when, of what and how, as it says itself; times are ISO 8601, UTC.

    `root` is what was asked for then, `machine` the SHA-256 digest of the host's own identity; `changed`
    counts files that were not the same at the beginning and at the end, `gaps` what could not be looked
    at. `signature` is what the auditor's keys say of it, None where it was not judged; `signed` is
    whether it carries one at all. Of an unsigned one all of this is only what it says.
    """

    began: str
    ended: str
    taken_by: str
    version: str
    root: str
    family: str
    host: str | None
    machine: str | None
    label: str | None
    options: tuple[str, ...]
    paths: int
    changed: int
    gaps: int
    signed: bool
    signature: Signatures | None = None
