"""Rows of a record, as whoever looked at the path would have seen it."""

import stat

from filigree.access.trees.directories import decoded
from filigree.access.trees.protocol import Entry
from filigree.access.trees.recorded_form import Recorded
from filigree.formats.file_capabilities import CapabilityError, read_attribute, write_capabilities
from filigree.model.files import KIND_OF_FORM, Observation


def entry_of(path: str, row: Recorded) -> Entry:
    """A row, as a walk tells it."""
    return Entry(
        path, KIND_OF_FORM[stat.S_IFMT(row.mode)], row.size, row.mode & 0o7777, row.uid, row.gid,
        row.modified, None if row.target is None else decoded(row.target), changed=row.changed,
        inode=row.inode, device=row.device, file_system=row.file_system,
    )  # fmt: skip


def observed(row: Recorded, digest: str | None, capabilities: str | None) -> Observation:
    """A row, as whoever looked at the path would have seen it."""
    return Observation(
        kind=KIND_OF_FORM[stat.S_IFMT(row.mode)], size=row.size, mode=row.mode & 0o7777, uid=row.uid,
        gid=row.gid, modified=row.modified,
        link_target=None if row.target is None else decoded(row.target), digest=digest,
        device=row.device, capabilities=capabilities, inode=row.inode, changed=row.changed,
    )  # fmt: skip


def capabilities_of(data: bytes | None) -> str:
    """The text of an attribute of capabilities, or why it is none; empty where there are none."""
    if not data:
        return ""
    try:
        return write_capabilities(read_attribute(data))
    except CapabilityError as error:
        return str(error)
