"""Fetching the index of an `arch` repository, verified before it is kept."""

from collections.abc import Sequence
from datetime import datetime

from filigree.access.web import FetchError
from filigree.families.protocol import Fetch
from filigree.families.shared.indexes import from_the_first, older_than
from filigree.families.shared.signatures import signature_of_file, signed_at, why_refused
from filigree.model.keys import Key
from filigree.model.repositories import Refreshed, Repository
from filigree.model.signatures import Signatures, SignatureVerdict

INDEX_LIMIT = 1 << 30
SIGNATURE_LIMIT = 1 << 20


def refresh(
    repository: Repository, folder: str, fetch: Fetch, keys: Sequence[Key],
    seen: Sequence[datetime | None], now: datetime, paths: bool,
) -> Refreshed:  # fmt: skip
    """Fetch the index, and with `paths` that of its paths, from the first server that has it.

    `folder` is where it is kept among the copies, `seen` when the copies were made that are known. Raises
    FetchError where no server can be reached.
    """
    return from_the_first(
        repository.addresses,
        lambda base: _from(base.rstrip("/"), repository, folder, fetch, keys, seen, now, paths),
        repository.identity,
    )


def _from(
    base: str, repository: Repository, folder: str, fetch: Fetch, keys: Sequence[Key],
    seen: Sequence[datetime | None], now: datetime, paths: bool,
) -> Refreshed:  # fmt: skip
    name = repository.identity
    kept: list[tuple[str, str | None, str]] = []
    first: Signatures | None = None
    for ending in ("db", "files") if paths else ("db",):
        address = f"{base}/{name}.{ending}"
        got = fetch.get(address, INDEX_LIMIT)
        beside = _beside(address, fetch)
        signature = _judged(got, beside, keys, now)
        first = first or signature
        why = _why_not(signature, repository, seen)
        if why is not None:
            fetch.forget(address)
            fetch.forget(f"{address}.sig")
            return Refreshed(signature, signed_at(signature), None, why)
        kept.append((got, beside, f"{folder}/{name}.{ending}"))
    for got, beside, place in kept:
        if beside is not None:
            fetch.keep(beside, f"{place}.sig")
        else:
            fetch.drop(f"{place}.sig")
        fetch.keep(got, place)
    assert first is not None
    return Refreshed(first, signed_at(first), None, None)


def _beside(address: str, fetch: Fetch) -> str | None:
    try:
        return fetch.get(f"{address}.sig", SIGNATURE_LIMIT)
    except FetchError as error:
        if error.absent:
            return None
        raise


def _judged(got: str, beside: str | None, keys: Sequence[Key], now: datetime) -> Signatures:
    if beside is None:
        return Signatures(SignatureVerdict.NONE, reason="there is no signature beside it")
    return signature_of_file(got, beside, keys, now)


def _why_not(
    signature: Signatures, repository: Repository, seen: Sequence[datetime | None]
) -> str | None:
    """Why what came is not to be believed, by its signature and its time."""
    required = repository.must_be_signed is True
    return why_refused(signature, required) or older_than(signed_at(signature), seen)
