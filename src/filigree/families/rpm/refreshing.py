"""Fetching the indexes of an `rpm` repository, each verified before it is kept."""

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from filigree.access.web import FetchError
from filigree.families.protocol import Fetch
from filigree.families.shared.indexes import from_the_first, mixture, older_than
from filigree.families.shared.signatures import why_refused
from filigree.formats.openpgp import judge_detached
from filigree.formats.rpm.metalink import read_metalink
from filigree.formats.rpm.repomd import SIZE_LIMIT, RepoMd, XmlError, made_at, read_repomd
from filigree.model.errors import FiligreeError, words_of
from filigree.model.keys import Key
from filigree.model.repositories import Refreshed
from filigree.model.signatures import Signatures, SignatureVerdict

INDEX_LIMIT = 4 << 30
LIST = "repodata/repomd.xml"
_SMALL = ("primary", "updateinfo", "group", "group_gz", "group_xz", "group_zst", "modules")
_LARGE = ("filelists", "other")


class RpmRefresh(NamedTuple):
    """What fetching a repository goes by: its settings, and the lists of it that were seen before.

    `folder` is where its indexes are kept among the copies; with `paths` the large ones are fetched, too.
    """

    values: Mapping[str, str]
    folder: str
    fetch: Fetch
    keys: list[Key]
    seen: Sequence[RepoMd]
    now: datetime
    paths: bool


def refresh(asked: RpmRefresh) -> Refreshed:
    """Fetch the list of indexes and what it lists, from the first mirror that has them.

    Raises FetchError where none can be reached.
    """
    bases, digest = _mirrors(asked.values, asked.fetch)
    return from_the_first(bases, lambda base: _from(base, digest, asked), asked.folder)


def _mirrors(values: Mapping[str, str], fetch: Fetch) -> tuple[list[str], str | None]:
    """The addresses in their order, and the digest of the list where one is told."""
    bases = values.get("baseurl", "").replace(",", " ").split()
    if bases:
        return bases, None
    for name in ("metalink", "mirrorlist"):
        address = values.get(name, "").strip()
        if not address:
            continue
        data = Path(fetch.get(address, SIZE_LIMIT)).read_bytes()
        if data.lstrip()[:1] == b"<":
            try:
                mirrors = read_metalink([data])
            except XmlError as error:
                raise FetchError(f"the list of mirrors is none: {error}", address) from error
            web = (one for one in mirrors.addresses if one.startswith(("http:", "https:")))
            return [one.removesuffix(LIST) for one in web], mirrors.digest
        lines = data.decode("utf-8", "replace").split("\n")
        return [one.strip() for one in lines if one.startswith(("http:", "https:"))], None
    return [], None


def _from(base: str, digest: str | None, asked: RpmRefresh) -> Refreshed:
    fetch, seen = asked.fetch, asked.seen
    base = f"{base.rstrip('/')}/"
    got = fetch.get(f"{base}{LIST}", SIZE_LIMIT, digest)
    data = Path(got).read_bytes()
    signature, beside = _signed(base, data, asked)
    try:
        listed = read_repomd(data)
    except XmlError as error:
        return Refreshed(signature, None, None, f"its list of indexes is none: {words_of(error)}")
    made = made_at(listed)
    refused = _why_not(asked.values, signature, listed, seen)
    files: list[tuple[str, str]] = []
    if refused is None:
        try:
            files += _indexes(base, listed, fetch, asked.paths)
        except FetchError as error:
            if not error.wrong:
                raise
            refused = _mixture(base, listed, fetch, seen) or error.what
    if refused is not None:
        fetch.forget(f"{base}{LIST}")
        return Refreshed(signature, made, None, refused)
    _keep(asked, [*files, (got, "repomd.xml")], beside)
    return Refreshed(signature, made, None, None)


def _why_not(
    values: Mapping[str, str], signature: Signatures, listed: RepoMd, seen: Sequence[RepoMd]
) -> str | None:
    """Why what came is not to be believed, by its signature, its time, and what it lists."""
    refused = why_refused(signature, values.get("repo_gpgcheck", "").lower() in _YES)
    if refused is not None:
        return refused
    if "primary" not in listed.indexes:
        return "it lists no packages"
    return older_than(made_at(listed), map(made_at, seen))


def _keep(asked: RpmRefresh, files: Sequence[tuple[str, str]], beside: str | None) -> None:
    """Put everything in its place, the list of indexes last; let go of what is not listed any more."""
    folder, fetch = asked.folder, asked.fetch
    names = {name for _, name in files}
    for old in (
        one.place.rpartition("/")[2] for known in asked.seen for one in known.indexes.values()
    ):
        if old and old not in names:
            fetch.drop(f"{folder}/repodata/{old}")
    if beside is not None:
        fetch.keep(beside, f"{folder}/{LIST}.asc")
    else:
        fetch.drop(f"{folder}/{LIST}.asc")
    for path, name in files:
        fetch.keep(path, f"{folder}/repodata/{name}")


_YES = ("1", "yes", "true", "on")


def _signed(base: str, data: bytes, asked: RpmRefresh) -> tuple[Signatures, str | None]:
    try:
        beside = asked.fetch.get(f"{base}{LIST}.asc", SIZE_LIMIT)
    except FetchError as error:
        if not error.absent:
            raise
        return Signatures(SignatureVerdict.NONE, reason="there is no signature beside it"), None
    return judge_detached(data, Path(beside).read_bytes(), asked.keys, asked.now), beside


def _indexes(base: str, listed: RepoMd, fetch: Fetch, paths: bool) -> Iterator[tuple[str, str]]:
    """What was fetched, and its name."""
    for kind in (*_SMALL, *(_LARGE if paths else ())):
        one = listed.indexes.get(kind)
        if one is not None and one.digest is not None:
            got = fetch.get(f"{base}{one.place}", INDEX_LIMIT, one.digest, one.size)
            yield got, one.place.rpartition("/")[2]
        elif kind == "primary":
            raise FetchError("no digest is told of its list of packages", base, wrong=True)


def _mixture(base: str, listed: RepoMd, fetch: Fetch, seen: Sequence[RepoMd]) -> str | None:
    """Whether what came belongs to a list that was seen before: a mixture of two states."""
    address = f"{base}{listed.indexes['primary'].place}"
    try:
        got = fetch.get(address, INDEX_LIMIT)
    except FiligreeError:
        return None
    primaries = ((known.indexes.get("primary"), made_at(known)) for known in seen)
    said = mixture(got, ((one.digest if one else None, made) for one, made in primaries))
    fetch.forget(address)
    return said
