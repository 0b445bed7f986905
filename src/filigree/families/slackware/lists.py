"""Lists of a `slackware` repository in a folder: a copy below the root, or one that we fetched.

`CHECKSUMS.md5` tells the digests of all others and of every archive, and is what is signed.
"""

from collections.abc import Iterator, Sequence
from functools import cached_property

from filigree.access.trees.protocol import Tree
from filigree.families.protocol import Report
from filigree.families.shared.indexes import digest_found, packed_digest, unpacked_pieces
from filigree.families.shared.looking import names_in, read_or_report
from filigree.families.slackware import places
from filigree.families.slackware.described import label_of
from filigree.formats.digest_list import read_digest_list
from filigree.formats.slackware.file_sizes import read_sizes
from filigree.formats.slackware.long_listing import Block, read_blocks
from filigree.formats.slackware.names import without_ending
from filigree.formats.slackware.records import Described, read_fields, read_list
from filigree.formats.unpacking import UnpackError
from filigree.model.answer import Gap
from filigree.model.errors import AccessError, words_of
from filigree.model.repositories import IndexFile, IndexKind

LIST_LIMIT = 64 << 20


class Lists:
    """The lists in one folder. What cannot be read is reported when it is asked for."""

    def __init__(self, tree: Tree, folder: str, report: Report, own: bool = False) -> None:
        self.tree = tree
        self.folder = folder
        self._report = report
        self._own = own

    def place(self, name: str) -> str:
        return f"{self.folder}/{name}"

    def has(self, name: str) -> bool:
        """Whether a list of that name is there."""
        return self.tree.exists(self.place(name))

    @cached_property
    def promised(self) -> dict[str, str]:
        """The digest of each file of the repository, by its path within it, `./` in front."""
        path = self.place(places.CHECKSUMS)
        try:
            data = self.tree.read_or_none(path, LIST_LIMIT)
        except AccessError as error:
            self._report(Gap(path, error.what))
            return {}
        # What is no digest there is for people.
        return read_digest_list(data).digests if data else {}

    @cached_property
    def sizes(self) -> dict[str, int]:
        """The size of each file of the repository in bytes, by its path within it."""
        path = self.place(places.FILES)
        return read_sizes(read_or_report(self.tree, path, self._report, LIST_LIMIT))

    # -- the list of packages --------------------------------------------------------------

    def digest(self, algorithm: str = "sha256") -> str:
        """The digest of the list of packages. Raises AccessError."""
        return packed_digest(self.tree, self.place(places.PACKAGES), algorithm)

    def believed(self) -> tuple[bool | None, str | None]:
        """Whether the list of packages is what the list of digests says, and what is to be said of that.

        None where nothing tells. A copy may have been put together here out of the lists of the parts:
        then the list of digests must name each archive of it. Raises AccessError, UnpackError.
        """
        told = {
            path: digest
            for path, digest in self.promised.items()
            if path.rpartition("/")[2] == places.PACKAGES
        }
        if not told:
            return None, None
        if self.digest("md5") in told.values():
            return True, None
        unknown = next((one for one in self.archives() if one not in self.promised), None)
        if unknown is not None:
            return False, f"it is not what the list of digests says: that knows no {unknown[:120]}"
        return None, "it was put together here: its words are not signed, the archives' digests are"

    def stanzas(self) -> Iterator[Described | None]:
        """What the list tells of each package; None for what is too long. Raises what reading does."""
        for text in read_list(unpacked_pieces(self.tree, self.place(places.PACKAGES))):
            yield None if text is None else read_fields(text)

    def count(self) -> int:
        """How many packages the list has."""
        texts = read_list(unpacked_pieces(self.tree, self.place(places.PACKAGES)))
        return sum(text is not None for text in texts)

    def archives(self) -> Iterator[str]:
        """The path of each archive of the list, within the repository."""
        for told in self.stanzas():
            if told is not None:
                yield archive_path(told)

    def usable_stanzas(self) -> Iterator[Described]:
        """The same, of a list that may be believed; nothing where it may not, or cannot be read."""
        if not self.has(places.PACKAGES):
            return
        try:
            if self.believed()[0] is not False:
                yield from (told for told in self.stanzas() if told is not None)
        except (AccessError, UnpackError) as error:
            self._report(Gap(self.place(places.PACKAGES), words_of(error)))

    # -- the others ------------------------------------------------------------------------

    @cached_property
    def others(self) -> tuple[IndexFile, ...]:
        """The listings of what archives hold, and the list of changes."""
        found = [self._file(IndexKind.PATHS, name) for name in self._manifests()]
        if self.has(places.CHANGES):
            found.append(self._file(IndexKind.ADVISORIES, places.CHANGES))
            found.append(self._file(IndexKind.CHANGES, places.CHANGES))
        return tuple(found)

    def _manifests(self) -> Iterator[str]:
        for name in (places.MANIFEST, *(f"{part}/{places.MANIFEST}" for part in places.PARTS)):
            if self.has(name):
                yield name
        # Some keep what belongs to a part under its name.
        for name in names_in(self.tree, self.folder, self._report):
            if name.endswith(f"-{places.MANIFEST}"):
                yield name

    def _file(self, kind: IndexKind, name: str) -> IndexFile:
        digest = self.promised.get(f"./{name}") or self.promised.get(name)
        return IndexFile(kind, self.place(name), digest, False, self._own)

    def listings(self, labels: Sequence[str]) -> dict[str, Block]:
        """What the listings tell of the archives that are called so; what cannot be read is reported."""
        wanted = frozenset(labels)
        found: dict[str, Block] = {}
        for file in self.others:
            if file.kind is not IndexKind.PATHS or len(found) == len(wanted):
                continue
            if digest_found(self.tree, file, self._report) is None:
                continue
            try:
                pieces = unpacked_pieces(self.tree, file.path)
                for block in read_blocks(pieces, lambda path: label_in(path) in wanted):
                    found[label_in(block.archive)] = block
                    if len(found) == len(wanted):
                        break
            except (AccessError, UnpackError) as error:
                self._report(Gap(file.path, words_of(error)))
        return found


def archive_path(told: Described) -> str:
    """The path within its repository of the archive that a stanza tells of."""
    location = told.fields.get("PACKAGE LOCATION", ".").strip().rstrip("/")
    location = location.removeprefix("./").removeprefix(".")
    name = told.fields.get("PACKAGE NAME", "")
    return f"./{location}/{name}" if location else f"./{name}"


def label_in(path: str) -> str:
    """The label in the path of an archive."""
    name = path.rpartition("/")[2]
    return without_ending(name) or name


def label_told(told: Described) -> str:
    """The label of a stanza. Raises NotAPackage."""
    return str(label_of(told.fields.get("PACKAGE NAME", "")))
