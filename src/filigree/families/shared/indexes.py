"""What every family asks of the copies of indexes: their bytes, digests, and keys of their signatures."""

import hashlib
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import datetime
from typing import Any, Protocol

from filigree.access.trees.protocol import Tree
from filigree.access.web import FetchError
from filigree.families.protocol import (
    Fetch,
    Judging,
    Kept,
    Reader,
    Remembered,
    Report,
    RootKey,
    found_anew,
)
from filigree.formats.key_files import read_key_file
from filigree.formats.openpgp_keys import read_keys
from filigree.formats.random_access import Bytes, MemoryBytes
from filigree.formats.unpacking import Unpacked, UnpackError
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, Obstacle, words_of
from filigree.model.keys import Key
from filigree.model.package import Package
from filigree.model.repositories import (
    IndexCopy,
    IndexFile,
    Membership,
    Refreshed,
    Repository,
)

PIECE = 1 << 18
KEY_LIMIT = 16 << 20
REMEMBERED_FROM, REMEMBERED_TO = 1 << 20, 128 << 20
"""Of packed files of so many bytes it is kept what was found by unpacking them: it takes seconds of large
ones; larger ones than these are not held whole."""


class LargerThanPromised(UnpackError):
    """An index whose text goes on beyond the size that the signed file promises."""


def unpacked_pieces(tree: Tree, path: str, promised: int | None = None) -> Iterator[bytes]:
    """An index, whatever its compression, in pieces.

    Raises AccessError or UnpackError: that too where it is larger than promised.
    """
    source = tree.lend(path)
    try:
        yield from _unpacked(source, source.size, promised)
    finally:
        source.close()


def _unpacked(source: Bytes, size: int, promised: int | None) -> Iterator[bytes]:
    stream = Unpacked(source, 0, size)
    while piece := stream.read(PIECE):
        if promised is not None and stream.position > promised:
            raise LargerThanPromised(f"it is larger than the {promised:,} bytes that are promised")
        yield piece


def found_by_unpacking(
    tree: Tree,
    file: IndexFile,
    remembered: Remembered,
    what: str,
    find: Callable[[Iterator[bytes]], str],
) -> str:
    """What `find` makes of an index's text: found now, or by an earlier run in the same bytes.

    `what` tells apart what is found. Raises AccessError or UnpackError as `unpacked_pieces`.
    """
    size = tree.observe(file.path).size
    if not REMEMBERED_FROM <= size <= REMEMBERED_TO:
        return find(unpacked_pieces(tree, file.path, file.size))
    digest = packed_digest(tree, file.path, "blake2b").partition(":")[2]

    def anew() -> str:
        # What is remembered under a digest is of the very bytes that have it: whoever changes the file
        # between two readings could have the one remembered for the other.
        packed = tree.read(file.path, REMEMBERED_TO)
        if hashlib.blake2b(packed, usedforsecurity=False).hexdigest() != digest:
            raise AccessError(Obstacle.CHANGED, file.path)
        return find(_unpacked(MemoryBytes(packed), len(packed), file.size))

    return remembered(f"{digest}-{what}", anew)


def checked_pieces(tree: Tree, file: IndexFile) -> Iterator[bytes]:
    """The text of an index whose digest is known, in pieces.

    Raises AccessError at the end where it was not the same any more, or UnpackError.
    """
    expected = file.digest or "sha256:"
    if not file.inner and packed_digest(tree, file.path, expected.partition(":")[0]) != expected:
        raise AccessError(Obstacle.CHANGED, file.path)
    digest = hashlib.new(expected.partition(":")[0], usedforsecurity=False)
    for piece in unpacked_pieces(tree, file.path, file.size):
        if file.inner:
            digest.update(piece)
        yield piece
    if file.inner and f"{digest.name}:{digest.hexdigest()}" != expected:
        raise AccessError(Obstacle.CHANGED, file.path)


