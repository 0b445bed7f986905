"""The repositories of an `arch` system, the copies of their indexes, and its keys."""

import hashlib
from collections.abc import Iterator, Sequence
from functools import cached_property

from filigree.access.trees.protocol import Tree
from filigree.families.arch import places
from filigree.families.arch.refreshing import SIGNATURE_LIMIT
from filigree.families.arch.settings import OPTIONS, Setting, option_words
from filigree.families.protocol import ADDED, Fetch, Judging, Report, RootKey
from filigree.families.shared.indexes import best_of, copies_folder, unpacked_pieces
from filigree.families.shared.looking import names_in, read_or_report
from filigree.families.shared.rings import RingRepositories, held_in_ring, ring_of
from filigree.families.shared.signatures import signed_at, why_refused
from filigree.formats.arch.trust_database import read_trust
from filigree.formats.damage import Damage, text_of
from filigree.formats.members import PayloadError
from filigree.formats.openpgp import judge_pieces
from filigree.formats.piece_stream import PieceStream
from filigree.formats.tar_stream import tar_members
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap, moment_of
from filigree.model.errors import AccessError
from filigree.model.repositories import (
    IndexCopy,
    IndexFile,
    IndexKind,
    Refreshed,
    Repository,
    without_user,
)
from filigree.model.signatures import Signatures, SignatureVerdict

_TRUST_LIMIT = 64 << 20
_LIST_LIMIT = 1 << 20
_FAMILIES = {"i486": "i686", "i586": "i686"}


