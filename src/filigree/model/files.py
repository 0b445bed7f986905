"""Files: what a record says of one, what is found on the disk, and how the two differ."""

import stat
from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple


class Kind(StrEnum):
    """What a path is."""

    FILE = "file"
    DIRECTORY = "directory"
    LINK = "link"
    PIPE = "pipe"
    SOCKET = "socket"
    BLOCK_DEVICE = "block-device"
    CHARACTER_DEVICE = "character-device"


KIND_OF_FORM = {
    stat.S_IFREG: Kind.FILE,
    stat.S_IFDIR: Kind.DIRECTORY,
    stat.S_IFLNK: Kind.LINK,
    stat.S_IFIFO: Kind.PIPE,
    stat.S_IFSOCK: Kind.SOCKET,
    stat.S_IFBLK: Kind.BLOCK_DEVICE,
    stat.S_IFCHR: Kind.CHARACTER_DEVICE,
}
"""The kind of a path by the form that its mode holds, as stat(2) and payloads have it."""
FORM_OF_KIND = {kind: form for form, kind in KIND_OF_FORM.items()}


class Role(StrEnum):
    """What a file is for."""

    PROGRAM = "program"
    LIBRARY = "library"
    CONFIG = "config"
    DOC = "doc"
    MANUAL = "manual"
    LICENSE = "license"
    LOCALE = "locale"
    HEADER = "header"
    DATA = "data"
    DIRECTORY = "directory"
    LINK = "link"


class Aspect(StrEnum):
    """One way in which a file can differ from its record; the last is of the record itself."""

    PRESENCE = "presence"
    CONTENT = "content"
    SIZE = "size"
    KIND = "kind"
    MODE = "mode"
    OWNER = "owner"
    GROUP = "group"
    LINK_TARGET = "link-target"
    DEVICE = "device"
    MODIFIED = "modified"
    CAPABILITIES = "capabilities"
    RECORD = "record"


class Verdict(StrEnum):
    """What is to be said of a file, worst first.

    `doctored`: the local record of it was changed, by what a better witness says.
    """

    DOCTORED = "doctored"
    ALTERED = "altered"
    MISSING = "missing"
    UNREADABLE = "unreadable"
    EDITED = "edited"
    UNRECORDED = "unrecorded"
    EXCUSED = "excused"
    INTACT = "intact"

    @property
    def alarming(self) -> bool:
        """Whether it is bad news: the file is not what was shipped."""
        return self in (Verdict.DOCTORED, Verdict.ALTERED, Verdict.MISSING)

    @property
    def quiet(self) -> bool:
        """Whether it is counted, but listed only when asked for."""
        return self in (Verdict.UNRECORDED, Verdict.EXCUSED, Verdict.INTACT)


class Evidence(StrEnum):
    """What a verdict rests on."""

    RECORD = "record"
    ARCHIVE = "archive"
    SIGNED = "signed"


class Sort(StrEnum):
    """The sorts of local policy: what an administrator may declare of files, and an intruder too."""

    DIVERSION = "diversion"
    OVERRIDE = "override"
    EXCLUSION = "exclusion"
    CONFIGURATION = "configuration"
    STATE = "state"
    REPLACEMENT = "replacement"
    LINK = "link"


class LocalPolicy(NamedTuple):
    """What the system itself declares of a path: its sort, the file that says so, and what, for people.

    A directory that is reached through a link says so itself: then `file` is its own path.
    """

    sort: Sort
    file: str
    words: str


class FileRecord(NamedTuple):
    """What is on record of one path. None where the record is silent.

    `path` is the path as the record names it, `location` where on this root the file must be
    looked for. `digest` is `algorithm:hex`. `config` files may be edited. `device` is the number of
    a device, `modified` seconds since 1970 (told to `grain` seconds), `capabilities` the text of the
    file's capabilities, empty where it is to have none. `ignored` are aspects that its packager
    does not want to be judged by.

    `excuse` is why the file may be absent, `moot` why nothing of this package is to be at that place,
    `escape` in what way a path of an archive would lead elsewhere if it were followed. `remarks` are for
    people. `also` are further digests that the record tells of the same file in another place: each must
    hold.

    `policies` are what of this the system's own policy declares; `plain` is the record without them: what
    was shipped, where that is known, None where the policy alone speaks of the path.

    `digest_of_target` is whether, where a link is there, the digest is that of its target's text: of what
    the record does not say whether it is a file or a link.
    """

    path: str
    location: str
    kind: Kind | None = None
    digest: str | None = None
    size: int | None = None
    mode: int | None = None
    owner: str | None = None
    group: str | None = None
    link_target: str | None = None
    config: bool = False
    mark: Role | None = None
    excuse: str | None = None
    device: int | None = None
    modified: int | None = None
    capabilities: str | None = None
    ignored: frozenset[Aspect] = frozenset()
    moot: str | None = None
    escape: str | None = None
    remarks: tuple[str, ...] = ()
    time_resolution: int = 1
    also: tuple[str, ...] = ()
    policies: tuple[LocalPolicy, ...] = ()
    plain: "FileRecord | None" = None
    digest_of_target: bool = False

    @property
    def digest_is_all(self) -> bool:
        """Whether a regular file with the right digest is all that the record asks for."""
        return (
            self.size is None
            and self.mode is None
            and self.owner is None
            and self.group is None
            and self.digest is not None
            and not self.also
        )


class Observation(NamedTuple):
    """What is on the disk. `mode` is the permission bits alone, `modified` nanoseconds.

    `capabilities` are as in a record, None where they were not asked for. `changed` is when anything of
    it was last changed, in nanoseconds.
    """

    kind: Kind
    size: int
    mode: int
    uid: int
    gid: int
    modified: int
    link_target: str | None = None
    digest: str | None = None
    device: int = 0
    capabilities: str | None = None
    inode: int = 0
    changed: int = 0


@dataclass(frozen=True, slots=True)
class Difference:
    """One aspect in which a file is not as recorded. None where there is nothing to show."""

    aspect: Aspect
    expected: str | None
    found: str | None


class Seen(NamedTuple):
    """A file as it was when its content was read: a later run may rest on that while nothing changes.

    Times are nanoseconds since 1970.
    """

    size: int
    modified: int
    changed: int
    inode: int
    digest: str


class Relocation(NamedTuple):
    """A declared diversion: every package but `keeper` has its `original` at `moved_to` instead.

    `keeper` is None where the local administrator made it: then no package keeps the original.
    """

    original: str
    moved_to: str
    keeper: str | None


class ManagedLink(NamedTuple):
    """A link that the system made at run time, in no package's list. `group` names what it serves."""

    path: str
    group: str
