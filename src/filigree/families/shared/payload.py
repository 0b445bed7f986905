"""From the members of a payload to file records: the same for every family's archives.

A payload is hostile: its paths are told as they are written, and none is followed. What would lead
elsewhere, if whoever unpacks it is not careful, is pointed out.
"""

from collections.abc import Callable, Iterator
from typing import NamedTuple

from filigree.formats.members import Algorithm, Member, PayloadError
from filigree.formats.unpacking import UnpackError
from filigree.model.errors import AccessError
from filigree.model.files import FileRecord, Kind


class Broken(NamedTuple):
    """Where and why a payload could not be read on."""

    why: str


def shown_path(path: str) -> str:
    """A member's path as the package's other records name it: from the root, without an end slash."""
    if path in (".", "./"):
        return "/"
    if path.startswith("./"):
        path = path[1:]
    return path.rstrip("/") or "/"


def from_the_top(member: Member) -> Member:
    """A member whose path starts at the top, of a family that writes it without a start."""
    same = member.same_as
    return member._replace(
        path=_from_top(member.path), same_as=None if same is None else _from_top(same)
    )


def _from_top(path: str) -> str:
    return path if path.startswith(("/", "./")) else f"./{path}"


def records(
    read: Callable[[Algorithm], Iterator[Member]], algorithm: Algorithm
) -> Iterator[FileRecord | Broken]:
    """A record for each member; Broken in the end, where it does not end well.

    A second name of a file has the digest and the size of the first.

    `algorithm` is asked for shown paths.
    """
    links: set[str] = set()
    held: dict[str, tuple[str, int | None]] = {}
    try:
        for member in read(lambda path: algorithm(shown_path(path))):
            record = _record(member, links)
            if member.same_as is not None:
                same = held.get(shown_path(member.same_as))
                if same is not None:
                    record = record._replace(digest=same[0], size=same[1])
            elif record.kind is Kind.FILE and record.digest is not None:
                held[record.path] = record.digest, record.size
            if record.kind is Kind.LINK:
                links.add(record.path)
            yield record
    except (PayloadError, UnpackError) as error:
        yield Broken(str(error))
    except AccessError as error:
        yield Broken(error.what)


def _record(member: Member, links: set[str]) -> FileRecord:
    path = shown_path(member.path)
    is_file = member.kind is Kind.FILE
    same = () if member.same_as is None else (f"the same file as {shown_path(member.same_as)}",)
    return FileRecord(
        path=path,
        location=path,
        kind=member.kind,
        digest=member.digest,
        size=member.size if is_file else None,
        mode=None if member.kind is Kind.LINK else member.mode,
        owner=member.owner,
        group=member.group,
        link_target=member.link_target,
        device=member.device,
        modified=member.modified if is_file else None,
        escape=escape_of(member.path, member.same_as, links),
        remarks=same,
    )


def escape_of(path: str, same_as: str | None, links: set[str]) -> str | None:
    """In what way a member would lead elsewhere, if it were followed; None where it would not.

    `links` are the paths of links that came before it.
    """
    if ".." in path.split("/"):
        return "its path climbs out of its directory"
    if path.startswith("//"):
        return "its path starts twice at the root"
    above = shown_path(path)
    while above := above.rpartition("/")[0]:
        if above in links:
            return f"its path goes through {above}, a link in the same archive"
    if same_as is not None and ".." in same_as.split("/"):
        return "it is to be the same file as one outside of the archive"
    return None