def digest_found(
    tree: Tree, file: IndexFile, report: Report, remembered: Remembered = found_anew
) -> str | None:
    """The digest of an index; None, and a gap, where it is not what is promised, or cannot be read.

    Whoever reads the index holds it against this digest once more.
    """
    algorithm = (file.digest or "sha256:").partition(":")[0]

    def digest_of(pieces: Iterator[bytes]) -> str:
        digest = hashlib.new(algorithm, usedforsecurity=False)
        for piece in pieces:
            digest.update(piece)
        return f"{algorithm}:{digest.hexdigest()}"

    try:
        if file.inner:
            found = found_by_unpacking(tree, file, remembered, algorithm, digest_of)
        else:
            found = packed_digest(tree, file.path, algorithm)
    except (AccessError, UnpackError, ValueError) as error:
        report(Gap(file.path, words_of(error)))
        return None
    if file.digest is not None and found != file.digest:
        report(Gap(file.path, "it is not what the signed file says: it is not to be used"))
        return None
    return found


def packed_digest(tree: Tree, path: str, algorithm: str) -> str:
    """The digest of a file as it lies. Raises AccessError."""
    digest = hashlib.new(algorithm, usedforsecurity=False)
    for piece in tree.pieces(path):
        digest.update(piece)
    return f"{algorithm}:{digest.hexdigest()}"


def digest_of_file(path: str, algorithm: str) -> str:
    """The digest of a file of the auditor's own."""
    with open(path, "rb") as file:
        return f"{algorithm}:{hashlib.file_digest(file, algorithm).hexdigest()}"


def from_the_first(bases: Iterable[str], ask: Callable[[str], Refreshed], whose: str) -> Refreshed:
    """What the first server brings that can be reached; those that were passed over are told.

    Raises FetchError where none can be.
    """
    failures: list[FetchError] = []
    for base in bases:
        try:
            found = ask(base)
        except FetchError as error:
            failures.append(error)
            continue
        passed = [f"{error.where} was passed over: {error.what}" for error in failures]
        return found._replace(remarks=(*passed, *found.remarks))
    if failures:
        raise failures[0]
    raise FetchError("it has no address", whose)


def mixture(got: str, seen: Iterable[tuple[str | None, datetime | None]]) -> str | None:
    """Why an index is refused that belongs to a state seen before; None where it belongs to none.

    `seen` are the digests that were promised before, each with the time of its signed file.
    """
    for digest, made in seen:
        if digest and digest_of_file(got, digest.partition(":")[0]) == digest:
            when = f" of {made:%Y-%m-%d %H:%M}" if made else ""
            return f"it is a mixture of two states: its list belongs to the signed file{when}"
    return None


def older_than(made: datetime | None, seen: Iterable[datetime | None]) -> str | None:
    """Why an index is refused that is older than one that was seen before; None where it is not."""
    newest = max((one for one in seen if one is not None), default=None)
    if newest is None or made is None or made >= newest:
        return None
    return (
        f"it was made on {made:%Y-%m-%d %H:%M}, and one of {newest:%Y-%m-%d %H:%M} was seen before: "
        "an old index is sent again"
    )


def copies_folder(name: str, addresses: Sequence[str]) -> str:
    """What the folder of the copies that we fetched of a repository is called."""
    address = addresses[0] if addresses else ""
    return f"{name}-{hashlib.sha256(address.encode('utf-8', 'surrogateescape')).hexdigest()[:16]}"


def best_of(copies: Iterable[IndexCopy | None]) -> IndexCopy | None:
    """The root's own copy; one that we fetched, where that may be believed and is as new."""
    best: IndexCopy | None = None
    for copy in copies:
        if copy is None or (copy.own and not copy.usable and best is not None):
            continue
        newer = best is None or not best.usable or best.made_at is None
        if newer or (
            copy.made_at is not None and best and copy.made_at >= (best.made_at or copy.made_at)
        ):
            best = copy
    return best


class Configured(Protocol):
    """The repositories that a system is configured to use."""

    @property
    def native(self) -> str:
        """The system's own kind of machine."""
        ...

    def all(self) -> list[Repository]:
        """Every index that is configured."""
        ...

    def refresh(self, repository: Repository, fetch: Fetch, paths: bool) -> Refreshed:
        """Fetch the indexes of one."""
        ...

    def root_keys(self) -> Sequence[RootKey]:
        """Every key that the root holds."""
        ...

    @property
    def key_place(self) -> str:
        """Where a key would be put that archives are signed with."""
        ...


