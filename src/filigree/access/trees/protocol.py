"""A tree: everything that is read below a root goes through one, whatever the root is.

What every kind of tree promises:

- A path is text from the root, with slashes; bytes that are not UTF-8 are lone surrogates in it,
  whatever the locale says. `..` stops at the root.
- Symbolic links resolve inside the root, absolute ones from the root, as the system itself would if it
  ran from there. No path leads out, whatever happens to the tree meanwhile. More than 40 links are a
  loop.
- Only regular files are opened, after a look at what they are; pipes and devices are told, and never
  opened.
- Nothing is written; where that can be helped, not even access times change.
- What cannot be told is an AccessError that says why: what is not there is `absent`, and nothing else
  is. What a tree does not hold, because it was not recorded, is never absent.
- A file that was not the same before and after it was read is told as changed.
"""

import sys
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple, Protocol

from filigree.access.trees.trial import Group
from filigree.model.answer import Gap
from filigree.model.files import Kind, Observation
from filigree.model.images import ImageFacts, LayerFacts
from filigree.model.snapshots import SnapshotFacts

READ_LIMIT = 1 << 27
"""So many bytes of a file are read as a whole, unless more are asked for."""
Form = tuple[int, int, int, int, int]
"""What a look at a regular file tells: mode with its kind, user, group, size, seconds of change."""


class Entry(NamedTuple):
    """One path of a walk. Times are nanoseconds; `empty` is whether a directory holds nothing, `device`
    which device it is, `file_system` the number of that which it is on."""

    path: str
    kind: Kind
    size: int
    mode: int
    uid: int
    gid: int
    modified: int
    link_target: str | None = None
    empty: bool = False
    changed: int = 0
    inode: int = 0
    device: int = 0
    file_system: int = 0


class Portrait(NamedTuple):
    """All that one look at a path tells. `mode` is with the kind, times are nanoseconds, `digests` are
    `algorithm:hex` of a regular file, of one reading; `attributes` those that decide what a file may do.
    """

    mode: int
    uid: int
    gid: int
    size: int
    modified: int
    changed: int
    inode: int
    device: int
    file_system: int
    link_target: str | None
    attributes: Mapping[str, bytes]
    digests: tuple[str, ...]


class Borrowed(Protocol):
    """A regular file, held open, read at any place. It cannot be swapped while it is held."""

    @property
    def path(self) -> str:
        """Where it lies, for people."""
        ...

    @property
    def size(self) -> int:
        """Its bytes, when it was opened."""
        ...

    def at(self, offset: int, count: int) -> bytes:
        """`count` bytes from `offset`; fewer at the end. Raises AccessError."""
        ...

    def close(self) -> None:
        """Let go of it."""
        ...


class PathChange(NamedTuple):
    """What one layer made of a path: how it was below, and how it is then; None where it was or is not.

    `path` is real, links in it resolved. Files have their SHA-256 digest and their capabilities. `over`
    is the layer that had it below, `hides` whether the content below cannot be seen by any other path.
    """

    path: str
    before: Observation | None
    after: Observation | None
    over: int | None
    hides: bool


class LayerStep(NamedTuple):
    """One layer, what it changed, and the tree as it is with it on top: both hold until the next step."""

    facts: LayerFacts
    changes: Iterator[PathChange]
    tree: "Tree"


class Layered(Protocol):
    """What a tree tells that is made of layers."""

    @property
    def facts(self) -> ImageFacts:
        """What the image says of itself."""
        ...

    @property
    def layers(self) -> Sequence[LayerFacts]:
        """Every layer, the lowest first, as the image tells of it: nothing is laid over anything."""
        ...

    def steps(self) -> Iterator[LayerStep]:
        """Every layer, the lowest first."""
        ...

    def layers_of(self, path: str) -> Sequence[int]:
        """The layers that speak of a path, the lowest first: the last of them decides. One that hides it
        speaks of it, too. The last part is not followed."""
        ...

    def layer_of_file(self, path: str) -> int | None:
        """The layer that has what is at a path as it is; None where nothing is there, and of directories,
        which layers share."""
        ...


