"""Extended attributes of files, by name in a directory that is held open; no link is followed.

What may be looked at and not be read is reached by the kernel's own list of what this process holds,
where there is one: no call takes a name in a directory that is held (xattr(7), proc(5)).
"""

import errno
import os
from collections.abc import Callable

from filigree.formats.file_capabilities import (
    ATTRIBUTE,
    CapabilityError,
    read_attribute,
    write_capabilities,
)

TELLING = (
    ATTRIBUTE, "security.ima", "security.selinux", "system.posix_acl_access",
    "system.posix_acl_default",
)  # fmt: skip
"""The attributes that decide what a file may do, and who may do what with it."""
_NONE = (errno.ENODATA, errno.ENOTSUP)


def capabilities_at(above: int, name: bytes, opened: Callable[[], int]) -> str:
    """The text of a file's capabilities, empty where it has none; `opened` opens it. Raises OSError."""
    try:
        data = _attribute(above, name, opened)
    except OSError as error:
        if error.errno in _NONE:
            return ""
        raise
    try:
        return write_capabilities(read_attribute(data))
    except CapabilityError as error:
        return str(error)


def _attribute(above: int, name: bytes, opened: Callable[[], int]) -> bytes:
    try:
        handle = opened()
    except PermissionError:
        try:
            return os.getxattr(_place(above, name), ATTRIBUTE, follow_symlinks=False)
        except FileNotFoundError:
            raise PermissionError(errno.EACCES, os.strerror(errno.EACCES)) from None
    try:
        return os.getxattr(handle, ATTRIBUTE)
    finally:
        os.close(handle)


def attributes_at(above: int, name: bytes) -> dict[str, bytes]:
    """The attributes of TELLING that a path has. Raises OSError."""
    place = _place(above, name)
    try:
        named = os.listxattr(place, follow_symlinks=False)
    except OSError as error:
        if error.errno in _NONE:
            return {}
        raise
    return {one: os.getxattr(place, one, follow_symlinks=False) for one in TELLING if one in named}


def _place(above: int, name: bytes) -> bytes:
    return b"/proc/self/fd/%d/%s" % (above, name)
