"""The repositories of a `slackware` system, the copies of their lists, and its keys."""

from collections.abc import Iterator, Sequence
from functools import cached_property

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import ADDED, Fetch, Judging, Report, RootKey
from filigree.families.shared.indexes import best_of, copies_folder, packed_digest, unpacked_pieces
from filigree.families.shared.looking import os_release
from filigree.families.shared.releases import other_release
from filigree.families.shared.rings import RingRepositories, held_in_ring, ring_of
from filigree.families.shared.signatures import signed_at
from filigree.families.slackware import places
from filigree.families.slackware.lists import Lists
from filigree.families.slackware.refreshing import SIGNATURE_LIMIT
from filigree.families.slackware.scripts import digest_of_tree, info_files
from filigree.families.slackware.settings import lines_of, read_values
from filigree.formats.openpgp import judge_pieces
from filigree.formats.slackware.build_scripts import read_script_list
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

SCRIPTS = "build-scripts"
_UNSIGNED = Signatures(
    SignatureVerdict.NONE, reason="there is no signature beside its list of digests"
)
_MIRRORS, _ADDED = 64, 1001
_TO_BUILD = "what it offers must be built first"


class SlackwareRepositories(RingRepositories):
    """Reads them once, for one question."""

    key_place = f"{places.RING}, by the system's own key ring"

    def __init__(
        self, tree: Tree, report: Report, architecture: str | None, judging: Judging
    ) -> None:
        super().__init__(tree, report, architecture, judging)
        self._opened: dict[tuple[bool, str], Lists] = {}

    def _read(self) -> Iterator[Repository]:
        yield from self._mirrors()
        yield from self._scripts()
        yield from self._added()

    @cached_property
    def _values(self) -> dict[str, list[str]]:
        return read_values(self._tree, self._report)

    @cached_property
    def parts(self) -> list[str]:
        """The parts of a repository, in the order in which they are asked."""
        told = [word for word in self._values.get("PRIORITY", []) if word]
        main = [part for part in places.PARTS if part.startswith("slackware")]
        found: list[str] = []
        for word in told:
            found += main if word.startswith("%") else [word]
        return found or list(places.PARTS)

    def refresh(self, repository: Repository, fetch: Fetch, paths: bool) -> Refreshed:
        """Fetch the lists of a repository of `all`. Raises FetchError."""
        from filigree.families.slackware.refreshing import refresh

        seen = [
            copy.made_at
            for lists in self._shelves(
                repository.identity, repository.addresses, repository.priority
            )
            if (copy := self._copy(lists)) is not None
        ]
        folder = f"/{copies_folder(repository.identity, repository.addresses)}"
        return refresh(repository, folder, fetch, self._judging, seen, self._now, paths)

    # -- what is configured ----------------------------------------------------------------

    def _mirrors(self) -> Iterator[Repository]:
        """Each address that counts; the copy below the root is of the first of them."""
        lines = lines_of(self._tree, places.MIRRORS, self._report)
        if len(lines) > _MIRRORS:
            self._report(Gap(places.MIRRORS, f"only the first {_MIRRORS} addresses are read"))
            lines = lines[:_MIRRORS]
        names: set[str] = set()
        for number, (line, address) in enumerate(lines, 1):
            name = _name_of(address)
            while name in names:
                name += "'"
            names.add(name)
            yield self._repository(name, address, f"{places.MIRRORS}:{line}", number)
        lists = Lists(self._tree, places.LISTS, self._report)
        if not lines and lists.has(places.PACKAGES):
            yield self._repository("lists", None, places.LISTS, 1)

    def _repository(self, name: str, address: str | None, place: str, number: int) -> Repository:
        addresses = (address,) if address else ()
        copy = best_of(self._copy(lists) for lists in self._shelves(name, addresses, number))
        remarks = [] if address else ["it has no address"]
        if copy is None:
            remarks.append("it was never fetched")
        elif copy.signature.verdict is SignatureVerdict.UNKNOWN_KEY:
            remarks.append(f"the missing key would be put in {self.key_place}")
        other = other_release(addresses, self._release)
        if other is not None:
            remarks.append(f"it is of another release, {other}: this system is {self._release}")
        asked = self._values.get("CHECKGPG", ["on"])
        why = "the auditor asks it last" if place == ADDED else f"it is number {number} there"
        return Repository(
            identity=name, name=name, enabled=True, addresses=addresses, suite=None, component=None,
            architecture=self.native or None, priority=number, configured_in=place,
            must_be_signed=None if place == ADDED else "on" in asked, copy=copy,
            remarks=tuple(remarks), facts={"priority_from": why}, security=False,
            other_release=other,
        )  # fmt: skip

    @cached_property
    def _release(self) -> str | None:
        return os_release(self._tree, self._report).get("VERSION_ID")

    def _scripts(self) -> Iterator[Repository]:
        """Build scripts below the root, where there are any."""
        copy = self._script_copy()
        if copy is not None:
            yield Repository(
                identity=SCRIPTS, name=SCRIPTS, enabled=True, addresses=(), suite=None,
                component=None, architecture=None, priority=500, configured_in=places.BUILD_SCRIPTS,
                copy=copy, remarks=(_TO_BUILD,), facts={"priority_from": _TO_BUILD},
            )  # fmt: skip

    def _added(self) -> Iterator[Repository]:
        """Repositories by their addresses: `address name`, or the name that the address ends with."""
        for number, text in enumerate(self._own.addresses, _ADDED):
            address, _, name = text.partition(" ")
            yield self._repository(name.strip() or _name_of(address), address, ADDED, number)

    # -- copies ----------------------------------------------------------------------------

    def _shelves(self, name: str, addresses: Sequence[str], number: int | None) -> Iterator[Lists]:
        """Where copies may lie: the root's own, of the first alone; ours, where those count."""
        if number == 1:
            yield Lists(self._tree, places.LISTS, self._report)
        if self._own.copies is not None:
            folder = f"/{copies_folder(name, addresses)}"
            yield Lists(self._own.copies, folder, self._report, own=True)

    def _copy(self, lists: Lists) -> IndexCopy | None:
        own = lists.tree is self._own.copies
        if lists.has(places.SCRIPT_LIST) and own:
            return self._script_list(lists, own)
        if not lists.has(places.PACKAGES):
            return None
        path = lists.place(places.PACKAGES)
        remarks: list[str] = []
        packages: int | None = None
        digest: str | None = None
        matches: bool | None = False
        try:
            seen = lists.tree.observe(lists.tree.real_path(path))
            signature = self._signature(lists)
            digest = lists.digest()
            matches, words = lists.believed()
            remarks += [words] if words else []
            packages = lists.count()
        except AccessError as error:
            self._report(Gap(path, error.what))
            return None
        except UnpackError as error:
            remarks.append(f"it cannot be read to its end: {error}")
        if not lists.promised:
            remarks.append("there is no list of digests beside it that can be read")
        listed = IndexFile(IndexKind.PACKAGES, path, digest, False, own)
        return IndexCopy(
            path=path, size=seen.size, packages=packages, made_at=signed_at(signature),
            fetched_at=moment_of(seen.modified // 10**9), expires_at=None,
            signature=signature,
            matches=matches, remarks=tuple(remarks), listed=listed, files=lists.others, own=own,
        )  # fmt: skip

    def _signature(self, lists: Lists) -> Signatures:
        """The signature of the list of digests, which stands for all others."""
        path = lists.place(places.CHECKSUMS)
        try:
            signature = lists.tree.read_or_none(f"{path}.asc", SIGNATURE_LIMIT)
            if signature is None or not lists.has(places.CHECKSUMS):
                return _UNSIGNED
            size = lists.tree.observe(lists.tree.real_path(path)).size
            return judge_pieces(
                lambda: lists.tree.pieces(path), size, signature, self._judging, self._now
            )
        except AccessError as error:
            self._report(Gap(path, error.what))
            return Signatures(
                SignatureVerdict.NONE, reason=f"its list of digests cannot be read: {error.what}"
            )

    def _script_copy(self) -> IndexCopy | None:
        """The scripts below the root, as one index."""
        lists = Lists(self._tree, places.BUILD_SCRIPTS, self._report)
        if lists.has(places.SCRIPT_LIST):
            return self._script_list(lists, False)
        if not self._tree.is_directory(places.BUILD_SCRIPTS):
            return None
        files = [path for path, _ in info_files(self._tree, lists.folder, self._report)]
        if not files:
            return None
        try:
            seen = [self._tree.observe(self._tree.real_path(path)) for path in files]
        except AccessError as error:
            self._report(Gap(lists.folder, error.what))
            return None
        digest = digest_of_tree(self._tree, lists.folder, self._report)
        listed = IndexFile(IndexKind.PACKAGES, lists.folder, digest, False)
        newest = max(one.modified for one in seen)
        return IndexCopy(
            path=lists.folder, size=sum(one.size for one in seen), packages=len(files), made_at=None,
            fetched_at=moment_of(newest // 10**9),
            expires_at=None, signature=Signatures(SignatureVerdict.NONE,
                reason="scripts below the root are unsigned"),
            matches=None, remarks=(),
            listed=listed,
        )  # fmt: skip

    def _script_list(self, lists: Lists, own: bool) -> IndexCopy | None:
        path = lists.place(places.SCRIPT_LIST)
        try:
            seen = lists.tree.observe(lists.tree.real_path(path))
            digest = packed_digest(lists.tree, path, "sha256")
            told = lists.promised.get(f"./{places.SCRIPT_LIST}")
            matches = packed_digest(lists.tree, path, "md5") == told if told else None
            signature = self._signature(lists)
            count = sum(
                "PRGNAM" in fields for fields in read_script_list(unpacked_pieces(lists.tree, path))
            )
        except (AccessError, UnpackError) as error:
            self._report(Gap(path, str(error)))
            return None
        listed = IndexFile(IndexKind.PACKAGES, path, digest, False, own)
        return IndexCopy(
            path=path, size=seen.size, packages=count, made_at=signed_at(signature),
            fetched_at=moment_of(seen.modified // 10**9), expires_at=None,
            signature=signature,
            matches=matches, remarks=(), listed=listed, files=(), own=own,
        )  # fmt: skip

    def lists_of(self, repository: Repository) -> Lists | None:
        """The folder of lists that the copy of a repository lies in, read once."""
        copy = repository.copy
        if copy is None:
            return None
        folder = copy.path.rpartition("/")[0]
        if (copy.own, folder) not in self._opened:
            tree = self._own.copies if copy.own and self._own.copies else self._tree
            self._opened[copy.own, folder] = Lists(tree, folder, self._report, copy.own)
        return self._opened[copy.own, folder]

    # -- keys ------------------------------------------------------------------------------

    @cached_property
    def _held(self) -> list[RootKey]:
        """Every key of the ring of the user who fetches, and the file that it is filled from."""
        how = "in the key ring of root: trusted for every repository"
        ring = list(ring_of(places.RING, self._tree, self._keys, self._report))
        names = tuple(
            _name_of(address) for _, address in lines_of(self._tree, places.MIRRORS, self._report)
        )
        return held_in_ring(ring, self._keys.held(places.KEYS), how, names)


def _name_of(address: str) -> str:
    """What a repository is called: by the last part of its address."""
    address = without_user(address)
    bare = address.partition("://")[2] or address
    return bare.rstrip("/").rpartition("/")[2] or bare.strip("/") or "mirror"
