"""The form of a snapshot: one SQLite file, its tables and nothing else (docs/snapshot.md tells each).

Paths are bytes, as the file system had them. `entries.parent` is the number of a directory; the root's
own row has the parent 0 and no name. What was not looked at stands in `unlisted` and `unread`; what has
no row, in a directory that was listed, was absent.
"""

from typing import NamedTuple

VERSION = 1
PIECE = 4 << 20
"""So many bytes of a content stand in one row."""

TABLES: dict[str, str] = {
    "about": "CREATE TABLE about (name TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID",
    "file_systems": (
        "CREATE TABLE file_systems (id INTEGER PRIMARY KEY, number INTEGER NOT NULL, kind TEXT)"
    ),
    "directories": (
        "CREATE TABLE directories (path BLOB PRIMARY KEY, id INTEGER NOT NULL) WITHOUT ROWID"
    ),
    "entries": (
        "CREATE TABLE entries (parent INTEGER NOT NULL, name BLOB NOT NULL, mode INTEGER NOT NULL, "
        "uid INTEGER NOT NULL, gid INTEGER NOT NULL, size INTEGER NOT NULL, "
        "modified INTEGER NOT NULL, changed INTEGER NOT NULL, inode INTEGER NOT NULL, "
        "device INTEGER NOT NULL, file_system INTEGER NOT NULL, target BLOB, capabilities BLOB, "
        "attributes TEXT, md5 BLOB, sha1 BLOB, sha256 BLOB, other TEXT, "
        "PRIMARY KEY (parent, name)) WITHOUT ROWID"
    ),
    "contents": (
        "CREATE TABLE contents (sha256 BLOB NOT NULL, part INTEGER NOT NULL, "
        "packed BLOB NOT NULL, PRIMARY KEY (sha256, part)) WITHOUT ROWID"
    ),
    "unlisted": "CREATE TABLE unlisted (path BLOB PRIMARY KEY, why TEXT NOT NULL) WITHOUT ROWID",
    "unread": (
        "CREATE TABLE unread (path BLOB PRIMARY KEY, obstacle TEXT NOT NULL, why TEXT) WITHOUT ROWID"
    ),
    "changed": "CREATE TABLE changed (path BLOB PRIMARY KEY) WITHOUT ROWID",
    "gaps": (
        "CREATE TABLE gaps (what TEXT NOT NULL, why TEXT NOT NULL, PRIMARY KEY (what, why)) "
        "WITHOUT ROWID"
    ),
    "signatures": (
        "CREATE TABLE signatures (statement TEXT NOT NULL, signature TEXT NOT NULL, "
        "PRIMARY KEY (statement, signature)) WITHOUT ROWID"
    ),
}
"""Each table, as it is made: a file whose tables are made otherwise is no snapshot of this form."""
UNSIGNED = "signatures"
"""The table that a signature cannot be over."""
COLUMNS = (
    "mode", "uid", "gid", "size", "modified", "changed", "inode", "device", "file_system", "target",
    "capabilities", "attributes", "md5", "sha1", "sha256", "other",
)  # fmt: skip


class EntryRow(NamedTuple):
    """One row of `entries`, without parent and name."""

    mode: int
    uid: int
    gid: int
    size: int
    modified: int
    changed: int
    inode: int
    device: int
    file_system: int
    target: bytes | None
    capabilities: bytes | None
    attributes: str | None
    md5: bytes | None
    sha1: bytes | None
    sha256: bytes | None
    other: str | None


ORDERS: dict[str, str] = {
    "about": "name", "file_systems": "id", "directories": "path", "entries": "parent, name",
    "contents": "sha256, part", "unlisted": "path", "unread": "path", "changed": "path",
    "gaps": "what, why", "signatures": "statement, signature",
}  # fmt: skip
"""The order in which the rows of each table are told: of its key."""