class IndexReader:
    """What all families' sources do alike: they read copies below the root, or those that we fetched.

    `any_machine` is the architecture of what runs on every kind of machine, `compare` the order of
    versions; `membership` is how firmly packages belong to groups that they say they are of.
    """

    any_machine: str
    compare: Callable[[str, str], int]
    membership = Membership.MANDATORY

    def __init__(
        self, tree: Tree, report: Report, configured: Configured, judging: Judging
    ) -> None:
        self._tree = tree
        self._report = report
        self._own = judging.copies
        self._remembered = judging.remembered
        self._known = configured

    def repositories(self) -> Sequence[Repository]:
        return self._known.all()

    def refresh(self, repository: Repository, fetch: Fetch, paths: bool) -> Refreshed:
        return self._known.refresh(repository, fetch, paths)

    def root_keys(self) -> Sequence[RootKey]:
        return self._known.root_keys()

    @property
    def key_place(self) -> str:
        return self._known.key_place

    def digest_of(self, file: IndexFile) -> str | None:
        tree = self._tree_of(file)
        return digest_found(tree, file, self._report, self._remembered)

    def kind_of_machine(self, package: Package) -> str:
        machine = package.architecture
        return self._known.native if machine == self.any_machine else machine

    def description(self, record: str, kept: Kept) -> str | None:
        del record, kept  # descriptions stand with the rest
        return None

    def order(self, here: Package, other: Package) -> int | None:
        return self.compare(here.version, other.version)

    def _reader(self, read: Callable[[Iterator[bytes], str, Report], Iterator[Any]]) -> Reader:
        """A reader of indexes, of a function that takes their text, their path and a report."""
        return lambda file, report: read(self._pieces(file), file.path, report)

    def _plain_reader(self, read: Callable[[Iterator[bytes]], Iterator[Any]]) -> Reader:
        """A reader of indexes, of a function that takes their text alone."""
        return lambda file, _: read(self._pieces(file))

    def _pieces(self, file: IndexFile) -> Iterator[bytes]:
        """The text of an index whose digest is known."""
        return checked_pieces(self._tree_of(file), file)

    def _tree_of(self, file: IndexFile) -> Tree:
        return self._own.copies if file.own and self._own.copies else self._tree


def doubts(keys: Iterable[Key]) -> Iterator[Gap]:
    """A gap for each key of which it is not known whether it was revoked."""
    for key in keys:
        if key.doubt is not None:
            what = f"whether key {key.fingerprint} of {key.file} was revoked"
            yield Gap(what, key.doubt)


class Keys:
    """The keys of one root's files, each file read once; or the auditor's own instead of them."""

    def __init__(self, tree: Tree, report: Report, own: list[Key] | None = None) -> None:
        self._tree = tree
        self._report = report
        self.own = own
        self._files: dict[str, list[Key] | None] = {}

    def of_file(self, path: str) -> list[Key] | None:
        """The keys of a file; None where there is none, or it cannot be read, which is reported."""
        if self.own is not None:
            return self.own
        if path not in self._files:
            self._files[path] = self._read(path)
        return self._files[path]

    def of_text(self, text: str, place: str) -> list[Key]:
        """The keys of a text that stands in a configuration file."""
        if self.own is not None:
            return self.own
        try:
            return self.told(read_keys(text.encode("utf-8", "surrogateescape"), place))
        except ValueError as error:
            self._report(Gap(place, str(error)))
            return []

    def told(self, keys: list[Key]) -> list[Key]:
        """Keys, those of which it is not known whether they were revoked reported."""
        for gap in doubts(keys):
            self._report(gap)
        return keys

    def held(self, path: str) -> list[Key]:
        """The root's own keys in a file, whoever else's count."""
        if self.own is not None:
            return self._read(path) or []
        return self.of_file(path) or []

    def _read(self, path: str) -> list[Key] | None:
        try:
            data = self._tree.read_or_none(path, KEY_LIMIT)
            return None if data is None else self.told(read_key_file(data, path))
        except AccessError as error:
            self._report(Gap(path, error.what))
        except ValueError as error:
            self._report(Gap(path, str(error)))
        return None
