"""Looks below a root that report what they cannot see, and go on."""

from filigree.access.trees.protocol import READ_LIMIT, Tree
from filigree.families.protocol import Report
from filigree.formats.accounts import Accounts, read_accounts
from filigree.formats.os_release import read_os_release
from filigree.model.answer import Gap
from filigree.model.errors import AccessError

USERS = "/etc/passwd"
GROUPS = "/etc/group"


def read_or_report(tree: Tree, path: str, report: Report, limit: int = READ_LIMIT) -> bytes:
    """A whole file; nothing where it is absent, or cannot be read, which is reported."""
    try:
        return tree.read_or_none(path, limit) or b""
    except AccessError as error:
        report(Gap(path, error.what))
        return b""


def names_in(tree: Tree, path: str, report: Report) -> list[str]:
    """The names in a directory; none where it is absent, or cannot be read, which is reported."""
    try:
        return tree.names(path)
    except AccessError as error:
        if not error.absent:
            report(Gap(path, error.what))
        return []


def os_release(tree: Tree, report: Report) -> dict[str, str]:
    """What the system says of itself, out of the first of its two files that holds anything."""
    for path in ("/etc/os-release", "/usr/lib/os-release"):
        data = read_or_report(tree, path, report, 1 << 20)
        if data:
            return read_os_release(data)
    return {}


def accounts_at(tree: Tree, path: str, what: str, report: Report) -> Accounts:
    """A root's list of users or groups; an empty one, and a gap, where it has none that can be read."""
    why = f"there is no list of {what} that can be read: by name nobody can be told"
    try:
        found = read_accounts(tree.read_or_none(path, 64 << 20) or b"")
    except AccessError as error:
        found, why = read_accounts(b""), error.what
    if not found.numbers:
        report(Gap(path, why))
    return found