class WithoutLayers:
    """The part of a tree that is looked at now, not made of layers, and of which nobody says what it
    is."""

    troubles: Sequence[tuple[str, str]] = ()
    layered: Layered | None = None
    taken: SnapshotFacts | None = None

    def useful_workers(self, groups: Sequence[Group], processors: int) -> int:
        """As many as there are processors: what is packed is read as it comes."""
        _ = groups
        return processors


class Tree(Protocol):
    """What is below one root, to be read."""

    @property
    def root(self) -> str:
        """What was opened, for people."""
        ...

    @property
    def troubles(self) -> Sequence[tuple[str, str]]:
        """What is not as it is said to be, and why: nothing of it may be called clean."""
        ...

    @property
    def layered(self) -> Layered | None:
        """What only a tree of layers can tell; None where it is none."""
        ...

    @property
    def taken(self) -> SnapshotFacts | None:
        """When and by whom it was recorded; None where it is looked at now."""
        ...

    def close(self) -> None:
        """Let go of what is held open. The tree cannot be used afterwards."""
        ...

    def real_path(self, path: str, follow: bool = True) -> str:
        """The path without links (but for the last part, unless `follow`); `/` for the root.

        Raises AccessError where a part is missing, unless it is the last one.
        """
        ...

    def observe(
        self,
        path: str,
        algorithm: str | None = None,
        limit: int = sys.maxsize,
        capabilities: bool = False,
        of_size: int | None = None,
    ) -> Observation:
        """What is at a path; a link is not followed. With `algorithm`, a file's digest as well.

        With `of_size` only if it has that size: another size tells by itself that it is another file.

        Raises AccessError; CHANGED where the file was not the same before and after reading, also
        at a second look; TOO_LARGE where a digest is asked of a file of more than `limit` bytes.
        """
        ...

    def portray(
        self, path: str, algorithms: Sequence[str] = (), limit: int = sys.maxsize
    ) -> Portrait:
        """All that can be told of a path, to be recorded; a link is not followed. A file's digests by all
        the algorithms are of one reading. Raises AccessError as `observe` does."""
        ...

    def holds(
        self, path: str, digest: str, limit: int, form: Form | None = None, powerless: bool = True
    ) -> int:
        """How many bytes a regular file with that digest has; -1 where anything is not just so.

        So it is where the file has more than `limit` bytes: it is not read then. With a `form`, the
        file must have that form as well, and, where it is to be `powerless`, no capabilities.

        Made to be asked of every file of a system: what it does not confirm, for whatever reason,
        is to be looked at again with `observe`.
        """
        ...

    def read(self, path: str, limit: int = READ_LIMIT) -> bytes:
        """A whole regular file, links followed. Raises AccessError, TOO_LARGE above `limit`."""
        ...

    def read_or_none(self, path: str, limit: int = READ_LIMIT) -> bytes | None:
        """As `read`, but None where there is no such file."""
        ...

    def pieces(self, path: str, size: int = 1 << 20) -> Iterator[bytes]:
        """A regular file in pieces of at most `size` bytes, links followed. Raises AccessError."""
        ...

    def lend(self, path: str) -> Borrowed:
        """A regular file to be read in place, links followed; whoever borrows it closes it."""
        ...

    def names(self, path: str) -> list[str]:
        """The names in a directory, sorted, links followed. Raises AccessError."""
        ...

    def exists(self, path: str) -> bool:
        """Whether anything is at the path, a dangling link included. Unreadable counts as yes."""
        ...

    def is_directory(self, path: str) -> bool:
        """Whether the path is a directory, links followed."""
        ...

    def walk(self, top: str, others: bool = False, made_up: bool = False) -> Iterator[Entry | Gap]:
        """Everything below a directory, itself not told, a directory before its contents; links not
        followed.

        A Gap where something cannot be entered. It stays on the file system of `top`, unless `others`
        too. What the kernel makes up is passed over; with `made_up` it is told, with a Gap.
        """
        ...

    def useful_workers(self, groups: Sequence[Group], processors: int) -> int:
        """How many workers are of use for reading files: `groups` tell the paths of each job."""
        ...

    def room(self, path: str) -> tuple[int, int, int]:
        """The file system that a directory is on, links followed: its number, bytes free and in all.

        Raises AccessError, too where a tree has no room of its own.
        """
        ...
