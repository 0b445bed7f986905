"""Fetching the indexes of a `deb` repository, each verified before it is kept."""

from collections.abc import Iterator, Sequence
from datetime import datetime
from pathlib import Path

from filigree.access.web import FetchError
from filigree.families.deb.copies import (
    ENDINGS,
    RELEASE_LIMIT,
    address_of,
    copy_name,
    other_paths,
    packages_path,
)
from filigree.families.protocol import Fetch
from filigree.families.shared.indexes import mixture, older_than
from filigree.families.shared.signatures import why_refused
from filigree.formats.damage import Damage
from filigree.formats.deb.release import Release, read_release
from filigree.formats.deb.sources import Source
from filigree.formats.openpgp import judge_clear_signed, judge_detached
from filigree.model.errors import FiligreeError
from filigree.model.keys import Key
from filigree.model.repositories import IndexKind, Refreshed
from filigree.model.signatures import Signatures, SignatureVerdict

INDEX_LIMIT = 4 << 30
_FOLDERS = {"sha512": "SHA512", "sha256": "SHA256", "sha1": "SHA1", "md5": "MD5Sum"}
_BEST = (".xz", ".zst", ".gz", ".bz2", ".lz4", "")
Got = list[tuple[str, str]]
"""What was got, and its place among the copies."""


def refresh(
    source: Source,
    architecture: str,
    fetch: Fetch,
    keys: list[Key],
    seen: Sequence[Release],
    now: datetime,
    paths: bool,
) -> Refreshed:
    """Fetch the signed file and what it speaks of. `seen` are signed files that were seen before.

    Raises FetchError where it cannot be reached.
    """
    signature, text, signed = _signed(source, fetch, keys, now)
    release = read_release(text)
    if isinstance(release, Damage):
        return Refreshed(signature, None, None, f"its signed file is none: {release.why}")
    remarks = []
    if release.expires_at is not None and release.expires_at < now:
        remarks.append("it has expired: nothing newer is sent")
    refused = _why_not(source, signature, release, seen)
    if refused is None:
        try:
            files = list(_indexes(source, architecture, fetch, release, paths))
        except FetchError as error:
            if not error.wrong:
                raise
            refused = _mixture(source, architecture, fetch, release, seen) or error.what
    if refused is not None:
        for address in (f"{address_of(source)}{name}" for name in _SIGNED):
            fetch.forget(address)
        return Refreshed(signature, release.made_at, release.expires_at, refused, tuple(remarks))
    for got, place in (*files, *signed):
        fetch.keep(got, place)
    return Refreshed(signature, release.made_at, release.expires_at, None, tuple(remarks))


_SIGNED = ("InRelease", "Release", "Release.gpg")


def _signed(
    source: Source, fetch: Fetch, keys: list[Key], now: datetime
) -> tuple[Signatures, bytes, Got]:
    """The signature and the text of the signed file, in either form."""
    base = address_of(source)
    try:
        got = fetch.get(f"{base}InRelease", RELEASE_LIMIT)
        signature, text = judge_clear_signed(Path(got).read_bytes(), keys, now)
        return signature, text, [(got, copy_name(source, "InRelease"))]
    except FetchError as error:
        if not error.absent:
            raise
    got = fetch.get(f"{base}Release", RELEASE_LIMIT)
    text = Path(got).read_bytes()
    found = [(got, copy_name(source, "Release"))]
    try:
        beside = fetch.get(f"{base}Release.gpg", RELEASE_LIMIT)
    except FetchError as error:
        if not error.absent:
            raise
        return (
            Signatures(SignatureVerdict.NONE, reason="there is no signature beside it"),
            text,
            found,
        )
    found.append((beside, copy_name(source, "Release.gpg")))
    return judge_detached(text, Path(beside).read_bytes(), keys, now), text, found


def _why_not(
    source: Source, signature: Signatures, release: Release, seen: Sequence[Release]
) -> str | None:
    """Why what came is not to be believed, by its signature and its time."""
    told = [one.made_at for one in seen]
    return why_refused(signature, not source.trusted) or older_than(release.made_at, told)


def _indexes(
    source: Source, architecture: str, fetch: Fetch, release: Release, paths: bool
) -> Iterator[tuple[str, str]]:
    """The indexes of one component, fetched."""
    yield _index(source, packages_path(source, architecture), fetch, release)
    for kind, inner in other_paths(source, architecture):
        if kind is IndexKind.PATHS and not paths:
            continue
        if any(inner + ending in release.digests for ending in ENDINGS):
            yield _index(source, inner, fetch, release)


def _index(source: Source, inner: str, fetch: Fetch, release: Release) -> tuple[str, str]:
    """One index, in the best packing that there is: where it lies, and its place among the copies."""
    known = [end for end in _BEST if inner + end in release.digests]
    if not known:
        raise FetchError("the signed file does not speak of it", f"{address_of(source)}{inner}")
    missing: FetchError | None = None
    for end in known:
        digest, size = release.digests[inner + end]
        for address in _addresses(source, inner + end, digest, release):
            try:
                got = fetch.get(address, INDEX_LIMIT, digest, size)
            except FetchError as error:
                if not error.absent:
                    raise
                missing = missing or error
                continue
            for other in ENDINGS:
                if other != end:
                    fetch.drop(copy_name(source, inner) + other)
            return got, copy_name(source, inner) + end
    assert missing is not None
    raise missing


def _addresses(source: Source, path: str, digest: str, release: Release) -> Iterator[str]:
    base = address_of(source)
    algorithm, _, value = digest.partition(":")
    if release.by_digest:
        folder = path.rpartition("/")[0]
        yield f"{base}{folder}{'/' if folder else ''}by-hash/{_FOLDERS[algorithm]}/{value}"
    yield f"{base}{path}"


def _mixture(
    source: Source, architecture: str, fetch: Fetch, release: Release, seen: Sequence[Release]
) -> str | None:
    """Whether what came belongs to a signed file that was seen before: a mixture of two states."""
    inner = packages_path(source, architecture)
    for end in _BEST:
        if inner + end not in release.digests:
            continue
        address = f"{address_of(source)}{inner}{end}"
        try:
            got = fetch.get(address, INDEX_LIMIT)
        except FiligreeError:
            continue
        promised = ((one.digests.get(inner + end), one.made_at) for one in seen)
        said = mixture(got, ((told[0] if told else None, made) for told, made in promised))
        fetch.forget(address)
        if said is not None:
            return said
    return None
