"""Fetching the lists of a `slackware` repository, verified before they are kept."""

from collections.abc import Sequence
from datetime import datetime
from pathlib import Path

from filigree.access.web import FetchError
from filigree.families.protocol import ADDED, Fetch
from filigree.families.shared.indexes import from_the_first, older_than
from filigree.families.shared.signatures import signature_of_file, signed_at, why_refused
from filigree.families.slackware import places
from filigree.formats.digest_list import read_digest_list
from filigree.model.keys import Key
from filigree.model.repositories import Refreshed, Repository
from filigree.model.signatures import Signatures, SignatureVerdict

LIST_LIMIT = 1 << 30
SIGNATURE_LIMIT = 1 << 20


def refresh(
    repository: Repository, folder: str, fetch: Fetch, keys: Sequence[Key],
    seen: Sequence[datetime | None], now: datetime, paths: bool,
) -> Refreshed:  # fmt: skip
    """Fetch the lists, and with `paths` the listings of archives, from the first address that has them.

    `folder` is where they are kept among the copies, `seen` when the copies were made that are known.
    Raises FetchError where no address can be reached.
    """
    return from_the_first(
        repository.addresses,
        lambda base: _Coming(base.rstrip("/"), folder, fetch).bring(
            repository, keys, seen, now, paths
        ),
        repository.identity,
    )


class _Coming:
    """What comes from one address."""

    def __init__(self, base: str, folder: str, fetch: Fetch) -> None:
        self._base = base
        self._folder = folder
        self._fetch = fetch
        self._kept: list[tuple[str, str]] = []
        self._promised: dict[str, str] = {}

    def bring(
        self, repository: Repository, keys: Sequence[Key], seen: Sequence[datetime | None],
        now: datetime, paths: bool,
    ) -> Refreshed:  # fmt: skip
        checksums = self._optional(places.CHECKSUMS)
        beside = self._optional(f"{places.CHECKSUMS}.asc") if checksums else None
        signature = Signatures(
            SignatureVerdict.NONE, reason="there is no signature beside its list of digests"
        )
        if checksums is not None:
            self._promised = read_digest_list(Path(checksums).read_bytes()).digests
            if beside is not None:
                signature = signature_of_file(checksums, beside, keys, now)
        why = _why_not(signature, repository, seen)
        if why is not None:
            for name in (places.CHECKSUMS, f"{places.CHECKSUMS}.asc"):
                self._fetch.forget(f"{self._base}/{name}")
            return Refreshed(signature, signed_at(signature), None, why)
        self._lists(repository, paths)
        for got, name in self._kept:
            self._fetch.keep(got, f"{self._folder}/{name}")
        return Refreshed(signature, signed_at(signature), None, None)

    def _lists(self, repository: Repository, paths: bool) -> None:
        """Fetch the lists themselves, each with the digest that is promised of it. Raises FetchError."""
        try:
            self._required(places.PACKAGES)
        except FetchError as error:
            if not error.absent or repository.configured_in != ADDED:
                raise
            self._required(places.SCRIPT_LIST)
            return
        names = [places.CHANGES, places.FILES]
        if paths:
            names += (
                path.removeprefix("./")
                for path in self._promised
                if path.rpartition("/")[2] == places.MANIFEST
            )
        for name in names:
            self._optional(name, self._promised.get(f"./{name}"))

    def _required(self, name: str) -> None:
        digest = self._promised.get(f"./{name}")
        got = self._fetch.get(f"{self._base}/{name}", LIST_LIMIT, digest)
        self._kept.append((got, name))

    def _optional(self, name: str, digest: str | None = None) -> str | None:
        try:
            got = self._fetch.get(f"{self._base}/{name}", LIST_LIMIT, digest)
        except FetchError as error:
            if not error.absent:
                raise
            self._fetch.drop(f"{self._folder}/{name}")
            return None
        self._kept.append((got, name))
        return got


def _why_not(
    signature: Signatures, repository: Repository, seen: Sequence[datetime | None]
) -> str | None:
    """Why what came is not to be believed, by its signature and its time."""
    required = repository.must_be_signed is True
    return why_refused(signature, required) or older_than(signed_at(signature), seen)
