"""The signed file of a `deb` repository: what it is, how long it holds, and the digests of its indexes.

One stanza; its digests are lines of digest, size and path. As the wiki page on the repository format, and
the manual page of the reader's side, describe it.
"""

import email.utils
from datetime import UTC, datetime
from typing import NamedTuple

from filigree.formats.damage import Damage
from filigree.formats.stanzas import parse_stanza

_DIGESTS = (("SHA512", "sha512"), ("SHA256", "sha256"), ("SHA1", "sha1"), ("MD5Sum", "md5"))


class Release(NamedTuple):
    """The facts of a signed file. `digests` are by path: `algorithm:hex` and size, the strongest.

    `by_digest` is whether each index can be fetched by its digest, too.
    """

    origin: str | None
    label: str | None
    suite: str | None
    codename: str | None
    version: str | None
    made_at: datetime | None
    expires_at: datetime | None
    not_automatic: bool
    upgrades_though: bool
    components: tuple[str, ...]
    architectures: tuple[str, ...]
    digests: dict[str, tuple[str, int]]
    by_digest: bool = False


def read_release(data: bytes) -> Release | Damage:
    """The facts of a release file, without its signatures."""
    stanza = parse_stanza(data.strip(b"\n"))
    if isinstance(stanza, Damage):
        return stanza
    fields = stanza.fields
    digests: dict[str, tuple[str, int]] = {}
    for name, algorithm in _DIGESTS:
        for line in fields.get(name, "").split("\n"):
            parts = line.split(None, 2)
            if len(parts) == 3 and parts[1].isascii() and parts[1].isdigit() and len(parts[1]) < 16:
                digests.setdefault(parts[2], (f"{algorithm}:{parts[0].lower()}", int(parts[1])))
    return Release(
        origin=fields.get("Origin"),
        label=fields.get("Label"),
        suite=fields.get("Suite"),
        codename=fields.get("Codename"),
        version=fields.get("Version"),
        made_at=moment(fields.get("Date")),
        expires_at=moment(fields.get("Valid-Until")),
        not_automatic=fields.get("NotAutomatic") == "yes",
        upgrades_though=fields.get("ButAutomaticUpgrades") == "yes",
        components=tuple(fields.get("Components", "").split()),
        architectures=tuple(fields.get("Architectures", "").split()),
        digests=digests,
        by_digest=fields.get("Acquire-By-Hash") == "yes",
    )


def moment(text: str | None) -> datetime | None:
    """A time as mail has it (RFC 5322, 3.3); None where it is none."""
    try:
        found = email.utils.parsedate_to_datetime(text) if text else None
    except (ValueError, TypeError, IndexError, OverflowError):
        return None
    if found is None:
        return None
    return found if found.tzinfo else found.replace(tzinfo=UTC)