class ArchRepositories(RingRepositories):
    """Reads them once, for one question."""

    key_place = f"{places.HOME}, by the system's own key ring"

    def __init__(
        self, tree: Tree, report: Report, settings: list[Setting], architecture: str | None,
        judging: Judging,
    ) -> None:  # fmt: skip
        super().__init__(tree, report, architecture, judging)
        self._settings = settings

    def _read(self) -> Iterator[Repository]:
        yield from self._read_all()
        yield from self._added()

    def refresh(self, repository: Repository, fetch: Fetch, paths: bool) -> Refreshed:
        """Fetch the index of a repository of `all`. Raises FetchError."""
        from filigree.families.arch.refreshing import refresh

        seen = [
            copy.made_at
            for tree, folder in self._shelves(repository.identity, repository.addresses)
            if (copy := self._copy(tree, folder, repository.identity)) is not None
        ]
        folder = f"/{copies_folder(repository.identity, repository.addresses)}"
        return refresh(repository, folder, fetch, self._judging, seen, self._now, paths)

    def _added(self) -> Iterator[Repository]:
        """Repositories by their addresses: `address name`, or the name that the address ends with."""
        for number, text in enumerate(self._own.addresses, 1):
            address, _, name = text.partition(" ")
            place = without_user(address).rstrip("/")
            parts = [part for part in place.split("/") if part != self.native]
            name = name.strip() or parts[-1]
            copy = self._best_copy(name, (address,), asked_for=True)
            yield Repository(
                identity=name, name=name, enabled=True, addresses=(address,), suite=None, component=None,
                architecture=self.native or None, priority=1000 + number, configured_in=ADDED, copy=copy,
                facts={"priority_from": "the auditor asks it last"},
            )  # fmt: skip

    def _read_all(self) -> Iterator[Repository]:
        heads: dict[str, Setting] = {}
        for one in self._settings:
            if not one.name and one.section != OPTIONS:
                heads.setdefault(one.section, one)
        for number, head in enumerate(heads.values(), 1):
            yield self._repository(head, number)

    def _repository(self, head: Setting, number: int) -> Repository:
        name = head.section
        mine = [one for one in self._settings if one.section == name]
        addresses = tuple(
            self._filled(one.value, name) for one in mine if one.name == "Server" and one.value
        )
        remarks = [] if addresses else ["it has no server"]
        words = [word for one in mine if one.name == "SigLevel" for word in one.value.split()]
        general = option_words(self._settings, "SigLevel")
        required = _required("Database", words, general)
        copy = self._best_copy(name, addresses)
        if copy is None:
            remarks.append("it was never fetched")
        elif copy.signature.verdict is SignatureVerdict.UNKNOWN_KEY:
            remarks.append(f"the missing key would be put in {self.key_place}")
        return Repository(
            identity=name, name=name, enabled=True, addresses=addresses, suite=None, component=None,
            architecture=self.native or None, priority=number, configured_in=f"{head.file}:{head.line}",
            must_be_signed=required, archives_must_be_signed=_required("Package", words, general),
            copy=copy, remarks=tuple(remarks),
            facts={"priority_from": f"it is the {_ordinal(number)} in {head.file}"},
            security=False,
        )  # fmt: skip

    def _filled(self, text: str, name: str) -> str:
        machine = _FAMILIES.get(self.native, self.native)
        return text.replace("$repo", name).replace("$arch", machine)

    # -- the copy --------------------------------------------------------------------------

    def _shelves(
        self, name: str, addresses: tuple[str, ...], asked_for: bool = False
    ) -> Iterator[tuple[Tree, str]]:
        """Where copies may lie: the root's own, and those that we fetched, where these count."""
        if not asked_for:
            yield self._tree, places.SYNC
        if self._own.copies is not None:
            yield self._own.copies, f"/{copies_folder(name, addresses)}"

    def _best_copy(
        self, name: str, addresses: tuple[str, ...], asked_for: bool = False
    ) -> IndexCopy | None:
        """The root's own copy; one that we fetched, where that counts and is as new."""
        shelves = self._shelves(name, addresses, asked_for)
        return best_of(self._copy(tree, folder, name) for tree, folder in shelves)

    def _copy(self, tree: Tree, folder: str, name: str) -> IndexCopy | None:
        path = f"{folder}/{name}.db"
        if "/" in name or not tree.exists(path):
            return None
        try:
            seen = tree.observe(tree.real_path(path))
            digest = hashlib.sha256()
            for piece in tree.pieces(path):
                digest.update(piece)
            signature = self._signature(tree, path, seen.size)
        except AccessError as error:
            self._report(Gap(path, error.what))
            return None
        remarks = []
        try:
            packages: int | None = self._count(tree, path)
        except (PayloadError, UnpackError, AccessError) as error:
            packages = None
            remarks.append(f"it cannot be read to its end: {error}")
        # Nothing else promises what is in it: it is what its own signature is good for.
        matches = True if signature.verdict is SignatureVerdict.GOOD else None
        own = tree is self._own.copies
        listed = IndexFile(IndexKind.PACKAGES, path, f"sha256:{digest.hexdigest()}", False, own)
        more = f"{folder}/{name}.files"
        files = (IndexFile(IndexKind.PATHS, more, None, False, own),) if tree.exists(more) else ()
        return IndexCopy(
            path=path, size=seen.size, packages=packages, made_at=signed_at(signature),
            fetched_at=moment_of(seen.modified // 10**9), expires_at=None,
            signature=signature,
            matches=matches, remarks=tuple(remarks), listed=listed, files=files, own=own,
        )  # fmt: skip

    @staticmethod
    def _count(tree: Tree, path: str) -> int:
        stream = PieceStream(unpacked_pieces(tree, path))
        return sum(info.name.endswith("/desc") for info, _ in tar_members(stream))

    def _signature(self, tree: Tree, path: str, size: int) -> Signatures:
        signature = tree.read_or_none(f"{path}.sig", SIGNATURE_LIMIT)
        if signature is None:
            return Signatures(SignatureVerdict.NONE, reason="there is no signature beside it")
        return judge_pieces(lambda: tree.pieces(path), size, signature, self._judging, self._now)

    def refused(self, tree: Tree, path: str) -> str | None:
        """Why an index beside the list of packages is not to be used; None where it may be."""
        try:
            signature = self._signature(tree, path, tree.observe(tree.real_path(path)).size)
        except AccessError as error:
            return error.what
        return why_refused(signature, required=False)

    # -- keys ------------------------------------------------------------------------------

    @cached_property
    def _held(self) -> list[RootKey]:
        """Every key of the ring, in both of its forms, and of the files that it is filled from."""
        names = tuple(
            dict.fromkeys(one.section for one in self._settings if one.section not in ("", OPTIONS))
        )
        how = "in the system's key ring: trusted for packages and indexes of every repository"
        fillers = (
            key
            for name in names_in(self._tree, places.KEYRINGS, self._report)
            if name.endswith(".gpg")
            for key in self._keys.held(f"{places.KEYRINGS}/{name}")
        )
        ring = list(ring_of(places.HOME, self._tree, self._keys, self._report))
        return held_in_ring(ring, fillers, how, names, self._distrusted)

    def _doubted(self) -> dict[str, str]:
        """Why keys of the ring are not held for valid by its own database of trust."""
        data = read_or_report(self._tree, places.TRUST, self._report, _TRUST_LIMIT)
        found = {}
        for one in read_trust(data) if data else ():
            if isinstance(one, Damage):
                self._report(Gap(f"{places.TRUST}, record {one.line}", one.why))
            elif one.counts is False:
                held = "disabled" if one.disabled else f"of {one.validity or 'unknown'} validity"
                found[one.fingerprint] = f"{held} by the ring's own database of trust"
        return found

    @cached_property
    def _distrusted(self) -> dict[str, str]:
        """Why keys of the ring do not count: by its database of trust, or lists beside files of keys."""
        found = self._doubted()
        for name in names_in(self._tree, places.KEYRINGS, self._report):
            if name.endswith("-revoked"):
                data = read_or_report(
                    self._tree, f"{places.KEYRINGS}/{name}", self._report, _LIST_LIMIT
                )
                for word in text_of(data).split():
                    found[word.lower()] = "revoked by the system's own list"
        return found


def _required(part: str, own: Sequence[str], general: Sequence[str]) -> bool | None:
    """Whether a `part` (`Database`, `Package`) must be signed; None where it need not be, but a
    signature counts.

    The words of the repository go behind those of the options; the last that speaks of it counts.
    """
    found: bool | None = None
    for word in (*general, *own):
        match word.removeprefix(part):
            case "Required":
                found = True
            case "Optional":
                found = None
            case "Never":
                found = False
    return found


def _ordinal(number: int) -> str:
    return {1: "first", 2: "second", 3: "third"}.get(number, f"{number}th")
